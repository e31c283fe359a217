//! Reading a pool file: all mistakes in one go.

use super::share::read_share;
use std::collections::BTreeMap;
use std::ops::Range;

use toml_edit::{Document, Item, Table};

use jiff::civil::Date;

use super::agenda::{read_agenda, read_notices};
use super::elsewhere::{ElsewhereSpec, read_elsewhere};
use super::fields::Fields;
use super::quantities::{Price, Temperature, parse_date};
use super::risk::{read_group, read_risk};
use super::volume::{read_volume, refuse_shared_members};
use super::{CaseSpec, DiskSpec, GroupSpec, LinkSpec, Media, Mistake, PoolSpec, Thresholds, VolumeSpec};
use crate::suggest::nearest;
use crate::units::{ByteLength, Rate};

/// What a pool file says, as far as it can be read, and every mistake in it in the order of the file.
#[derive(Debug, Clone)]
pub struct Parsed {
    /// What could be read; only without mistakes may it be acted upon.
    pub spec: Option<PoolSpec>,
    /// What is wrong.
    pub mistakes: Vec<Mistake>,
}

/// Reads the text of a pool file.
pub fn parse(text: &str) -> Parsed {
    let document = match Document::parse(text) {
        Ok(document) => document,
        Err(error) => {
            let mistake = Mistake::new(error.span().unwrap_or(0..0), error.message().trim().to_string());
            return Parsed { spec: None, mistakes: vec![mistake] };
        }
    };
    let mut mistakes = Vec::new();
    let spec = read_pool(document.as_table(), text.len(), &mut mistakes);
    mistakes.sort_by_key(|m| (m.span.start, m.span.end));
    Parsed { spec, mistakes }
}

fn read_pool(root: &Table, end: usize, mistakes: &mut Vec<Mistake>) -> Option<PoolSpec> {
    const SECTIONS: [&str; 10] =
        ["pool", "case", "link", "disk", "volume", "group", "risk", "elsewhere", "agenda", "notices"];
    for (key, _) in root.iter().filter(|(key, _)| !SECTIONS.contains(key)) {
        let span = root.key(key).and_then(|k| k.span()).unwrap_or(0..0);
        let mut advice =
            "a pool file has [pool], [[case]], [[link]], [[disk]], [[volume]], [[group]], [risk], [[elsewhere]], [agenda] and [notices]"
                .to_string();
        if let Some(near) = nearest(key, SECTIONS) {
            advice = format!("did you mean `{near}`? {advice}");
        }
        mistakes.push(Mistake::new(span, format!("unknown key `{key}`")).advise(advice));
    }
    let header = read_header(root, end, mistakes);
    let cases: Vec<CaseSpec> =
        tables(root, "case", mistakes).into_iter().filter_map(|t| read_case(t, mistakes)).collect();
    let links: Vec<LinkSpec> =
        tables(root, "link", mistakes).into_iter().filter_map(|t| read_link(t, mistakes)).collect();
    let around = Surroundings { cases: &cases, links: &links };
    let disks: Vec<DiskSpec> =
        tables(root, "disk", mistakes).into_iter().filter_map(|t| read_disk(t, &around, mistakes)).collect();
    let volumes: Vec<VolumeSpec> = tables(root, "volume", mistakes)
        .into_iter()
        .filter_map(|t| read_volume(t, &disks, mistakes))
        .collect();
    let groups: Vec<GroupSpec> =
        tables(root, "group", mistakes).into_iter().filter_map(|t| read_group(t, &disks, mistakes)).collect();
    let risk = read_risk(root, mistakes);
    let elsewhere: Vec<ElsewhereSpec> =
        tables(root, "elsewhere", mistakes).into_iter().filter_map(|t| read_elsewhere(t, mistakes)).collect();
    let agenda = read_agenda(root, &disks, &volumes, mistakes);
    let notices = read_notices(root, mistakes);
    refuse_twins(disks.iter().map(|d| (&d.name, &d.name_span)), "a disk", mistakes);
    refuse_twins(volumes.iter().map(|v| (&v.name, &v.name_span)), "a volume", mistakes);
    let paths = disks.iter().filter_map(|d| d.path.as_ref().map(|p| (p, &d.path_span)));
    refuse_twins(paths, "a disk with path", mistakes);
    refuse_twins(cases.iter().map(|c| (&c.name, &c.name_span)), "a case", mistakes);
    refuse_twins(links.iter().map(|l| (&l.name, &l.name_span)), "a link", mistakes);
    refuse_twins(groups.iter().map(|g| (&g.name, &g.name_span)), "a group", mistakes);
    refuse_twins(elsewhere.iter().map(|e| (&e.name, &e.name_span)), "another machine", mistakes);
    let bays = disks.iter().filter_map(|d| d.bay.as_ref().map(|b| (b, &d.bay_span)));
    refuse_twins(bays, "a disk in bay", mistakes);
    refuse_shared_members(&volumes, mistakes);
    let (name, thresholds) = header?;
    Some(PoolSpec {
        name,
        thresholds,
        cases,
        links,
        groups,
        risk,
        elsewhere,
        disks,
        volumes,
        agenda,
        notices,
    })
}

