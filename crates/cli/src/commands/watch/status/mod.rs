//! `status`: one glance.

use anstyle::Style;
use serde::Serialize;
use sieve_actions::files::settle::CacheStatus;
use sieve_core::count::Count;
use sieve_core::forecast::Duration;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_foresight::paper;
use sieve_foresight::status::{DiskStatus, Look, Status, Verdict, status};
use sieve_foresight::{KeptTotals, Others, Outlook, PoolOutlook};
use sieve_mount::record;
use sieve_mount::record::Answer;
use sieve_pool::member::State;

use crate::args::{LookArguments, PaperArguments};
use crate::commands::context::Context;
use crate::commands::watch;
use crate::exit::Outcome;
use crate::human::{Table, count, reason, size, style, time, units};
use crate::progress::Watch;
use crate::{json, load};

pub(crate) fn run(context: &Context, look: LookArguments, on_paper: &PaperArguments) -> Result<Outcome> {
    let status = match load::spec_on_paper(&context.pool, on_paper.files.is_some())? {
        Some(spec) => {
            let pool = paper::load(&spec, on_paper.volume.volume.as_deref(), on_paper.files.as_deref())?;
            pool.status(&spec, crate::machine::real().now())?
        }
        None => {
            let look = if look.scan { Look::Always } else { Look::WhereShort };
            status(&mut load::pool_with_notes(&context.pool)?, look, &Watch::begin(false)?)?
        }
    };
    let mounts = mounts(context);
    let elsewhere = elsewhere(context)?;
    if context.json {
        json::print(&Whole {
            status: &status,
            mounts: &mounts,
            elsewhere: elsewhere.as_ref().map(|(_, totals)| totals),
        })?;
    } else {
        show(&status);
        if let Some((others, totals)) = &elsewhere {
            crate::say!("\n{}", watch::elsewhere::sentence(totals));
            watch::elsewhere::doubts(others)
                .for_each(|doubt| crate::say!("{}", style::paint(style::WATCH, doubt)));
        }
        show_mounts(&mounts);
    }
    Ok(match status.verdict {
        Verdict::Well => Outcome::Fine,
        Verdict::Waits => Outcome::Waits,
        Verdict::ActNow => Outcome::NotWell,
    })
}

/// What is printed as JSON.
#[derive(Serialize)]
struct Whole<'a> {
    #[serde(flatten)]
    status: &'a Status,
    mounts: &'a [Answer],
    #[serde(skip_serializing_if = "Option::is_none")]
    elsewhere: Option<&'a KeptTotals>,
}

/// What other machines have of a pool that exists; nothing where its file names none.
fn elsewhere(context: &Context) -> Result<Option<(Others, KeptTotals)>> {
    if load::spec(&context.pool)?.elsewhere.is_empty() || load::spec_on_paper(&context.pool, false)?.is_some()
    {
        return Ok(None);
    }
    let pool = load::pool_with_notes(&context.pool)?;
    let others = Others::read(&pool.spec, &pool.file, pool.machine.now());
    let mut outlook = PoolOutlook::open(&pool, Look::WhereShort, &Watch::begin(false)?)?;
    outlook.lose(&[], false)?;
    let totals = others.totals(&outlook)?;
    Ok(Some((others, totals)))
}

/// The volumes that are served as a drive. A help and no more: where it cannot be told, the rest holds.
fn mounts(context: &Context) -> Vec<Answer> {
    let home = sieve_pool::pool::home_folder(&context.pool);
    sieve_disk::RealDisk::open(home).and_then(|home| record::all(&home)).unwrap_or_default()
}

fn show_mounts(mounts: &[Answer]) {
    for answer in mounts {
        let (volume, at) = (&answer.mounted.volume, answer.mounted.at.display());
        let words = match &answer.now {
            Some(now) if now.open_files > 0 => {
                let (open, writing) = (now.open_files, now.open_for_writing);
                format!("{volume} is mounted on {at}, files open: {open} ({writing} for writing).")
            }
            Some(_) => format!("{volume} is mounted on {at}."),
            None => {
                let words = format!("{volume} was mounted on {at}, and the process that served it died:");
                style::paint(style::BAD, format!("{words} zinc-sieve mount {volume} {at}"))
            }
        };
        crate::say!("\n{words}");
    }
}

/// With a disk away: what the next one would cost.
fn show_next_loss(status: &Status) {
    let words = match &status.stakes.next_loss {
        Some(next) if next.cost.files > 0 => format!(
            "One more loss would cost {}, {} at worst ({}).",
            units::files(next.cost.files),
            size(next.cost.bytes),
            next.disk
        ),
        _ => "One more loss would cost nothing either.".to_string(),
    };
    crate::say!("{}\n", style::paint(style::BAD, words));
}

/// The answer, in a sentence without colours.
pub(crate) fn plain_verdict(status: &Status) -> String {
    anstream::adapter::strip_str(&verdict(status)).to_string()
}

