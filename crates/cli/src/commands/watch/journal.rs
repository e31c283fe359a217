//! `journal`: what happened.

use std::ops::ControlFlow;
use std::path::Path;
use std::sync::Arc;

use clap::Args;
use serde::Serialize;
use sieve_core::forecast::Duration;
use sieve_core::units::ByteLength;
use sieve_disk::{Disk, Error, Kind, Result};
use sieve_pool::journal::{self, Did, Ended, Entry};
use sieve_pool::pool::home_folder;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Cell, Table, size, style, time, units};
use crate::json;
use crate::sheet::{self, SheetArguments};

json::list!("journal", Journal { entries: Entry });
json::named_line!("journal-line", Entry);

/// So many lines are shown where nobody says how far back to look.
const LAST: usize = 40;

/// How often a journal that is followed is looked at.
const BETWEEN_LOOKS: std::time::Duration = std::time::Duration::from_millis(300);

/// Which lines of the journal are shown.
#[derive(Args)]
pub(crate) struct JournalArguments {
    /// What happened since then: "1 day", "2031-05-02", "2031-05-02 03:00"
    #[arg(long, value_name = "WHEN")]
    since: Option<String>,
    /// What happened until then
    #[arg(long, value_name = "WHEN")]
    before: Option<String>,
    /// The last so many lines; 40 without --since
    #[arg(long, value_name = "NUMBER")]
    last: Option<usize>,
    /// What this disk took part in
    #[arg(long, value_name = "NAME", add = crate::complete::disks())]
    disk: Option<String>,
    /// What was done to this file, or in this folder, of a volume
    #[arg(long, value_name = "PATH", add = crate::complete::paths())]
    path: Option<String>,
    /// Only these kinds: sync, settle, verify, put, rm, notice …
    #[arg(long, value_name = "KIND", value_delimiter = ',')]
    kind: Vec<String>,
    /// Only what failed, was refused, was stopped, or found that not all is well
    #[arg(long)]
    failed: bool,
    /// Every single line, also those that say which files a work moved, removed or replaced
    #[arg(long)]
    every: bool,
    /// Stay, and show what happens
    #[arg(long, conflicts_with = "csv")]
    pub(crate) follow: bool,
    #[command(flatten)]
    sheet: SheetArguments,
}

/// What is asked for, read.
struct Asked<'a> {
    since: Option<i64>,
    until: Option<i64>,
    kinds: Vec<Did>,
    path: Option<&'a str>,
    arguments: &'a JournalArguments,
}

/// An entry, as a line of CSV.
#[derive(Serialize)]
struct Line<'a> {
    at: String,
    did: &'a str,
    ended: &'a str,
    seconds: Option<f64>,
    files: Option<u64>,
    bytes: Option<ByteLength>,
    disks: String,
    paths: String,
    job: Option<&'a str>,
    said: Option<&'a str>,
}

impl<'a> Line<'a> {
    fn of(entry: &'a Entry) -> Self {
        Self {
            at: sieve_core::moment::text(entry.at),
            did: entry.did.word(),
            ended: entry.ended.word(),
            seconds: entry.seconds,
            files: entry.files.map(|count| count.files),
            bytes: entry.files.map(|count| count.bytes),
            disks: entry.disks.join(" "),
            paths: entry.paths.join("\n"),
            job: entry.job.as_deref(),
            said: entry.said.as_deref(),
        }
    }
}

pub(crate) fn run(context: &Context, arguments: &JournalArguments) -> Result<Outcome> {
    let machine = crate::machine::real();
    let home = machine.open_disk(home_folder(&context.pool))?;
    let asked = Asked::read(arguments, machine.now())?;
    let entries = entries(&*home, &asked)?;
    if arguments.sheet.csv {
        sheet::print(entries.iter().map(Line::of))?;
        return Ok(Outcome::Fine);
    }
    if context.json {
        json::print(&Journal { entries: &entries })?;
    } else {
        show(&entries);
    }
    if arguments.follow {
        follow(&home, &asked, entries.last().map_or(machine.now(), |entry| entry.at), context.json)?;
    } else if entries.is_empty() && !context.json {
        crate::say!("Nothing of the kind is in the journal of {}.", context.pool.display());
    }
    Ok(Outcome::Fine)
}

impl<'a> Asked<'a> {
    fn read(arguments: &'a JournalArguments, now: i64) -> Result<Self> {
        let moment =
            |text: &Option<String>| text.as_deref().map(|text| time::parse_past(text, now)).transpose();
        Ok(Self {
            since: moment(&arguments.since)?,
            until: moment(&arguments.before)?,
            kinds: arguments.kind.iter().map(|word| known(word)).collect::<Result<_>>()?,
            path: arguments.path.as_deref().map(|path| path.trim_matches('/')),
            arguments,
        })
    }

    fn wants(&self, entry: &Entry) -> bool {
        let is_listing = matches!(entry.did, Did::Moved | Did::Removed | Did::Replaced);
        let within = |path: &str| {
            let of = |asked: &str| {
                path.strip_prefix(asked).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            };
            self.path.is_none_or(|asked| asked.is_empty() || of(asked))
        };
        self.until.is_none_or(|until| entry.at <= until)
            && (self.kinds.is_empty() || self.kinds.contains(&entry.did))
            && (!is_listing || self.arguments.every || self.path.is_some() || !self.kinds.is_empty())
            && self.arguments.disk.as_ref().is_none_or(|name| entry.is_about_disk(name))
            && (self.path.is_none() || entry.paths.iter().any(|path| within(path)))
            && (!self.arguments.failed || entry.ended != Ended::Done)
    }
}

