//! The rest of a glance: volumes, disks, guard, caches, and what needs somebody.

use anstyle::Style;
use sieve_actions::files::settle::CacheStatus;
use sieve_core::count::{Count, so_many};
use sieve_core::forecast::Duration;
use sieve_core::pool::Thresholds;
use sieve_foresight::status::{DiskStatus, Status};
use sieve_pool::member::State;

use super::health::Health;
use super::sentence::{next_loss, verdict};
use crate::human::{Cell, Table, count, reason, size, style, time, units};

/// So many drills and conflicts are told; the rest with `--verbose`.
const FEW: usize = 5;

/// `health` asks the disks, which may take a while: the answer stands there before.
pub(super) fn show(status: &Status, thresholds: &Thresholds, health: impl FnOnce() -> Health) {
    head(status);
    volumes(status);
    disks(status, thresholds, health());
    guard(status);
    if status.held.files > 0 {
        let (files, bytes) = (units::files(status.held.files), size(status.held.bytes));
        crate::say!("\nHeld until the next sync: {files}, {bytes}.");
    }
    status.caches.iter().for_each(|one| cache(one, status.now));
    limits(status);
    troubles(status);
    proven(status);
    for note in &status.notes {
        crate::say!("\nnote: {note}");
    }
}

/// What to do next, as one command.
pub(super) fn advise(status: &Status) {
    if let Some(guarded) = status.sync_would_guard.filter(|count| count.files > 0) {
        crate::say!(
            "\nNext: `zinc-sieve sync` would guard {}, {}. `zinc-sieve risk --advise` tells what else would help.",
            units::files(guarded.files),
            size(guarded.bytes)
        );
    }
}

/// How the pool is in a sentence, as of when, and what is at work.
fn head(status: &Status) {
    let is_on_paper = status.disks.iter().all(|d| d.state == State::OnPaper);
    let sync = match status.synced_at {
        Some(at) => format!("last sync {}", time::ago(at, status.now)),
        None if is_on_paper => "on paper, as after a sync".into(),
        None => "never synced".into(),
    };
    crate::answer!("{}  {} ({sync})", style::paint(style::HEAD, &status.pool), verdict(status));
    if !is_on_paper {
        crate::say!("{}", style::paint(style::FAINT, times(status)));
    }
    if let Some(at) = status.as_of {
        let ago = time::ago(at, status.now);
        let words = format!("As of the scan {ago}; zinc-sieve status --scan looks at all files.");
        crate::say!("{}", style::paint(style::FAINT, words));
    }
    if let Some(words) = next_loss(status) {
        crate::say!("{words}");
    }
    if let Some(work) = &status.at_work {
        let began = time::ago(work.since, status.now);
        let far = work.progress.map_or_else(String::new, |far| {
            let left = Duration::from_seconds(far.remaining_seconds);
            format!(" {:.0} % of this stage are done, {left} remain.", far.share * 100.0)
        });
        let words = format!("At work: {}, began {began}.{far}", work.what);
        crate::say!("{}", style::paint(style::WATCH, words));
    }
    crate::say!();
}

/// When what was done last, and what comes next.
fn times(status: &Status) -> String {
    let drill = status.proven.iter().map(|proof| proof.at).max();
    let told = [("verify", status.verified_at), ("drill", drill)].map(|(what, at)| match at {
        Some(at) => format!("last {what} {}", time::ago(at, status.now)),
        None => format!("no {what} yet"),
    });
    let next = status.next.as_ref().map_or_else(String::new, |next| {
        format!("; next by the agenda: {}, {}", next.job, time::weekday_and_clock(next.at))
    });
    format!("{}{next}", told.join(", "))
}

fn volumes(status: &Status) {
    let mut table = Table::new(&["volume", "??kind", ">total", ">used", ">free", "?full", "?full on about"]);
    for volume in &status.volumes {
        let full = volume.full_about.map_or_else(String::new, |at| {
            let first = volume.fills_first.as_deref().unwrap_or("a disk");
            format!("{} ({first} first)", time::date(at))
        });
        table.styled_row([
            (volume.name.clone(), style::HEAD),
            (volume.kind.word().into(), Style::new()),
            (size(volume.total), Style::new()),
            (size(volume.used), Style::new()),
            (size(volume.free), style::HEAD),
            (bar(volume.used.exact(), volume.total.exact()), style::FAINT),
            (full, Style::new()),
        ]);
    }
    table.leave_blanks_out();
    table.print();
    crate::say!();
}

