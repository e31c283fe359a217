//! Consent: a question on a terminal, or `--yes`.

use std::io::{BufRead, IsTerminal, Write};

use sieve_store::{Error, Kind, Result};

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
        anstream::eprintln!("Nothing was done.");
    }
    Ok(yes)
}
