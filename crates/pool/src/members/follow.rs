//! What follows a commit: the replicas on the members, and the lines of the pool file.

use sieve_core::pool::parse;

use crate::checkpoint::{advance, note_pool_file};
use crate::member::recognise;
use crate::pool::Pool;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::pool_file;
use sieve_catalogue::pool_file::Edit;
use sieve_catalogue::replica::Export;
use sieve_catalogue::{disks, mark_changed, versions};
use sieve_disk::{Error, Kind, Result};

/// Makes changes in the pool file, and takes up what it says then.
pub fn edit_pool_file(pool: &mut Pool, edits: &[Edit]) -> Result<()> {
    pool_file::apply(&*pool.home, &pool.file, edits)?;
    let text = std::fs::read_to_string(&pool.file).map_err(|e| Error::io("pool-file.read", &pool.file, e))?;
    pool.spec = parse(&text).spec.ok_or_else(|| {
        let message = format!("{}: it has mistakes now", pool.file.display());
        Error::new(Kind::Conflict, "pool-file.mistakes", message).remedy("zinc-sieve check shows them")
    })?;
    let rows = disks::all(pool.catalogue.reading())?;
    pool.members = recognise(&*pool.machine, &pool.catalogue, pool.identity.pool, rows, &pool.spec.disks)?;
    Ok(())
}

/// Takes away the intents that `is_done` names.
pub fn forget_intents(pool: &Pool, is_done: impl Fn(&Intent) -> bool) -> Result<()> {
    pool.catalogue.transaction(|t| intents::remove_where(t, is_done))
}

/// Who belongs to the pool changed: a checkpoint of its own, and a replica on every member.
pub fn tell_all_members(pool: &mut Pool) -> Result<()> {
    let too_full = replicas_follow(pool)?;
    pool.notes.extend(too_full);
    pool.refresh_rows()
}

/// A checkpoint of its own, and a replica on every member that is there: from then on they know what has no rows (empty
/// files, symlinks, folders, files of holes), which nothing else guards. Tells which members are too full, in words.
pub fn replicas_follow(pool: &Pool) -> Result<Vec<String>> {
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        note_pool_file(t, pool)?;
        versions::record_without_data(t)?;
        advance(t, &*pool.machine).map(|_| ())
    })?;
    let export = Export::take(&pool.catalogue)?;
    let mut too_full = Vec::new();
    for member in pool.members.iter().filter(|m| m.state.is_usable()) {
        if !export.put_where_it_fits(&**member.writable()?, member.row.id, &pool.catalogue)? {
            too_full.push(format!("{} is too full for a replica of the catalogue", member.row.name));
        }
    }
    Ok(too_full)
}
