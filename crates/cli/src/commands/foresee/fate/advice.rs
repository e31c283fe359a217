//! The last lines of `fate`: what would have to be done first, and what it would save.

use sieve_core::count::Totals;
use sieve_core::fate::Fate;
use sieve_disk::Result;
use sieve_foresight::{Outlook, Step};

use super::question::Question;
use super::summary::summarise;
use crate::human::{reason, size, style, units};

/// Works out what a sync, and one more parity drive, would save of this very loss.
pub(super) fn show(outlook: &mut dyn Outlook, question: &Question<'_>, now: &Totals) -> Result<()> {
    if now.all_survive() {
        return Ok(());
    }
    let missing: Vec<String> = outlook.missing().into_iter().map(|m| m.name).collect();
    if !missing.is_empty() {
        let names: Vec<&str> = missing.iter().map(String::as_str).collect();
        let command = format!("zinc-sieve rebuild {} --onto DIR", missing.join(" "));
        crate::say!("\n  Before anything else bring {} back: `{command}`", reason::listed(&names));
        return Ok(());
    }
    let mut best = *now;
    for (step, what) in
        [(Step::Sync, "`zinc-sieve sync` first"), (Step::AddParity, "one more parity drive, and a sync,")]
    {
        outlook.after(&step)?;
        outlook.lose(&question.lose, false)?;
        let then = summarise(outlook, question)?.totals;
        let (files, bytes) = not_back(&best);
        let (files_then, bytes_then) = not_back(&then);
        if files_then < files {
            crate::say!(
                "\n  {what} would save {}, {}",
                style::paint(style::WELL, units::files(files - files_then)),
                size(bytes.minus(bytes_then))
            );
            best = then;
        }
    }
    Ok(())
}

fn not_back(totals: &Totals) -> (u64, sieve_core::units::ByteLength) {
    let lost = [Fate::Older, Fate::Torn, Fate::Gone].map(|fate| totals.of(fate));
    (lost.iter().map(|count| count.files).sum(), lost.iter().map(|count| count.bytes).sum())
}
