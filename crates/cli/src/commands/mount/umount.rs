//! `umount`: the end of a mounted volume.

use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

use sieve_disk::{Error, Kind, Result};
use sieve_mount::{record, serving};

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::{json, load};

/// What was unmounted.
#[derive(Serialize, JsonSchema)]
struct Unmounted<'a> {
    unmounted: &'a record::Mounted,
}
json::named!("umount", Unmounted<'_>);

pub(crate) fn run(context: &Context, at: &Path) -> Result<Outcome> {
    // Not by what is there: what a dead process left cannot be looked at.
    let at = std::path::absolute(at).map_err(|e| Error::io("umount", at, e))?;
    let pool = load::pool(&context.pool)?;
    let all = record::all(&*pool.home)?;
    let is_there = |answer: &&record::Answer| {
        answer.mounted.at == at || at.canonicalize().is_ok_and(|at| answer.mounted.at == at)
    };
    let Some(answer) = all.iter().find(is_there) else {
        let message = format!("no volume of this pool is mounted on {}", at.display());
        return Err(Error::new(Kind::Usage, "umount.none", message).remedy("zinc-sieve mount --status"));
    };
    serving::end(&answer.mounted.at, answer.mounted.process)?;
    if context.json {
        json::print(&Unmounted { unmounted: &answer.mounted })?;
    }
    Ok(Outcome::Fine)
}