/// What a disk may refer to.
struct Surroundings<'a> {
    cases: &'a [CaseSpec],
    links: &'a [LinkSpec],
}

fn read_case(table: &Table, mistakes: &mut Vec<Mistake>) -> Option<CaseSpec> {
    let mut fields = Fields::new(table, "[[case]]", table.span().unwrap_or(0..0), mistakes);
    let name = fields.required_text("name");
    let drawn = fields.rows("bays");
    if drawn.iter().all(Vec::is_empty) {
        let span = fields.span.clone();
        fields.mistake(
            span,
            "a case needs its bays, row by row from the top: bays = [[\"A1\", \"A2\"], [\"B1\", \"-\"]]",
        );
    }
    let named: Vec<_> = drawn.iter().flatten().filter(|(bay, _)| bay != "-").collect();
    refuse_twins(named.iter().map(|(bay, span)| (bay, span)), "a bay", fields.mistakes);
    fields.finish();
    let (name, name_span) = name?;
    let bay = |(name, _): (String, Range<usize>)| (name != "-").then_some(name);
    let rows = drawn.into_iter().map(|row| row.into_iter().map(bay).collect()).collect();
    Some(CaseSpec { name, rows, name_span })
}

fn read_link(table: &Table, mistakes: &mut Vec<Mistake>) -> Option<LinkSpec> {
    let mut fields = Fields::new(table, "[[link]]", table.span().unwrap_or(0..0), mistakes);
    let name = fields.required_text("name");
    let has_rate = fields.required_text("rate").is_some();
    let rate = fields.read("rate", |text| Rate::parse(text).map_err(|e| e.to_string()));
    fields.finish();
    let (name, name_span) = name?;
    // A link without a usable rate is known by name, so that its disks are not told that it does not exist.
    Some(LinkSpec { name, rate: rate.filter(|_| has_rate).unwrap_or_default(), name_span })
}

fn read_header(root: &Table, end: usize, mistakes: &mut Vec<Mistake>) -> Option<(String, Thresholds)> {
    let Some(table) = root.get("pool").and_then(Item::as_table) else {
        let span = root.get("pool").and_then(Item::span).unwrap_or(end..end);
        mistakes
            .push(Mistake::new(span, "there is no [pool] section").advise("write [pool] and name = \"…\""));
        return None;
    };
    let mut fields = Fields::new(table, "[pool]", table.span().unwrap_or(0..0), mistakes);
    let name = fields.required_text("name");
    let too_hot = fields.read("too_hot", |text| {
        Temperature::parse(text)
            .ok_or_else(|| format!("`{text}` is no temperature: write \"50 °C\" or \"122 °F\""))
    });
    let too_full = fields.read("too_full", read_share);
    fields.finish();
    let usual = Thresholds::default();
    let thresholds = Thresholds {
        too_hot: too_hot.unwrap_or(usual.too_hot),
        too_full: too_full.unwrap_or(usual.too_full),
    };
    name.map(|(name, _)| (name, thresholds))
}

