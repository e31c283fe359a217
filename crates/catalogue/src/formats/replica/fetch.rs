//! Reading a replica from a disk.

use std::sync::Arc;

use sieve_core::path::RelPath;
use sieve_disk::machine::Machine;
use sieve_disk::{Disk, Error, Kind, RealDisk, Result, WriteFile, copying, full_path};

use super::chain::{Chain, Stamp, chains, parts_on};
use super::changes::{self, State, hash_of};
use crate::parity_state::{self, Checkpoint};
use crate::{Catalogue, intents, private_folder, schema};

/// Where SQLite says how large the pages of a database are ("The Database File Format", 1.3; 1 stands for 65,536).
const PAGE_SIZE: u64 = 16;

/// Brings the replica on a disk to a private folder, and opens it.
///
/// What is under way is never taken from a disk's word (L4): intents in a replica are dropped.
///
/// # Errors
/// When it cannot be copied, or is damaged, or is not what its name says.
pub fn fetch_private(disk: &dyn Disk, stamp: Stamp, machine: Arc<dyn Machine>) -> Result<Catalogue> {
    let chain = chains(&parts_on(disk)?).into_iter().rev().find_map(|chain| chain.up_to(stamp));
    let chain = chain.ok_or_else(|| {
        let message =
            format!("{}: there is no replica of checkpoint {}", disk.root().display(), stamp.number);
        Error::new(Kind::Corrupt, "replica.none", message)
    })?;
    let place = full_path(disk, &chain.0[0].path());
    let folder = private_folder()?;
    let path = RelPath::fixed("replica.sqlite");
    put_together(disk, &chain, &RealDisk::open(folder.path())?, &path)?;
    let catalogue = Catalogue::open_private(folder, "replica.sqlite", machine).map_err(|mut error| {
        error.message = format!("{}: {}", place.display(), error.message);
        error
    })?;
    catalogue.check_integrity()?;
    let head = parity_state::head(catalogue.reading())?;
    if head.is_none_or(|h: Checkpoint| h.id != stamp.id || h.number != stamp.number) {
        let message =
            format!("{}: this replica is not of the checkpoint that its name says", place.display());
        return Err(Error::new(Kind::Corrupt, "replica.wrong-name", message));
    }
    catalogue.transaction(|t| {
        schema::make_derived_anew(t)?;
        intents::remove_where(t, |_| true)
    })?;
    Ok(catalogue)
}

/// Copies the whole part of a chain, and applies the changes that follow it.
fn put_together(disk: &dyn Disk, chain: &Chain, to: &dyn Disk, path: &RelPath) -> Result<()> {
    let mut copy = to.modify(path)?;
    copy.set_length(0)?;
    copying::copy(&mut *disk.open(&chain.0[0].path())?, &mut *copy, |_| Ok(()))?;
    let mut last = None;
    for (before, part) in chain.0.iter().zip(&chain.0[1..]) {
        let pages = pages_of(&mut *copy)?;
        let mut file = disk.open(&part.path())?;
        let applied = changes::apply(&mut *file, &mut *copy, (before.stamp, part.stamp), pages);
        let place = full_path(disk, &part.path());
        let header = applied.map_err(|mut error| {
            error.message = format!("{}: {}", place.display(), error.message);
            error
        })?;
        last = Some((header.state, place));
    }
    if let Some((state, place)) = last
        && state_of(&mut *copy)? != state
    {
        let message =
            format!("{}: what it follows is damaged, or is not what it was made for", place.display());
        return Err(Error::new(Kind::Corrupt, "replica.damaged", message));
    }
    copy.sync()
}

/// The size of the pages of a database, and their number.
fn pages_of(copy: &mut dyn WriteFile) -> Result<(u32, u32)> {
    let mut bytes = [0; 2];
    let read = copy.read_at(&mut bytes, PAGE_SIZE)?;
    let size = match u32::from(u16::from_be_bytes(bytes)) {
        1 => 65_536,
        size => size,
    };
    let length = copy.stat()?.size.exact();
    let is_one =
        read == bytes.len() && size.is_power_of_two() && size >= 512 && length.is_multiple_of(size.into());
    let count = is_one.then(|| u32::try_from(length / u64::from(size)).ok()).flatten();
    count.map(|count| (size, count)).ok_or_else(|| changes::damaged("what it follows is no database"))
}

fn state_of(copy: &mut dyn WriteFile) -> Result<[u8; 32]> {
    let (size, count) = pages_of(copy)?;
    let mut page = vec![0; size as usize];
    let mut state = State::default();
    for number in 0..count {
        copy.read_at(&mut page, u64::from(number) * u64::from(size))?;
        state.add(&hash_of(&page));
    }
    Ok(state.finish())
}