/// The answer, in a sentence.
fn verdict(status: &Status) -> String {
    let of = |count: Count| format!("{}, {}", units::files(count.files), size(count.bytes));
    match status.verdict {
        _ if status.has_disk_away() && status.stakes.lost.files == 0 => {
            style::paint(style::BAD, "act now: nothing is lost so far")
        }
        _ if status.has_disk_away() => {
            let words =
                format!("act now: as things are, {} cannot be had as they were", of(status.stakes.lost));
            style::paint(style::BAD, words)
        }
        Verdict::ActNow => style::paint(style::BAD, "act now: see what is marked below"),
        Verdict::Waits => {
            let waits =
                [("a sync", status.waits_for_sync()), ("its place on the disks", status.waits_for_settle())];
            let waits = waits.into_iter().filter(|(_, count)| count.files > 0);
            let mut told: Vec<String> =
                waits.map(|(what, count)| format!("{} for {what}", of(count))).collect();
            if !status.differs.is_empty() {
                told.push("the pool file says what is not so, see below".into());
            }
            let words = format!("nothing is wrong, something waits: {}", told.join("; "));
            style::paint(style::WATCH, words)
        }
        Verdict::Well if status.stakes.files.files == 0 => {
            style::paint(style::FAINT, "there are no files in it")
        }
        Verdict::Well => style::paint(style::WELL, "all is well"),
    }
}

/// How the pool is in a sentence, as of when, and what is at work.
fn show_head(status: &Status) {
    let verdict = verdict(status);
    let is_on_paper = status.disks.iter().all(|d| d.state == State::OnPaper);
    let sync = match status.synced_at {
        Some(at) => format!("last sync {}", time::ago(at, status.now)),
        None if is_on_paper => "on paper, as after a sync".into(),
        None => "never synced".into(),
    };
    crate::say!("{}  {verdict} ({sync})\n", style::paint(style::HEAD, &status.pool));
    if let Some(at) = status.as_of {
        let words = format!(
            "As of the scan {}; zinc-sieve status --scan looks at all files.",
            time::ago(at, status.now)
        );
        crate::say!("{}\n", style::paint(style::FAINT, words));
    }
    if status.has_disk_away() {
        show_next_loss(status);
    }
    if let Some(work) = &status.at_work {
        let began = time::ago(work.since, status.now);
        let far = work.progress.map_or_else(String::new, |far| {
            let left = Duration::from_seconds(far.remaining_seconds);
            format!(" {:.0} % of this stage are done, {left} remain.", far.share * 100.0)
        });
        let words = format!("At work: {}, began {began}.{far}", work.what);
        crate::say!("{}\n", style::paint(style::WATCH, words));
    }
}

fn show(status: &Status) {
    show_head(status);
    show_disks(&status.disks);
    show_guard(status);
    if status.held.files > 0 {
        crate::say!(
            "\nHeld until the next sync: {}, {}.",
            units::files(status.held.files),
            size(status.held.bytes)
        );
    }
    status.caches.iter().for_each(|cache| show_cache(cache, status.now));
    for limited in &status.limits {
        let text = format!(
            "Volume {} holds {} of the {} that it may hold.",
            limited.volume,
            size(limited.used),
            size(limited.limit)
        );
        let colour = if limited.used > limited.limit { style::BAD } else { style::FAINT };
        crate::say!("\n{}", style::paint(colour, text));
    }
    show_troubles(status);
    if !status.proven.is_empty() {
        style::heading("Proven by a drill");
    }
    for proof in &status.proven {
        crate::say!("  {}", crate::commands::foresee::drill::proof_words(proof, status.now));
    }
    for note in &status.notes {
        crate::say!("\nnote: {note}");
    }
    if let Some(guarded) = status.sync_would_guard.filter(|count| count.files > 0) {
        crate::say!(
            "\nNext: `zinc-sieve sync` would guard {}, {}. `zinc-sieve risk --advise` tells what else would help.",
            units::files(guarded.files),
            size(guarded.bytes)
        );
    }
}

/// What needs somebody, besides disks.
fn show_troubles(status: &Status) {
    if status.damaged_cells > 0 {
        crate::say!(
            "\n{}",
            style::paint(
                style::BAD,
                format!("Damaged cells known: {}. `zinc-sieve verify` names them.", status.damaged_cells)
            )
        );
    }
    for what in status.out_of_sight.iter().chain(&status.damaged_tables) {
        crate::say!("\n{}", style::paint(style::BAD, what));
    }
    if let Some(advice) = &status.suspicious {
        crate::say!("\n{}", style::paint(style::BAD, &advice.message));
        crate::say!("    {}: {}", style::paint(style::HEAD, "next"), advice.next);
    }
    for conflict in status.conflicts.iter().take(5) {
        let disks = conflict.disks.join(" and ");
        crate::say!(
            "\n{} {} lies on {disks}: both stay, one should be renamed",
            style::paint(style::WATCH, "conflict:"),
            conflict.path
        );
    }
}

