//! What follows a commit: the replicas on the members, and the lines of the pool file.

use sieve_core::pool::parse;
use sieve_core::units::DiskId;

use crate::checkpoint::{advance, note_pool_file};
use crate::member::{Member, recognise};
use crate::pool::Pool;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label::Role;
use sieve_catalogue::pool_file;
use sieve_catalogue::pool_file::Edit;
use sieve_catalogue::replica::{self, Export};
use sieve_catalogue::{disks, mark_changed, versions};
use sieve_disk::{Disk, Error, Kind, Result};

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
    let too_full = put_replicas(pool, pool.members.iter().filter(|m| m.state.is_usable()))?;
    Ok(too_full
        .into_iter()
        .map(|name| format!("{name} is too full for a replica of the catalogue"))
        .collect())
}

/// Brings the replicas on these members up to the catalogue, on all of them at once. Tells which data disks and caches,
/// that other people fill as well, have no room for it; parity drives always have to.
///
/// # Errors
/// What a disk or the database says.
pub fn put_replicas<'a>(pool: &Pool, members: impl IntoIterator<Item = &'a Member>) -> Result<Vec<String>> {
    let members: Vec<&Member> = members.into_iter().collect();
    let disks = members.iter().map(|member| member.writable().map(|disk| (&**disk, member.row.id)));
    let disks: Vec<(&dyn Disk, DiskId)> = disks.collect::<Result<_>>()?;
    if disks.is_empty() {
        return Ok(Vec::new());
    }
    let answers = Export::take(&pool.catalogue)?.put_on(&disks, &pool.catalogue)?;
    let mut too_full = Vec::new();
    for (member, answer) in members.into_iter().zip(answers) {
        if member.row.role == Role::Parity {
            answer?;
        } else if !replica::fits(answer)? {
            too_full.push(member.row.name.clone());
        }
    }
    Ok(too_full)
}

/// As [`put_replicas`], where every member has to have one.
///
/// # Errors
/// When one has no room for it, and as there.
pub fn put_all_replicas<'a>(pool: &Pool, members: impl IntoIterator<Item = &'a Member>) -> Result<()> {
    put_replicas(pool, members)?.first().map_or(Ok(()), |name| {
        let message = format!("{name} is too full for a replica of the catalogue");
        Err(Error::new(Kind::Io, "replica.too-full", message).remedy("make room on it, and run this again"))
    })
}