fn known(word: &str) -> Result<Did> {
    match Did::of(word) {
        Did::Other(word) => {
            let message = sieve_core::suggest::unknown("kind of line", &word, Did::ALL.iter().map(Did::word));
            Err(Error::new(Kind::Usage, "journal.kind", message.to_string()))
        }
        did => Ok(did),
    }
}

/// What is asked for, oldest first.
fn entries(home: &dyn Disk, asked: &Asked<'_>) -> Result<Vec<Entry>> {
    let most = match (asked.arguments.last, asked.since) {
        (Some(most), _) => most,
        (None, Some(_)) => usize::MAX,
        (None, None) => LAST,
    };
    let mut found = std::collections::VecDeque::new();
    if let Some(since) = asked.since {
        journal::forward(home, since, |entry| {
            if asked.wants(&entry) {
                found.push_back(entry);
            }
            if found.len() > most {
                found.pop_front();
            }
            ControlFlow::Continue(())
        })?;
    } else {
        found.extend(journal::last(home, most, |entry| asked.wants(entry))?.into_iter().rev());
    }
    Ok(found.into())
}

fn follow(home: &Arc<dyn Disk>, asked: &Asked<'_>, mut after: i64, as_json: bool) -> Result<()> {
    let stop = crate::signals::Listener::begin()?;
    while !stop.is_asked_to_stop() && crate::output::failure().is_none() {
        std::thread::sleep(BETWEEN_LOOKS);
        let mut new = Vec::new();
        journal::forward(&**home, after.saturating_add(1), |entry| {
            new.push(entry);
            ControlFlow::Continue(())
        })?;
        after = new.iter().map(|entry| entry.at).max().unwrap_or(after);
        new.retain(|entry| asked.wants(entry));
        if as_json {
            for entry in &new {
                json::line(entry)?;
            }
        } else if !new.is_empty() {
            show(&new);
        }
    }
    Ok(())
}

fn show(entries: &[Entry]) {
    let mut rest = entries;
    while let [first, ..] = rest {
        let day = time::date(first.at);
        let end = rest.iter().position(|entry| time::date(entry.at) != day).unwrap_or(rest.len());
        crate::say!("{}", style::paint(style::HEAD, format!("{}, {}", time::day(day), time::zone(first.at))));
        let mut table = Table::new(&["at", "did", "", "?>took", "what"]);
        for entry in &rest[..end] {
            let ended = match entry.ended {
                Ended::Done => (String::new(), anstyle::Style::new()),
                Ended::Stopped | Ended::NotWell => (entry.ended.word().to_string(), style::WATCH),
                Ended::Refused | Ended::Failed => (entry.ended.word().to_string(), style::BAD),
            };
            let clock = Cell::from(time::clock(entry.at));
            table.add([clock, entry.did.word().into(), ended.into(), took(entry).into(), what(entry).into()]);
        }
        table.print();
        rest = &rest[end..];
        if !rest.is_empty() {
            crate::say!();
        }
    }
}

/// How long it took, where that was a moment worth telling.
fn took(entry: &Entry) -> String {
    entry.seconds.filter(|s| *s >= 1.0).map_or("-".into(), |s| Duration::from_seconds(s).to_string())
}

/// What there is to say of it, in one line.
pub(crate) fn what(entry: &Entry) -> String {
    let mut parts = Vec::new();
    parts.extend(entry.said.clone());
    if let Some(files) = entry.files {
        parts.push(format!("{}, {}", units::files(files.files), size(files.bytes)));
    }
    let flowed = [("read", entry.read()), ("wrote", entry.written())];
    let flowed: Vec<String> = flowed
        .into_iter()
        .filter(|(_, bytes)| bytes.exact() > 0)
        .map(|(what, bytes)| format!("{what} {}", size(bytes)))
        .collect();
    if !flowed.is_empty() {
        parts.push(flowed.join(", "));
    }
    if let Some(forecast) = entry.forecast_seconds.filter(|f| f.max(entry.seconds.unwrap_or(0.0)) >= 10.0) {
        parts.push(format!("forecast {}", Duration::from_seconds(forecast)));
    }
    if let [first, rest @ ..] = &entry.paths[..] {
        parts.push(if rest.is_empty() { first.clone() } else { format!("{first} and {} more", rest.len()) });
    }
    if !entry.disks.is_empty() {
        parts.push(entry.disks.join(", "));
    }
    if let Some(job) = &entry.job {
        parts.push(format!("by the agenda ({job})"));
    }
    parts.join(" · ")
}

/// Notes that a command did not do what it was asked for.
pub(crate) fn note_failure(pool_file: &Path, did: Did, failure: &Error) {
    let machine = crate::machine::real();
    // A pool that was never made has no journal, and a mistake in the request is told to who made it.
    if matches!(failure.kind, Kind::Usage | Kind::NotFound)
        || !sieve_pool::pool::catalogue_path(pool_file).exists()
    {
        return;
    }
    let mut entry = Entry::new(did).ended(Ended::with(failure.kind));
    entry.said = Some(failure.to_string());
    let noted =
        machine.open_disk(home_folder(pool_file)).and_then(|home| journal::add(&*home, machine.now(), entry));
    if let Err(error) = noted {
        crate::say_aside!("note: the journal could not be written: {error}");
    }
}
