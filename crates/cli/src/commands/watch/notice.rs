//! `notice`: what somebody should know now, and who was told.

use std::collections::BTreeMap;
use std::path::Path;

use clap::Args;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::health::Check;
use sieve_core::notice::{Book, Condition, Event, Moment, Severity, Unsent};
use sieve_core::pool::PoolSpec;
use sieve_disk::{Disk, Error, Kind, Result};
use sieve_foresight::notices::conditions;
use sieve_foresight::status::{Look, Status, status};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::notices;
use sieve_pool::pool::Pool;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{style, time};
use crate::progress::Watch;
use crate::shelf::Shelf;
use crate::tell::{self, place};
use crate::{json, load};

json::list!("notice", Notices { notices: Told<'a> });

/// Whether a channel works.
#[derive(Serialize, JsonSchema)]
struct Tried<'a> {
    /// The channel.
    channel: &'a str,
    /// The notice went out.
    sent: bool,
    /// Why it did not.
    why: Option<String>,
}
json::list!("notice-test", Trial { channels: Tried<'a> });

/// What is shown of the notices, or said of them.
#[derive(Args)]
pub(crate) struct NoticeArguments {
    /// I know: do not tell it again as long as it goes on
    #[arg(long, value_name = "CODE")]
    seen: Option<String>,
    /// Tell nothing of it for so long, "3 days"
    #[arg(long, value_names = ["CODE", "TIME"], num_args = 2, conflicts_with = "seen")]
    mute: Option<Vec<String>>,
    /// Send a test by every channel of the pool file
    #[arg(long, conflicts_with_all = ["seen", "mute"])]
    test: bool,
}

#[derive(Serialize, JsonSchema)]
struct Told<'a> {
    #[serde(flatten)]
    condition: &'a Condition,
    /// Since when it holds.
    since: Option<String>,
    /// Somebody said that he knows.
    seen: bool,
    /// It is not told until then.
    muted_until: Option<String>,
}

pub(crate) fn run(context: &Context, arguments: &NoticeArguments) -> Result<Outcome> {
    if arguments.test {
        return test(context);
    }
    let mut pool = load::pool(&context.pool)?;
    let found = look(&mut pool)?;
    if let Some(code) = &arguments.seen {
        return note(&pool, &found, code, |book, known| {
            book.known.entry(known.condition.code.clone()).or_insert(known).seen = true;
        });
    }
    if let Some([code, stretch]) = arguments.mute.as_deref() {
        let seconds = sieve_core::pool::parse_stretch(stretch)
            .map_err(|message| Error::new(Kind::Usage, "notice.mute", message))?;
        let until = pool.machine.now().saturating_add((seconds * 1e9) as i64);
        return note(&pool, &found, code, |book, known| {
            book.muted.insert(known.condition.code, until);
        });
    }
    let book = notices::read(&*pool.home)?;
    if context.json {
        let told: Vec<Told<'_>> = found.iter().map(|condition| told(&book, condition)).collect();
        json::print(&Notices { notices: &told })?;
    } else {
        show(&pool.spec, &book, &found);
    }
    Ok(Outcome::well(found.iter().all(|condition| condition.severity == Severity::Information)))
}

/// All that holds now. What the disks say of themselves is asked where that is possible.
///
/// # Errors
/// What a disk or the database says.
pub(crate) fn look(pool: &mut Pool) -> Result<Vec<Condition>> {
    let status = status(pool, Look::WhereShort, &Watch::new(false))?;
    conditions_of(pool, &status)
}

/// All that holds now, for whoever has looked already.
///
/// # Errors
/// What the database says.
pub(crate) fn conditions_of(pool: &Pool, status: &Status) -> Result<Vec<Condition>> {
    conditions(pool, status, &findings(&pool.file), &TimeZone::system())
}

/// The reasons that each disk of the pool is judged by; where no disk can be asked there are none.
fn findings(pool_file: &Path) -> BTreeMap<String, Vec<Check>> {
    let Ok(shelf) = Shelf::look(pool_file, None) else { return BTreeMap::new() };
    let items = shelf.items();
    let of_pool = items.iter().filter(|item| item.report().is_some());
    let judged = of_pool.filter_map(|item| Some((item.name?.to_string(), shelf.judge(item).ok()?.checks)));
    judged.collect()
}

/// Tells what is new by every channel. Whatever fails there is told in the journal and tried again the next time.
///
/// # Errors
/// What a disk or the database says.
pub(crate) fn tell_all(pool: &mut Pool) -> Result<Vec<Event>> {
    let found = look(pool)?;
    let home = std::sync::Arc::clone(&pool.home);
    // Somebody else tells at this moment.
    let Some(mut open) = notices::open(&*home)? else { return Ok(Vec::new()) };
    let remind_after = (pool.spec.notices.remind_after * 1e9) as i64;
    let events = open.book.meet(&pool.spec.name, found, pool.machine.now(), remind_after);
    // Written first: killed in the middle, it tells once too little rather than for ever.
    open.write()?;
    for event in &events {
        let mut entry = Entry::new(Did::Notice).on(event.condition.disk.iter()).detail(event)?;
        let headline = tell::headline(event);
        entry.said = Some(match event.moment {
            Moment::Ends => headline,
            _ => format!("{}: {headline}", event.condition.severity.words()),
        });
        pool.tell(entry)?;
    }
    send(pool, &mut open.book, &events)?;
    open.write()?;
    Ok(events)
}

/// Sends by each channel what it did not take before, and then what is new. One that fails is not tried on with the rest, and
/// the journal says so once, until it takes something again.
fn send(pool: &Pool, book: &mut Book, events: &[Event]) -> Result<()> {
    let waiting = std::mem::take(&mut book.unsent);
    for channel in &pool.spec.notices.channels {
        let before =
            waiting.iter().filter(|unsent| unsent.channel == channel.name).map(|unsent| &unsent.event);
        let (mut failed, had_failed) = (false, before.clone().next().is_some());
        for event in before.chain(events) {
            let outcome = if failed { Err(String::new()) } else { tell::tell(channel, event) };
            let Err(why) = outcome else { continue };
            if !failed && !had_failed {
                say_failure(pool, &channel.name, &why)?;
            }
            failed = true;
            book.keep(&channel.name, event.clone());
        }
    }
    Ok(())
}

fn say_failure(pool: &Pool, channel: &str, why: &str) -> Result<()> {
    let mut entry = Entry::new(Did::Notice).ended(Ended::Failed);
    entry.said = Some(format!("channel {channel}: {why}"));
    crate::say_aside!("note: channel {channel}: {why}; it is tried again");
    pool.tell(entry)
}

fn test(context: &Context) -> Result<Outcome> {
    let spec = load::spec(&context.pool)?;
    if spec.notices.channels.is_empty() {
        return Err(Error::new(Kind::Usage, "notice.channels", "the pool file names no channel").remedy(
            "write one, for instance:\n\n[[notices.channel]]\nkind = \"command\"\ncommand = [\"/usr/local/bin/tell\"]",
        ));
    }
    let now = crate::machine::real().now();
    let condition = Condition {
        code: "test".into(),
        severity: Severity::Information,
        disk: None,
        bay: None,
        serial_tail: None,
        text: "somebody tries whether notices arrive".into(),
        command: "zinc-sieve notice".into(),
    };
    let event = Event { pool: spec.name.clone(), moment: Moment::Test, at: now, since: now, condition };
    let mut results = Vec::new();
    for channel in &spec.notices.channels {
        let why = tell::tell(channel, &event).err();
        if !context.json {
            match &why {
                None => crate::say!("{}: {}", channel.name, style::paint(style::WELL, "sent")),
                Some(why) => crate::say!("{}: {}", channel.name, style::paint(style::BAD, why)),
            }
        }
        results.push(Tried { channel: &channel.name, sent: why.is_none(), why });
    }
    if context.json {
        json::print(&Trial { channels: &results })?;
    }
    Ok(Outcome::well(results.iter().all(|result| result.sent)))
}

/// Notes something of a condition that holds.
fn note(
    pool: &Pool,
    found: &[Condition],
    code: &str,
    work: impl FnOnce(&mut Book, sieve_core::notice::Known),
) -> Result<Outcome> {
    let condition = found.iter().find(|condition| condition.code == code).ok_or_else(|| {
        let codes = found.iter().map(|condition| condition.code.as_str());
        Error::new(Kind::NotFound, "notice.code", sieve_core::suggest::unknown("notice", code, codes))
    })?;
    let home: &dyn Disk = &*pool.home;
    let mut open = notices::open(home)?.ok_or_else(|| {
        Error::new(Kind::Conflict, "notice.busy", "notices are being told at this moment").remedy("try again")
    })?;
    let now = pool.machine.now();
    let known =
        sieve_core::notice::Known { condition: condition.clone(), since: now, told: Some(now), seen: false };
    work(&mut open.book, known);
    open.write()?;
    crate::say!("Noted: {}", condition.text);
    Ok(Outcome::Fine)
}

fn told<'a>(book: &Book, condition: &'a Condition) -> Told<'a> {
    let known = book.known.get(&condition.code);
    Told {
        condition,
        since: known.map(|known| sieve_core::moment::text(known.since)),
        seen: known.is_some_and(|known| known.seen),
        muted_until: book.muted.get(&condition.code).map(|until| sieve_core::moment::text(*until)),
    }
}

