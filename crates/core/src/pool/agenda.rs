//! The sections about what is done when, and who is told when something is wrong.

use std::ops::Range;

use toml_edit::{Item, Table};

use super::fields::Fields;
use super::jobs::{AgendaSpec, Channel, ChannelSpec, JobSpec, NoticeSpec};
use super::share::{Share, read_share};
use super::{DiskSpec, Mistake, VolumeSpec};
use crate::agenda::{Hours, Task, When};
use crate::stretch::parse_stretch;
use crate::suggest::{nearest, unknown};

pub(super) fn read_agenda(
    root: &Table,
    disks: &[DiskSpec],
    volumes: &[VolumeSpec],
    mistakes: &mut Vec<Mistake>,
) -> AgendaSpec {
    let mut spec = AgendaSpec::default();
    if let Some(table) = section(root, "agenda", mistakes) {
        let mut fields = Fields::new(table, "[agenda]", table.span().unwrap_or(0..0), mistakes);
        spec.awake = read_hours("awake", &mut fields);
        spec.quiet_hours = read_hours("quiet_hours", &mut fields);
        spec.sleeps_after = fields.read("sleeps_after", parse_stretch).unwrap_or(spec.sleeps_after);
        fields.section("job");
        fields.finish();
        let jobs = subsections(table, "job", "agenda", mistakes);
        spec.jobs = jobs.into_iter().filter_map(|table| read_job(table, disks, volumes, mistakes)).collect();
        refuse_twins(spec.jobs.iter().map(|job| (&job.name, &job.span)), "job", mistakes);
    }
    let implied: Vec<JobSpec> = volumes.iter().filter_map(|volume| implied(volume, &spec.jobs)).collect();
    spec.jobs.extend(implied);
    spec
}

/// What `settle_every` of a volume says, where no job does.
fn implied(volume: &VolumeSpec, jobs: &[JobSpec]) -> Option<JobSpec> {
    let days = volume.cache.settle_every?;
    let is_of = |job: &JobSpec| job.volume.as_ref().is_none_or(|name| *name == volume.name);
    if jobs.iter().any(|job| job.task == Task::Settle && is_of(job)) {
        return None;
    }
    let minutes = (days * 1440.0).round().max(1.0) as u32;
    Some(JobSpec {
        name: format!("settle {}", volume.name),
        task: Task::Settle,
        volume: Some(volume.name.clone()),
        disks: Vec::new(),
        when: When::every_minutes(minutes),
        share: None,
        file: None,
        implied_by: Some("settle_every"),
        span: volume.name_span.clone(),
    })
}

fn section<'a>(root: &'a Table, key: &str, mistakes: &mut Vec<Mistake>) -> Option<&'a Table> {
    let item = root.get(key)?;
    let table = item.as_table();
    if table.is_none() {
        let span = item.span().unwrap_or(0..0);
        mistakes.push(Mistake::new(span, format!("write [{key}] as a section of its own")));
    }
    table
}

fn subsections<'a>(table: &'a Table, key: &str, of: &str, mistakes: &mut Vec<Mistake>) -> Vec<&'a Table> {
    match table.get(key) {
        None => Vec::new(),
        Some(Item::ArrayOfTables(array)) => array.iter().collect(),
        Some(other) => {
            let span = other.span().unwrap_or(0..0);
            let message = format!("write [[{of}.{key}]], in double brackets, once for each {key}");
            mistakes.push(Mistake::new(span, message));
            Vec::new()
        }
    }
}

fn read_hours(key: &'static str, fields: &mut Fields<'_>) -> Hours {
    let mut hours = Hours::default();
    for (text, span) in fields.texts(key) {
        if let Err(message) = hours.add(&text) {
            fields.mistake(span, message);
        }
    }
    hours
}

/// What a job does, and of what, as it is read.
struct Named {
    task: Option<Task>,
    volume: Option<(String, Range<usize>)>,
    disks: Vec<(String, Range<usize>)>,
}

