//! Another name for a disk, a volume or the pool: in the pool file first, which labels and catalogue then follow.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::pool_file::{self, Edit, Named};
use sieve_core::suggest::unknown;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

/// What gets which name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RenamePlan {
    /// What.
    pub what: Named,
    /// Its name so far.
    pub old: String,
    /// Its new one.
    pub new: String,
}

impl RenamePlan {
    fn edit(&self) -> Edit {
        Edit::Rename { what: self.what, old: self.old.clone(), new: self.new.clone() }
    }
}

/// Looks at whether it can be done.
///
/// # Errors
/// When there is none of the old name, or one of the new name; when a disk is not there: by its label alone it is known to be
/// the same one under its new name.
pub fn plan(pool: &Pool, what: Named, old: &str, new: &str) -> Result<RenamePlan> {
    let (names, code): (Vec<&str>, &'static str) = match what {
        Named::Disk => (pool.members.iter().map(|member| member.row.name.as_str()).collect(), "rename.disk"),
        Named::Volume => {
            (pool.spec.volumes.iter().map(|volume| volume.name.as_str()).collect(), "rename.volume")
        }
        Named::Pool => (vec![pool.spec.name.as_str()], "rename.pool"),
    };
    if !names.contains(&old) {
        return Err(Error::new(Kind::NotFound, code, unknown(what.word(), old, names)));
    }
    let taken = match what {
        Named::Disk => pool.spec.disk(new).is_some(),
        Named::Volume => pool.spec.volume(new).is_some(),
        Named::Pool => false,
    };
    if taken || old == new {
        let message = format!("there is a {} `{new}` already", what.word());
        return Err(Error::new(Kind::Usage, code, message).remedy("choose another name"));
    }
    // A disk that is away is known under its old name when it comes back, and then nobody knows it.
    for member in &pool.members {
        let is_meant = what != Named::Disk || member.row.name == old;
        if is_meant && !member.state.is_usable() {
            return Err(member.refusal());
        }
    }
    let plan = RenamePlan { what, old: old.into(), new: new.into() };
    pool_file::rehearse(&pool.file, &[plan.edit()])?;
    Ok(plan)
}

/// Writes the new name into the pool file. Whoever opens the pool next makes it that of catalogue and labels, under both locks.
///
/// # Crash safety
/// The old pool file stays whole until the new one is durable; after that every command follows the new name.
///
/// # Errors
/// When the pool file cannot be written.
pub fn execute(pool: &Pool, plan: &RenamePlan) -> Result<()> {
    pool.expect_long()?;
    pool_file::apply(&*pool.home, &pool.file, &[plan.edit()])
}