fn show(spec: &PoolSpec, book: &Book, found: &[Condition]) {
    if found.is_empty() {
        crate::say!("{}", style::paint(style::WELL, format!("There is nothing to tell of {}.", spec.name)));
    }
    for condition in found {
        let paint = match condition.severity {
            Severity::ActNow => style::BAD,
            Severity::Soon => style::WATCH,
            Severity::Information => style::FAINT,
        };
        let told = told(book, condition);
        let event = Event {
            pool: spec.name.clone(),
            moment: Moment::Begins,
            at: 0,
            since: 0,
            condition: condition.clone(),
        };
        crate::say!("{}: {}", style::paint(paint, condition.severity.words()), condition.text);
        let place = place(&event).map(|place| format!("{place}; "));
        let since =
            book.known.get(&condition.code).map(|known| format!("since {}; ", time::moment(known.since)));
        let quiet = match (told.seen, book.muted.get(&condition.code)) {
            (_, Some(until)) => format!("; not told until {}", time::moment(*until)),
            (true, None) => "; seen".into(),
            (false, None) => String::new(),
        };
        let about =
            format!("{}{}{}{quiet}", place.unwrap_or_default(), since.unwrap_or_default(), condition.code);
        crate::say!("    {}", style::paint(style::FAINT, about));
        crate::say!("    next: {}", condition.command);
    }
    let unsent: &[Unsent] = &book.unsent;
    if !unsent.is_empty() {
        crate::say!(
            "\n{}",
            style::paint(style::WATCH, format!("{} notices wait for a channel that fails.", unsent.len()))
        );
    }
    if spec.notices.channels.is_empty() {
        crate::say!("\nNobody is told: the pool file names no channel ([[notices.channel]]).");
    }
}