fn read_job(
    table: &Table,
    disks: &[DiskSpec],
    volumes: &[VolumeSpec],
    mistakes: &mut Vec<Mistake>,
) -> Option<JobSpec> {
    let span = table.span().unwrap_or(0..0);
    let mut fields = Fields::new(table, "[[agenda.job]]", span.clone(), mistakes);
    let name = fields.text("name");
    let has_task = fields.required_text("do").is_some();
    let test = fields.text("test");
    let task = fields.read("do", |text| read_task(text, test.as_ref().map(|(text, _)| text.as_str())));
    let named = Named { task, volume: fields.text("volume"), disks: fields.texts("disks") };
    let has_when = fields.required_text("when").is_some();
    let when = fields.read("when", When::parse);
    let share = fields.read("share", read_share);
    let file = fields.text("file");
    if let Some((_, at)) = test.filter(|_| task.is_some_and(|task| task.word() != "self-test")) {
        fields.mistake(at, "`test` is for a self-test: test = \"short\" or \"long\"");
    }
    check_job(&named, share, file.is_some(), disks, volumes, &mut fields);
    fields.finish();
    let (task, when) = (task.filter(|_| has_task)?, when.filter(|_| has_when)?);
    let volume = named.volume.map(|(name, _)| name);
    let of = volume.as_ref().map_or_else(String::new, |volume| format!(" {volume}"));
    Some(JobSpec {
        name: name.map_or_else(|| format!("{}{of}", task.word()), |(name, _)| name),
        task,
        disks: named.disks.into_iter().map(|(name, _)| name).collect(),
        when,
        share,
        file: file.map(|(file, _)| file),
        implied_by: None,
        volume,
        span,
    })
}

fn read_task(text: &str, test: Option<&str>) -> Result<Task, String> {
    match (text, test) {
        ("self-test", Some("short")) => return Ok(Task::ShortTest),
        ("self-test", Some("long")) => return Ok(Task::LongTest),
        ("self-test", _) => return Err("a self-test says how long: test = \"short\" or \"long\"".into()),
        _ => {}
    }
    let known = Task::ALL.into_iter().find(|task| task.word() == text);
    known.ok_or_else(|| {
        unknown("job", text, ["settle", "sync", "verify", "self-test", "report", "backup-listing"])
    })
}

fn check_job(
    named: &Named,
    share: Option<Share>,
    has_file: bool,
    disks: &[DiskSpec],
    volumes: &[VolumeSpec],
    fields: &mut Fields<'_>,
) {
    let at = fields.span.clone();
    if let Some((name, span)) = &named.volume
        && !volumes.iter().any(|volume| volume.name == *name)
    {
        let message = unknown("volume", name, volumes.iter().map(|volume| volume.name.as_str()));
        fields.mistake(span.clone(), message);
    }
    for (name, span) in &named.disks {
        if !disks.iter().any(|disk| disk.name == *name) {
            fields.mistake(span.clone(), unknown("disk", name, disks.iter().map(|disk| disk.name.as_str())));
        }
    }
    let Some(task) = named.task else { return };
    let is_test = matches!(task, Task::ShortTest | Task::LongTest);
    let writes = matches!(task, Task::Report | Task::BackupListing);
    if share.is_some() && task != Task::Verify {
        fields.mistake(at.clone(), "`share` is for a verify: which part of the rows it reads");
    }
    if !named.disks.is_empty() && !is_test {
        fields.mistake(at.clone(), "`disks` is for a self-test: which disks test themselves");
    }
    if writes && !has_file {
        fields.mistake(at.clone(), format!("a {} needs the `file` that it is written to", task.word()));
    }
    if has_file && !writes {
        fields.mistake(at.clone(), "`file` is for a report or a backup-listing");
    }
    if task == Task::Settle && named.volume.is_none() && volumes.iter().filter(|v| v.settles()).count() > 1 {
        fields.mistake(at, "a settle needs its `volume`, since several have a cache or tiers");
    }
}

pub(super) fn read_notices(root: &Table, mistakes: &mut Vec<Mistake>) -> NoticeSpec {
    let mut spec = NoticeSpec::default();
    let Some(table) = section(root, "notices", mistakes) else { return spec };
    let mut fields = Fields::new(table, "[notices]", table.span().unwrap_or(0..0), mistakes);
    spec.remind_after = fields.read("remind_after", parse_stretch).unwrap_or(spec.remind_after);
    fields.section("channel");
    fields.finish();
    for table in subsections(table, "channel", "notices", mistakes) {
        let span = table.span().unwrap_or(0..0);
        let read = read_channel(table, span.clone(), mistakes);
        let Some(read) = read else { continue };
        if spec.channels.iter().any(|other| other.name == read.name) {
            mistakes.push(
                Mistake::new(span, format!("there is a channel `{}` already", read.name))
                    .advise("give each a name of its own: name = \"…\""),
            );
        }
        spec.channels.push(read);
    }
    spec
}

