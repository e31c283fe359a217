//! How a pool is, in a sentence.

use sieve_core::count::Count;
use sieve_foresight::status::{Status, Verdict};

use crate::human::{size, style, units};

/// The answer, in a sentence without colours.
pub(crate) fn plain_verdict(status: &Status) -> String {
    anstream::adapter::strip_str(&verdict(status)).to_string()
}

/// The answer, in a sentence.
pub(super) fn verdict(status: &Status) -> String {
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

/// With a disk away: what the next one would cost.
pub(super) fn next_loss(status: &Status) -> Option<String> {
    if !status.has_disk_away() {
        return None;
    }
    let words = match &status.stakes.next_loss {
        Some(next) if next.cost.files > 0 => format!(
            "One more loss would cost {}, {} at worst ({}).",
            units::files(next.cost.files),
            size(next.cost.bytes),
            next.disk
        ),
        _ => "One more loss would cost nothing either.".to_string(),
    };
    Some(style::paint(style::BAD, words))
}
