//! Consent: a question on a terminal, or `--yes`. A plan ends with the question (L2): what is done afterwards is planned
//! again under the locks, and shown again where it is something else by then.

use std::io::{BufRead, IsTerminal, Write};

use serde::Serialize;
use serde_json::Value;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use crate::args::Consent;

/// Whether to go on after the plan was shown.
///
/// # Errors
/// Without a terminal and without `--yes`.
pub(crate) fn go_on(consent: Consent, question: &str) -> Result<bool> {
    if consent.dry_run {
        return Ok(false);
    }
    if consent.yes {
        return Ok(true);
    }
    if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
        return Err(Error::new(Kind::Usage, "consent.missing", "nobody is there to ask; nothing was done")
            .remedy("look at the plan with --dry-run, then add --yes"));
    }
    let mut err = std::io::stderr();
    let mut answer = String::new();
    let asked = write!(err, "{question} [y/N] ").and_then(|()| err.flush());
    asked.and_then(|()| std::io::stdin().lock().read_line(&mut answer)).map_err(|e| {
        Error::new(Kind::Usage, "consent.missing", format!("the question could not be asked: {e}"))
    })?;
    let yes = matches!(answer.trim().to_ascii_lowercase().as_str(), "y" | "yes");
    if !yes {
        crate::say_aside!("Nothing was done.");
    }
    Ok(yes)
}

/// Which lock a work needs.
#[derive(Clone, Copy)]
pub(crate) enum Work<'a> {
    /// One at a time: its name tells others who is at work.
    Long(&'a str),
    /// The same, without the members that are lost.
    Without(&'a str, &'a [String]),
    /// Short ones take turns.
    Short,
    /// Nothing of the pool is written.
    Outside,
}

impl Work<'_> {
    /// Takes the locks; what was begun before is finished, and what was known is looked at again.
    ///
    /// # Errors
    /// When somebody else is at work.
    pub(crate) fn begin(self, pool: &mut Pool) -> Result<()> {
        match self {
            Self::Long(what) => sieve_actions::begin_long(pool, what),
            Self::Without(what, lost) => {
                let is_lost = |name: &str| lost.iter().any(|lost| lost == name);
                let lost: Vec<_> =
                    pool.members.iter().filter(|m| is_lost(&m.row.name)).map(|m| m.row.id).collect();
                sieve_actions::begin_long_without(pool, what, &lost)
            }
            Self::Short => sieve_actions::begin_short(pool),
            Self::Outside => Ok(()),
        }
    }
}

/// A plan, and whether it is to be carried out.
pub(crate) enum Agreed<P> {
    /// It was only to be shown, or the answer was no.
    No(P),
    /// The pool is locked, and this is planned as it is now.
    Yes(P),
}

/// What somebody is asked for.
pub(crate) struct Question<'a> {
    pub(crate) consent: Consent,
    pub(crate) work: Work<'a>,
    pub(crate) words: &'a str,
}

/// Plans, shows, asks, and plans again under the locks.
///
/// With `--yes` the locks come first, and what is right then is done. `essence` is what matters of a plan: if that is
/// another one after the answer, the plan is shown again, and the question asked again. Where `asks` says that nothing is to
/// be asked, what is left to do is done without.
///
/// # Errors
/// Those of planning; when somebody else is at work, or nobody is there to ask.
pub(crate) fn agree<P>(
    pool: &mut Pool,
    question: &Question<'_>,
    mut plan: impl FnMut(&Pool) -> Result<P>,
    mut show: impl FnMut(&Pool, &P),
    essence: impl Fn(&P) -> Value,
    asks: impl Fn(&P) -> bool,
) -> Result<Agreed<P>> {
    // Who asks for both wants to see it only.
    if question.consent.yes && !question.consent.dry_run {
        question.work.begin(pool)?;
        let now = plan(pool)?;
        show(pool, &now);
        return Ok(Agreed::Yes(now));
    }
    let mut shown = plan(pool)?;
    show(pool, &shown);
    loop {
        if (asks(&shown) || question.consent.dry_run) && !go_on(question.consent, question.words)? {
            return Ok(Agreed::No(shown));
        }
        question.work.begin(pool)?;
        let now = plan(pool)?;
        if essence(&now) == essence(&shown) {
            return Ok(Agreed::Yes(now));
        }
        pool.end();
        crate::say!("\nMeanwhile something changed. As it is now:\n");
        show(pool, &now);
        shown = now;
    }
}

/// What matters of a plan that can be printed: not how long it takes, nor what happens to be free.
pub(crate) fn essence_of<P: Serialize>(plan: &P) -> Value {
    let mut value = serde_json::to_value(plan).unwrap_or_default();
    strip(&mut value);
    value
}

/// Keys that change with the time or the load of the machine alone.
const PASSING: [&str; 7] = [
    "forecast",
    "begun_at",
    "free_bytes",
    "free_after_bytes",
    "free_after_sync_bytes",
    "usable_bytes",
    "replicas_behind",
];

fn strip(value: &mut Value) {
    match value {
        Value::Object(map) => {
            map.retain(|key, _| !PASSING.contains(&key.as_str()));
            map.values_mut().for_each(strip);
        }
        Value::Array(list) => list.iter_mut().for_each(strip),
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that fails says where")]

    use super::*;

    /// A key that is renamed would count all of a sudden: a plan would differ by what only passes, and be asked for ever.
    #[test]
    fn what_passes_is_a_key_of_some_plan() {
        let names = crate::json::names();
        let plans = names.iter().filter(|name| name.ends_with("-plan") || **name == "create");
        let forms: String = plans.map(|name| crate::json::schema(name).unwrap().to_string()).collect();
        for key in PASSING {
            assert!(forms.contains(&format!("\"{key}\":")), "no plan has a key {key}");
        }
    }

    #[test]
    fn what_passes_is_no_part_of_the_essence() {
        let plan = serde_json::json!({ "caches": [{ "disk": "flint", "free_bytes": 5 }], "forecast": 7 });
        assert_eq!(essence_of(&plan), serde_json::json!({ "caches": [{ "disk": "flint" }] }));
    }
}