fn read_channel(table: &Table, span: Range<usize>, mistakes: &mut Vec<Mistake>) -> Option<ChannelSpec> {
    const KINDS: [&str; 4] = ["command", "mail", "post", "system-log"];
    let mut fields = Fields::new(table, "[[notices.channel]]", span, mistakes);
    let name = fields.text("name").map(|(name, _)| name);
    let (kind, kind_span) = fields.required_text("kind")?;
    let text = |fields: &mut Fields<'_>, key| fields.text(key).map(|(text, _)| text);
    let channel = match kind.as_str() {
        "command" => {
            let command: Vec<String> = fields.texts("command").into_iter().map(|(text, _)| text).collect();
            if command.is_empty() {
                let at = fields.span.clone();
                fields.mistake(at, "a command needs its program: command = [\"/usr/local/bin/tell\"]");
            }
            Some(Channel::Command { command })
        }
        "mail" => read_mail(&mut fields),
        "post" => fields.required_text("url").and_then(|(url, at)| {
            let is_url = url.starts_with("http://") || url.starts_with("https://");
            if !is_url {
                fields.mistake(at, "a URL begins with http:// or https://");
            }
            is_url.then_some(Channel::Post { url })
        }),
        "system-log" => Some(Channel::SystemLog),
        other => {
            let advice =
                nearest(other, KINDS).map_or(String::new(), |near| format!("did you mean `{near}`? "));
            let mistake = Mistake::new(kind_span, format!("unknown kind of channel `{other}`"));
            fields.mistakes.push(mistake.advise(format!("{advice}write {}", KINDS.join(", "))));
            // Its other keys cannot be judged.
            return None;
        }
    };
    let name = name.or_else(|| text(&mut fields, "name")).unwrap_or(kind);
    fields.finish();
    Some(ChannelSpec { name, channel: channel? })
}

fn read_mail(fields: &mut Fields<'_>) -> Option<Channel> {
    let text = |fields: &mut Fields<'_>, key| fields.text(key).map(|(text, _)| text);
    let server = fields.required_text("server").map(|(text, _)| text);
    let from = fields.required_text("from").map(|(text, _)| text);
    let to: Vec<String> = fields.texts("to").into_iter().map(|(text, _)| text).collect();
    if to.is_empty() {
        let at = fields.span.clone();
        fields.mistake(at, "a mail needs its receivers: to = [\"somebody@fernhollow.example\"]");
    }
    if fields.text("password").is_some() {
        let at = fields.span.clone();
        fields.mistakes.push(
            Mistake::new(at, "a password does not belong into the pool file, which others may read")
                .advise("write it into a file of your own: password_file = \"/root/mail-password\""),
        );
    }
    let (user, plain) = (text(fields, "user"), fields.flag("plain"));
    let (password_file, password_variable) =
        (text(fields, "password_file"), text(fields, "password_variable"));
    Some(Channel::Mail { server: server?, from: from?, to, user, password_file, password_variable, plain })
}

fn refuse_twins<'a>(
    names: impl Iterator<Item = (&'a String, &'a Range<usize>)>,
    what: &str,
    mistakes: &mut Vec<Mistake>,
) {
    let mut seen: Vec<&str> = Vec::new();
    for (name, span) in names {
        if seen.contains(&name.as_str()) {
            mistakes.push(
                Mistake::new(span.clone(), format!("there is a {what} `{name}` already"))
                    .advise("give each a name of its own: name = \"…\""),
            );
        }
        seen.push(name);
    }
}

#[cfg(test)]
mod tests {
    use super::super::parse;
    use super::*;
    use rstest::rstest;