fn show_disks(disks: &[DiskStatus]) {
    let mut table = Table::new(&["disk", "role", "state", "bay", ">used", ">free", "full"]);
    for disk in disks {
        let (state, style) = match &disk.state {
            State::Present if disk.read_only => ("read-only", style::BAD),
            State::Present => ("present", style::WELL),
            State::OnPaper => ("on paper", style::FAINT),
            other => (other.word(), style::BAD),
        };
        let is_known = disk.state.is_usable() || disk.state == State::OnPaper;
        table.styled_row([
            (disk.name.clone(), style::HEAD),
            (disk.role.word().into(), Style::new()),
            (state.into(), style),
            (disk.bay.clone().unwrap_or_else(|| "-".into()), Style::new()),
            (size(disk.used), Style::new()),
            (if is_known { size(disk.free) } else { "-".into() }, Style::new()),
            (if is_known { bar(disk.used, disk.free) } else { String::new() }, style::FAINT),
        ]);
    }
    table.print();
    for disk in disks {
        if let Some(advice) = &disk.advice {
            crate::say!("\n  {} {}", style::paint(style::BAD, "✗"), advice.message);
            crate::say!("    {}: {}", style::paint(style::HEAD, "next"), advice.next);
        }
    }
}

/// What is on a cache, and what of it is at stake.
fn show_cache(cache: &CacheStatus, now: i64) {
    style::heading(&format!("Cache of {}", cache.volume));
    let of = |count: Count| format!("{}, {}", units::files(count.files), size(count.bytes));
    match cache.since {
        Some(since) => {
            crate::say!("  waits         {}; the oldest came {}", of(cache.waits), time::ago(since, now));
        }
        None => crate::say!("  waits         nothing"),
    }
    if cache.stays.files > 0 {
        crate::say!("  stays         {}", of(cache.stays));
    }
    if cache.one_disk_takes.files > 0 {
        let text = format!("{} would be gone with one dead cache disk", of(cache.one_disk_takes));
        crate::say!("  at stake      {}", style::paint(style::BAD, text));
    }
    let on_cache = cache.waits.files + cache.stays.files;
    if on_cache > 0 && cache.one_disk_takes.files == 0 {
        crate::say!("  at stake      nothing with one dead disk: each file is on several");
    }
    if cache.held.files > 0 {
        crate::say!("  held          {}, until the next sync", of(cache.held));
    }
    let room = format!("{} free, {} are to stay free", size(cache.free), size(cache.reserve));
    let is_short = cache.free < cache.reserve;
    let colour = if is_short { style::WATCH } else { Style::new() };
    crate::say!("  room          {}", style::paint(colour, room));
    if is_short {
        crate::say!("                what comes now goes to the disks by itself");
    }
    if let Some(next) = cache.settles_next {
        let when = if next <= now { "now".to_string() } else { time::moment(next) };
        crate::say!("  settles next  {when} (zinc-sieve settle)");
    }
}

/// How full a disk is, in ten steps.
fn bar(used: ByteLength, free: ByteLength) -> String {
    let total = used.plus(free).exact();
    if total == 0 {
        return String::new();
    }
    let steps = usize::try_from(u128::from(used.exact()) * 10 / u128::from(total)).unwrap_or(10).min(10);
    let percent = u128::from(used.exact()) * 100 / u128::from(total);
    format!("{}{} {percent} %", "█".repeat(steps), "░".repeat(10 - steps))
}

fn show_guard(status: &Status) {
    style::heading("Guard: what survives the loss of any disks, whichever they are");
    let mut table = Table::new(&["survives", ">files", ">size", ""]);
    let total: u64 = status.guard.iter().map(|g| g.bytes.exact()).sum();
    for level in status.guard.iter().rev().filter(|g| g.files > 0 || g.level == 0) {
        let (what, style) = match level.level {
            0 => ("no loss".to_string(), if level.files > 0 { style::BAD } else { style::FAINT }),
            1 => ("any 1 disk".to_string(), style::WELL),
            n => (format!("any {n} disks"), style::WELL),
        };
        let share = u128::from(level.bytes.exact()) * 1000 + u128::from(total / 2);
        let share = share / u128::from(total.max(1));
        table.styled_row([
            (what, style),
            (count(level.files), Style::new()),
            (size(level.bytes), Style::new()),
            (format!("{}.{} %", share / 10, share % 10), style::FAINT),
        ]);
    }
    table.print();
    reason::show_unguarded(&status.unguarded);
    let on_purpose = status.stakes.on_purpose;
    if on_purpose.files > 0 {
        crate::say!(
            "    ↳ {}, {}: their volume has neither parity nor copies, on purpose",
            units::files(on_purpose.files),
            size(on_purpose.bytes)
        );
    }
}
