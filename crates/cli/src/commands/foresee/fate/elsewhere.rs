//! What of that which does not come back is on the machines that the pool file names.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_disk::Result;
use sieve_foresight::{KeptTotals, Others, Outlook, Unread};

use super::question::Question;
use super::summary::for_each_in_folder;
use crate::commands::context::Context;
use crate::human::{size, style, units};

/// What of it is elsewhere.
#[derive(Serialize, JsonSchema)]
pub(super) struct Elsewhere {
    /// Of all files that do not come back as they are.
    totals: KeptTotals,
    /// Machines whose listings are old.
    stale: Vec<String>,
    /// Machines whose listings cannot be read.
    unread: Vec<Unread>,
}

/// Looks for what does not come back; nothing where the pool file names no other machine.
pub(super) fn of_lost(
    context: &Context,
    outlook: &dyn Outlook,
    question: &Question<'_>,
) -> Result<Option<Elsewhere>> {
    let others = Others::read(outlook.spec(), &context.pool, crate::machine::real().now());
    if others.is_empty() {
        return Ok(None);
    }
    let mut totals = KeptTotals::default();
    for_each_in_folder(outlook, question, &mut |file| {
        if !file.fate.is_whole() {
            totals.0.entry(others.find(outlook, &file)?.0).or_default().add(file.size_bytes);
        }
        Ok(())
    })?;
    let stale = others.stale().map(str::to_string).collect();
    Ok(Some(Elsewhere { totals, stale, unread: others.unread }))
}

impl Elsewhere {
    pub(super) fn show(&self) {
        let (all, gone) = (self.totals.all(), self.totals.only_here());
        if all.files > 0 {
            let there = self.totals.elsewhere();
            let kept = format!("{}, {}", units::files(there.files), size(there.bytes));
            let lost = format!("{}, {}", units::files(gone.files), size(gone.bytes));
            let lost = style::paint(if gone.files > 0 { style::BAD } else { style::WELL }, lost);
            crate::say!(
                "\nOf that, other machines have {kept}; lost for good: {lost}. (zinc-sieve elsewhere)"
            );
        }
        for name in &self.stale {
            crate::say!("  the listing of {name} is old: a new one may say otherwise");
        }
        for unread in &self.unread {
            crate::say!("  the listing of {} is not there: {}", unread.name, unread.why);
        }
    }
}