    const POOL: &str = r#"
[pool]
name = "fernhollow"
[[disk]]
name = "alder"
[[disk]]
name = "flint"
[[volume]]
name = "recordings"
data = ["alder"]
cache = ["flint"]
settle_every = "12 hours"
"#;

    fn agenda(text: &str) -> (AgendaSpec, Vec<String>) {
        let parsed = parse(&format!("{POOL}{text}"));
        let mistakes = parsed.mistakes.into_iter().map(|mistake| mistake.message).collect();
        (parsed.spec.map(|spec| spec.agenda).unwrap_or_default(), mistakes)
    }

    #[test]
    fn hours_and_jobs_are_read() {
        let (spec, mistakes) = agenda(
            r#"
[agenda]
awake = ["Mon-Fri 17:00-23:00", "Sat-Sun 08:00-24:00"]
quiet_hours = ["22:00-07:00"]
[[agenda.job]]
do = "sync"
when = "daily 03:00"
[[agenda.job]]
name = "the whole surface"
do = "self-test"
test = "long"
disks = ["alder"]
when = "first Sun of the month 04:00"
[[agenda.job]]
do = "verify"
share = "5 %"
volume = "recordings"
when = "Sun 02:00"
"#,
        );
        assert!(mistakes.is_empty(), "{mistakes:?}");
        let names: Vec<&str> = spec.jobs.iter().map(|job| job.name.as_str()).collect();
        assert_eq!(names, ["sync", "the whole surface", "verify recordings", "settle recordings"]);
        assert_eq!(spec.jobs[3].implied_by, Some("settle_every"));
        assert_eq!(spec.jobs[3].when.to_string(), "every 12 hours");
    }

    #[rstest]
    #[case("do = \"synk\"\nwhen = \"hourly\"", "did you mean `sync`")]
    #[case("do = \"sync\"", "needs a `when`")]
    #[case("do = \"sync\"\nwhen = \"now and then\"", "no time that is understood")]
    #[case("do = \"self-test\"\nwhen = \"hourly\"", "says how long")]
    #[case("do = \"sync\"\ntest = \"long\"\nwhen = \"hourly\"", "is for a self-test")]
    #[case("do = \"sync\"\nshare = \"5 %\"\nwhen = \"hourly\"", "is for a verify")]
    #[case("do = \"report\"\nwhen = \"hourly\"", "needs the `file`")]
    #[case("do = \"sync\"\nvolume = \"recording\"\nwhen = \"hourly\"", "did you mean `recordings`")]
    #[case("do = \"sync\"\nwhen = \"hourly\"\nevery = 3", "unknown key `every`")]
    fn mistakes_in_jobs_are_told(#[case] job: &str, #[case] told: &str) {
        let (_, mistakes) = agenda(&format!("[[agenda.job]]\n{job}\n"));
        assert!(mistakes.iter().any(|mistake| mistake.contains(told)), "{mistakes:?}");
    }

    #[rstest]
    #[case("kind = \"command\"\ncommand = [\"/bin/tell\"]", None)]
    #[case("kind = \"system-log\"", None)]
    #[case("kind = \"post\"\nurl = \"http://[::1]:8080/\"", None)]
    #[case("kind = \"post\"\nurl = \"ftp://fernhollow\"", Some("begins with http"))]
    #[case("kind = \"mail\"\nserver = \"post\"\nfrom = \"a@b\"\nto = [\"c@d\"]", None)]
    #[case("kind = \"mail\"\nserver = \"post\"\nfrom = \"a@b\"", Some("needs its receivers"))]
    #[case(
        "kind = \"mail\"\nserver = \"post\"\nfrom = \"a@b\"\nto = [\"c@d\"]\npassword = \"x\"",
        Some("does not belong")
    )]
    #[case("kind = \"pigeon\"", Some("unknown kind of channel"))]
    fn channels_are_read(#[case] channel: &str, #[case] told: Option<&str>) {
        let parsed = parse(&format!("{POOL}[[notices.channel]]\n{channel}\n"));
        let messages: Vec<String> = parsed.mistakes.into_iter().map(|mistake| mistake.message).collect();
        match told {
            None => assert!(messages.is_empty(), "{messages:?}"),
            Some(told) => assert!(messages.iter().any(|message| message.contains(told)), "{messages:?}"),
        }
    }
}