fn read_date(text: &str) -> Result<Date, String> {
    parse_date(text).ok_or_else(|| format!("`{text}` is no date: write \"2031-05-04\""))
}

fn tables<'a>(root: &'a Table, key: &str, mistakes: &mut Vec<Mistake>) -> Vec<&'a Table> {
    match root.get(key) {
        None => Vec::new(),
        Some(Item::ArrayOfTables(array)) => array.iter().collect(),
        Some(other) => {
            let span = other.span().unwrap_or(0..0);
            mistakes.push(Mistake::new(
                span,
                format!("write [[{key}]], in double brackets, once for each {key}"),
            ));
            Vec::new()
        }
    }
}

fn refuse_twins<'a>(
    names: impl Iterator<Item = (&'a String, &'a Range<usize>)>,
    what: &str,
    mistakes: &mut Vec<Mistake>,
) {
    let mut seen: BTreeMap<&str, ()> = BTreeMap::new();
    for (name, span) in names {
        if seen.insert(name, ()).is_some() {
            mistakes.push(Mistake::new(span.clone(), format!("there is {what} `{name}` already")));
        }
    }
}

fn read_disk(table: &Table, around: &Surroundings<'_>, mistakes: &mut Vec<Mistake>) -> Option<DiskSpec> {
    let mut fields = Fields::new(table, "[[disk]]", table.span().unwrap_or(0..0), mistakes);
    let name = fields.required_text("name");
    let path = fields.text("path");
    let capacity = fields.read("capacity", |text| ByteLength::parse(text).map_err(|e| e.to_string()));
    let media = fields.read("media", |text| match text {
        "hdd" => Ok(Media::Hdd),
        "ssd" => Ok(Media::Ssd),
        "nvme" => Ok(Media::Nvme),
        other => Err(format!("unknown media `{other}`: write hdd, ssd or nvme")),
    });
    let bay = fields.text("bay");
    let link = fields.text("link");
    let mut spec = DiskSpec {
        serial: fields.text("serial").map(|(text, _)| text),
        model: fields.text("model").map(|(text, _)| text),
        rpm: fields.count("rpm"),
        made: fields.read("made", read_date),
        bought: fields.read("bought", read_date),
        warranty: fields.read("warranty", read_date),
        price: fields.read("price", |text| {
            Price::parse(text).ok_or_else(|| format!("`{text}` is no price: write \"249 EUR\""))
        }),
        batch: fields.text("batch").map(|(text, _)| text),
        speed: read_speed(&mut fields),
        yearly_failure: fields.read("yearly_failure", read_share),
        simulated: fields.flag("simulated"),
        shares_filesystem: fields.flag("shares_filesystem"),
        capacity,
        media,
        ..DiskSpec::default()
    };
    check_surroundings(around, bay.as_ref(), link.as_ref(), &mut fields);
    if let Some((name, span)) = &name
        && !is_plain_name(name)
    {
        fields.mistake(
            span.clone(),
            "a name consists of letters, digits, `-`, `_` and `.`, and begins with a letter or digit",
        );
    }
    if let Some((text, span)) = &path
        && !text.starts_with('/')
    {
        fields.mistakes.push(
            Mistake::new(span.clone(), format!("`{text}` is a relative path"))
                .advise("write the whole path of the mount point, beginning with `/`"),
        );
    }
    fields.finish();
    (spec.name, spec.name_span) = name?;
    spec.path_span = path.as_ref().map_or(spec.name_span.clone(), |(_, span)| span.clone());
    spec.path = path.map(|(text, _)| text);
    spec.bay_span = bay.as_ref().map_or(spec.name_span.clone(), |(_, span)| span.clone());
    spec.bay = bay.map(|(text, _)| text);
    spec.link = link.map(|(text, _)| text);
    Some(spec)
}