fn disks(status: &Status, thresholds: &Thresholds, mut health: Health) {
    let headings = ["disk", "??role", "state", "bay", "?health", "?temp", "?>used", ">free", "?full"];
    let mut table = Table::new(&headings);
    for disk in &status.disks {
        let (state, style) = match &disk.state {
            State::Present if disk.read_only => ("read-only", style::BAD),
            State::Present => ("present", style::WELL),
            State::OnPaper => ("on paper", style::FAINT),
            other => (other.word(), style::BAD),
        };
        let is_known = disk.state.is_usable() || disk.state == State::OnPaper;
        let (verdict, temperature) = health.take(&disk.name);
        table.add([
            (disk.name.clone(), style::HEAD).into(),
            disk.role.word().into(),
            (state.to_string(), style).into(),
            disk.bay.clone().unwrap_or_else(|| "-".into()).into(),
            verdict,
            temperature,
            size(disk.used).into(),
            (if is_known { size(disk.free) } else { "-".into() }).into(),
            if is_known { fullness(disk, thresholds) } else { "-".into() },
        ]);
    }
    table.leave_blanks_out();
    table.print();
    for disk in &status.disks {
        if let Some(advice) = &disk.advice {
            crate::say!("\n  {} {}", style::paint(style::BAD, "✗"), advice.message);
            crate::say!("    {}: {}", style::paint(style::HEAD, "next"), advice.next);
        }
    }
}

/// How full a disk is; in colour and in words where that is over the threshold.
fn fullness(disk: &DiskStatus, thresholds: &Thresholds) -> Cell {
    let (used, all) = (disk.used.exact(), disk.used.plus(disk.free).exact());
    let told = bar(used, all);
    if all > 0 && thresholds.too_full.exceeded_by(used, all) {
        Cell::from((format!("{told}, too full"), style::WATCH))
    } else {
        Cell::from((told, style::FAINT))
    }
}

/// How full something is, in ten steps.
fn bar(used: u64, total: u64) -> String {
    if total == 0 {
        return String::new();
    }
    let steps = usize::try_from(u128::from(used) * 10 / u128::from(total)).unwrap_or(10).min(10);
    let percent = u128::from(used) * 100 / u128::from(total);
    format!("{}{} {percent} %", "█".repeat(steps), "░".repeat(10 - steps))
}

fn guard(status: &Status) {
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
    if let Some(since) = status.unguarded_since.filter(|_| !status.unguarded.is_empty()) {
        let ago = time::ago(since, status.now);
        crate::say!("    {} the oldest of these came or changed {ago}", style::paint(style::BAD, "↳"));
    }
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

/// What is on a cache, and what of it is at stake.
fn cache(cache: &CacheStatus, now: i64) {
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

fn limits(status: &Status) {
    for limited in &status.limits {
        let (volume, used, limit) = (&limited.volume, size(limited.used), size(limited.limit));
        let text = format!("Volume {volume} holds {used} of the {limit} that it may hold.");
        let colour = if limited.used > limited.limit { style::BAD } else { style::FAINT };
        crate::say!("\n{}", style::paint(colour, text));
    }
}

/// What needs somebody, besides disks.
fn troubles(status: &Status) {
    if status.damaged_cells > 0 {
        crate::say!(
            "\n{}",
            style::paint(
                style::BAD,
                format!(
                    "Damage is known in {}: `zinc-sieve verify` names it.",
                    so_many(status.damaged_cells, "place")
                )
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
    for conflict in status.conflicts.iter().take(FEW) {
        let disks = conflict.disks.join(" and ");
        crate::say!(
            "\n{} {} lies on {disks}: both stay, one should be renamed",
            style::paint(style::WATCH, "conflict:"),
            conflict.path
        );
    }
}

fn proven(status: &Status) {
    if !status.proven.is_empty() {
        style::heading("Proven by a drill");
    }
    let most = if crate::output::is_verbose() { usize::MAX } else { FEW };
    for proof in status.proven.iter().take(most) {
        crate::say!("  {}", crate::commands::foresee::drill::proof_words(proof, status.now));
    }
    if status.proven.len() > most {
        crate::say!("  and {} more: --verbose", status.proven.len() - most);
    }
}
