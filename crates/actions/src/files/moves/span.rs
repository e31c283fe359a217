//! A file that goes to the disks of a spanned volume in pieces.

use sieve_core::checksum::ContentSum;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};

use super::carry::{Stays, Task, check_before_naming, open_source};
use sieve_catalogue::relocation::Move;
use sieve_disk::Result;
use sieve_disk::copying::CHANGED;
use sieve_disk::event::Observer;
use sieve_pool::held::{IS_WRITTEN, Watch, Watcher};
use sieve_pool::pieces;
use sieve_pool::pieces::Plot;
use sieve_pool::pool::Pool;

/// Puts it down, and gives the pieces their names; hands back what watches the sources.
///
/// # Crash safety
/// As [`pieces::write`]: until all is recorded, the source is the file, and what there is of pieces is taken back.
pub(super) fn carry(
    pool: &Pool,
    task: &Task,
    shares: &[(DiskId, ByteLength)],
    observer: &dyn Observer,
) -> std::result::Result<Vec<Watch>, Stays> {
    let [name] = task.names.as_slice() else {
        return Err(Stays::Because("it has several names, and no disk has room for all of it".into()));
    };
    let mut source = open_source(task, &Watcher::new(&*pool.machine))?;
    let plot = |(target, share): (&super::carry::Target, &(DiskId, ByteLength))| Plot {
        member: target.id,
        disk: target.disk.clone(),
        temporary: target.temporary.clone(),
        length: share.1,
    };
    let plots: Vec<Plot> = task.targets.iter().zip(shares).map(plot).collect();
    let written = match pieces::write(source.file(), &task.attributes, name, &plots, observer) {
        Err(error) if error.code == CHANGED => return Err(Stays::Because(IS_WRITTEN.into())),
        other => other?,
    };
    check_before_naming(task, &source, written.whole())?;
    written.publish(pool)?;
    Ok(source.watched())
}

/// Whether the catalogue knows the pieces of a file that was on its way, all of them, with this content.
///
/// # Errors
/// What a disk or the database says.
pub(super) fn is_whole(
    pool: &Pool,
    file: &Move,
    name: &RelPath,
    expected: Option<&ContentSum>,
) -> Result<bool> {
    let Some(disk) = file.to.disks().first().copied() else { return Ok(false) };
    let volume = &pool.member(disk)?.row.volume;
    let known = pieces::files(pool, volume)?;
    Ok(known.iter().any(|known| known.path == *name && expected.is_some_and(|e| e.whole == known.whole)))
}