/// One rate, or several from the start of the disk to its end.
fn read_speed(fields: &mut Fields<'_>) -> Vec<Rate> {
    let texts = fields.texts("speed");
    let mut rates = Vec::new();
    for (text, span) in texts {
        match Rate::parse(&text) {
            Ok(rate) => rates.push(rate),
            Err(error) => fields.mistake(span, error.to_string()),
        }
    }
    rates
}

/// The bay of a disk is one of the drawn cases, if there are any; its link is one of the file.
fn check_surroundings(
    around: &Surroundings<'_>,
    bay: Option<&(String, Range<usize>)>,
    link: Option<&(String, Range<usize>)>,
    fields: &mut Fields<'_>,
) {
    let mut bays = around.cases.iter().flat_map(|case| case.rows.iter().flatten().flatten());
    if let Some((name, span)) = bay
        && !around.cases.is_empty()
        && !bays.any(|known| known == name)
    {
        fields.mistake(span.clone(), format!("no case has a bay `{name}`"));
    }
    if let Some((name, span)) = link
        && !around.links.iter().any(|known| known.name == *name)
    {
        let advice = format!("add a [[link]] with name = \"{name}\" and its rate, or correct the name");
        fields.mistakes.push(Mistake::new(span.clone(), format!("there is no link `{name}`")).advise(advice));
    }
}

/// Whether something can be the name of a disk.
pub fn is_plain_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_alphanumeric())
        && name.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c))
}

#[cfg(test)]
mod tests {
    use super::super::Share;
    use super::*;
    use rstest::rstest;

    const GOOD: &str = r#"
[pool]
name = "fernhollow"

[[disk]]
name = "alder"
path = "/mnt/alder"
capacity = "12 TB"
media = "hdd"

[[disk]]
name = "oak"

[[volume]]
name = "recordings"
kind = "unstriped"
data = ["alder"]
parity = ["oak"]
leave_out = ["*.tmp"]
stop_when_gone = "20 %"

[[case]]
name = "tower"
bays = [["A1", "A2"], ["B1", "-"]]

[[link]]
name = "card-a"
rate = "1.2 GB/s"
"#;

    #[test]
    fn a_good_file_is_read() {
        let parsed = parse(GOOD);
        assert_eq!(parsed.mistakes, []);
        let spec = parsed.spec.unwrap();
        assert_eq!(spec.disk("alder").unwrap().capacity, Some(ByteLength::new(12_000_000_000_000)));
        assert_eq!(spec.disk("oak").unwrap().path, None);
        assert_eq!(spec.volumes[0].members().collect::<Vec<_>>(), ["alder", "oak"]);
        assert_eq!(spec.volume_of("oak").unwrap().stop_when_gone, Share::percent(20));
    }

