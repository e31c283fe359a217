//! Reading a pool file: all mistakes in one go.

use std::collections::BTreeMap;
use std::ops::Range;

use toml_edit::{Document, Item, Table};

use super::fields::Fields;
use super::{DiskSpec, Media, Mistake, PoolSpec, Share, VolumeKind, VolumeSpec};
use crate::placement::Placement;
use crate::units::{ByteLength, MAX_PARITIES, MAX_SLOTS};

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
    for (key, _) in root.iter().filter(|(key, _)| !["pool", "disk", "volume"].contains(key)) {
        let span = root.key(key).and_then(|k| k.span()).unwrap_or(0..0);
        mistakes.push(
            Mistake::new(span, format!("unknown key `{key}`"))
                .advise("a pool file has [pool], [[disk]] and [[volume]]"),
        );
    }
    let name = read_header(root, end, mistakes);
    let disks: Vec<DiskSpec> =
        tables(root, "disk", mistakes).into_iter().filter_map(|t| read_disk(t, mistakes)).collect();
    let volumes: Vec<VolumeSpec> = tables(root, "volume", mistakes)
        .into_iter()
        .filter_map(|t| read_volume(t, &disks, mistakes))
        .collect();
    refuse_twins(disks.iter().map(|d| (&d.name, &d.name_span)), "a disk", mistakes);
    refuse_twins(volumes.iter().map(|v| (&v.name, &v.name_span)), "a volume", mistakes);
    let paths = disks.iter().filter_map(|d| d.path.as_ref().map(|p| (p, &d.path_span)));
    refuse_twins(paths, "a disk with path", mistakes);
    refuse_shared_members(&volumes, mistakes);
    Some(PoolSpec { name: name?, disks, volumes })
}

fn read_header(root: &Table, end: usize, mistakes: &mut Vec<Mistake>) -> Option<String> {
    let Some(table) = root.get("pool").and_then(Item::as_table) else {
        let span = root.get("pool").and_then(Item::span).unwrap_or(end..end);
        mistakes
            .push(Mistake::new(span, "there is no [pool] section").advise("write [pool] and name = \"…\""));
        return None;
    };
    let mut fields = Fields::new(table, "[pool]", table.span().unwrap_or(0..0), mistakes);
    let name = fields.required_text("name");
    fields.finish();
    name.map(|(name, _)| name)
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

fn read_disk(table: &Table, mistakes: &mut Vec<Mistake>) -> Option<DiskSpec> {
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
    let bay = fields.text("bay").map(|(text, _)| text);
    let serial = fields.text("serial").map(|(text, _)| text);
    let simulated = fields.flag("simulated");
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
    let (name, name_span) = name?;
    let path_span = path.as_ref().map_or(name_span.clone(), |(_, span)| span.clone());
    let path = path.map(|(text, _)| text);
    Some(DiskSpec { name, path, capacity, media, bay, serial, simulated, name_span, path_span })
}

fn is_plain_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_alphanumeric())
        && name.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c))
}

fn read_volume(table: &Table, disks: &[DiskSpec], mistakes: &mut Vec<Mistake>) -> Option<VolumeSpec> {
    let mut fields = Fields::new(table, "[[volume]]", table.span().unwrap_or(0..0), mistakes);
    let name = fields.required_text("name");
    let kind = fields.read("kind", |text| match text {
        "unstriped" => Ok(VolumeKind::Unstriped),
        "spanned" | "tiered" | "mirrored" => {
            Err(format!("`{text}` volumes are not built by this version: write unstriped"))
        }
        other => Err(format!("unknown kind `{other}`: write unstriped")),
    });
    let data = fields.texts("data");
    let parity = fields.texts("parity");
    let placement = fields.read("placement", |text| {
        Placement::ALL
            .into_iter()
            .find(|p| p.word() == text)
            .ok_or_else(|| format!("unknown placement `{text}`: write emptiest, in-order or keep-together"))
    });
    let leave_out = fields.texts("leave_out").into_iter().map(|(text, _)| text).collect();
    let stop_when_gone = fields.read("stop_when_gone", |text| {
        Share::parse(text).ok_or_else(|| format!("`{text}` is not a share: write \"50 %\""))
    });
    if data.is_empty() {
        let span = fields.span.clone();
        fields.mistake(span, "a volume needs at least one data disk: data = [\"…\"]");
    }
    for (list, limit, what) in [(&data, MAX_SLOTS, "data"), (&parity, MAX_PARITIES, "parity")] {
        if let Some((_, span)) = list.get(limit) {
            fields.mistake(span.clone(), format!("a volume has at most {limit} {what} disks"));
        }
    }
    fields.finish();
    check_members(data.iter().chain(&parity), disks, mistakes);
    let (name, name_span) = name?;
    let member_spans = data.iter().chain(&parity).map(|(_, span)| span.clone()).collect();
    Some(VolumeSpec {
        name,
        kind: kind.unwrap_or(VolumeKind::Unstriped),
        data: data.into_iter().map(|(text, _)| text).collect(),
        parity: parity.into_iter().map(|(text, _)| text).collect(),
        placement: placement.unwrap_or_default(),
        leave_out,
        stop_when_gone: stop_when_gone.unwrap_or(Share::percent(50)),
        name_span,
        member_spans,
    })
}

fn check_members<'a>(
    members: impl Iterator<Item = &'a (String, Range<usize>)>,
    disks: &[DiskSpec],
    mistakes: &mut Vec<Mistake>,
) {
    for (name, span) in members {
        if !disks.iter().any(|d| d.name == *name) {
            mistakes.push(
                Mistake::new(span.clone(), format!("there is no disk `{name}`"))
                    .advise(format!("add a [[disk]] with name = \"{name}\", or correct the name")),
            );
        }
    }
}

/// A disk has one role in one volume.
fn refuse_shared_members(volumes: &[VolumeSpec], mistakes: &mut Vec<Mistake>) {
    let mut used: BTreeMap<&str, &str> = BTreeMap::new();
    for volume in volumes {
        for (name, span) in volume.members().zip(&volume.member_spans) {
            if let Some(first) = used.insert(name, &volume.name) {
                let message = format!("disk `{name}` is used already, in volume `{first}`");
                mistakes.push(
                    Mistake::new(span.clone(), message)
                        .advise("a disk has one role in one volume: name it once"),
                );
            }
        }
    }
}

#[cfg(test)]
mod tests {
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
    #[case("kind = \"unstriped\"", "kind = \"heap\"", "unknown kind `heap`", 16)]
    #[case("[pool]", "[pond]", "unknown key `pond`", 2)]
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
    fn all_mistakes_come_in_one_go() {
        let text = GOOD.replace("12 TB", "many").replace("\"hdd\"", "7").replace("[\"oak\"]", "[\"elm\"]");
        assert_eq!(parse(&text).mistakes.len(), 3);
    }
}