    #[rstest]
    #[case("media = \"hdd\"", "media = \"tape\"", "unknown media `tape`", 9)]
    #[case("media = \"hdd\"", "colour = \"red\"", "unknown key `colour` in [[disk]]", 9)]
    #[case("12 TB", "12 TX", "unknown unit `TX`", 8)]
    #[case("/mnt/alder", "mnt/alder", "is a relative path", 7)]
    #[case("name = \"oak\"", "name = \"alder\"", "there is a disk `alder` already", 12)]
    #[case("name = \"oak\"", "nome = \"oak\"", "needs a `name`", 11)]
    #[case("parity = [\"oak\"]", "parity = [\"elm\"]", "there is no disk `elm`", 18)]
    #[case("parity = [\"oak\"]", "parity = [\"alder\"]", "is used already", 18)]
    #[case("parity = [\"oak\"]", "parity = \"oak\"", "must be a list", 18)]
    #[case("parity = [\"oak\"]", "limit = \"much\"", "no size and no share", 18)]
    #[case("parity = [\"oak\"]", "limit = \"0 %\"", "no size and no share", 18)]
    #[case("kind = \"unstriped\"", "kind = \"heap\"", "unknown kind `heap`", 16)]
    #[case("[pool]", "[pond]", "unknown key `pond`", 2)]
    #[case("capacity = \"12 TB\"", "capcity = \"12 TB\"", "unknown key `capcity`", 8)]
    #[case("media = \"hdd\"", "bay = \"C9\"", "no case has a bay `C9`", 9)]
    #[case("media = \"hdd\"", "link = \"card-b\"", "there is no link `card-b`", 9)]
    #[case("media = \"hdd\"", "rpm = 0", "whole number", 9)]
    #[case("media = \"hdd\"", "bought = \"yesterday\"", "is no date", 9)]
    #[case("media = \"hdd\"", "price = \"cheap\"", "is no price", 9)]
    #[case("media = \"hdd\"", "speed = [\"fast\"]", "is not a rate", 9)]
    #[case("name = \"fernhollow\"", "name = \"f\"\ntoo_hot = \"warm\"", "is no temperature", 4)]
    #[case("bays = [[\"A1\", \"A2\"], [\"B1\", \"-\"]]", "bays = [\"A1\"]", "list of rows", 24)]
    #[case("[\"B1\", \"-\"]", "[\"A1\"]", "a bay `A1` already", 24)]
    #[case("rate = \"1.2 GB/s\"", "rate = \"lots\"", "is not a rate", 28)]
    #[case("rate = \"1.2 GB/s\"", "", "needs a `rate`", 26)]
    #[case("[[disk]]\nname = \"oak\"", "[[disk]]\nname = oak", "", 12)]
    fn each_mistake_is_found_at_its_line(
        #[case] from: &str,
        #[case] to: &str,
        #[case] message: &str,
        #[case] line: usize,
    ) {
        assert!(GOOD.contains(from));
        let text = GOOD.replace(from, to);
        let mistakes = parse(&text).mistakes;
        assert!(
            mistakes.iter().any(|m| m.message.contains(message) && m.line(&text) == line),
            "{mistakes:?}"
        );
    }

    #[test]
    fn a_key_that_is_nearly_right_is_told_the_right_one() {
        let told = |from: &str, to: &str| parse(&GOOD.replace(from, to)).mistakes[0].advice.clone().unwrap();
        assert!(told("capacity =", "capcity =").starts_with("did you mean `capacity`?"));
        assert!(told("[[volume]]", "[[volumes]]").starts_with("did you mean `volume`?"));
        assert!(told("media =", "colour =").starts_with("known keys"));
    }

    #[test]
    fn what_is_said_about_disks_cases_and_links_is_read() {
        let about = "media = \"hdd\"\nbay = \"B1\"\nlink = \"card-a\"\nprice = \"249 EUR\"\nbought = \"2030-01-02\"\nspeed = [\"190 MB/s\", \"95 MB/s\"]";
        let parsed = parse(&GOOD.replace("media = \"hdd\"", about));
        assert_eq!(parsed.mistakes, []);
        let spec = parsed.spec.unwrap();
        let alder = spec.disk("alder").unwrap();
        assert_eq!((alder.speed.len(), alder.price.as_ref().unwrap().hundredths), (2, 24_900));
        assert_eq!(
            spec.cases[0].rows,
            [[Some("A1".to_string()), Some("A2".into())], [Some("B1".into()), None]]
        );
        assert_eq!(spec.links[0].rate.per_second(), 1.2e9);
        assert_eq!(spec.thresholds, Thresholds::default());
    }

    #[test]
    fn all_mistakes_come_in_one_go() {
        let text = GOOD.replace("12 TB", "many").replace("\"hdd\"", "7").replace("[\"oak\"]", "[\"elm\"]");
        assert_eq!(parse(&text).mistakes.len(), 3);
    }
}
