//! Checksumming what is new or doubtful, before its rows are computed.

use rusqlite::Connection;
use sieve_catalogue::contents::{self, Files};
use sieve_core::checksum::ContentSum;
use sieve_core::fate::Standing;
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{DiskId, ObjectId};

use super::report::{Options, SyncReport};
use sieve_catalogue::held_files;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{parity_state, versions};
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::{Disk, full_path};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
pub(super) use sieve_pool::scan::doubts::{Reading, holes_allow, read_object};

/// So many files are recorded at once.
const BATCH: usize = 256;

pub(super) fn checksum_new(
    pool: &Pool,
    volume: &VolumeSpec,
    options: &Options,
    observer: &dyn Observer,
    report: &mut SyncReport,
) -> Result<()> {
    for member in pool.members_of(&volume.name, Role::Data).filter(|m| options.includes(&m.row.name)) {
        let ids = contents::files(pool.catalogue.reading(), member.row.id, Files::ReadFirst)?;
        checksum_objects(pool, member, &ids, options, observer, report)?;
    }
    Ok(())
}

/// Reads objects and records what their content is.
pub(super) fn checksum_objects(
    pool: &Pool,
    member: &Member,
    ids: &[ObjectId],
    options: &Options,
    observer: &dyn Observer,
    report: &mut SyncReport,
) -> Result<()> {
    {
        let disk = member.usable()?;
        let accepted = options.accept.contains(&member.row.name);
        let total = ids.len() as u64;
        if total == 0 {
            return Ok(());
        }
        observer.event(Event::Stage { name: "checksumming", total, unit: Unit::Files });
        for batch in ids.chunks(BATCH) {
            let mut results = Vec::new();
            for id in batch {
                let Some(object) = objects::get(pool.catalogue.reading(), *id)? else { continue };
                let Some(path) = objects::names(pool.catalogue.reading(), *id)?.into_iter().next() else {
                    continue;
                };
                match read_object(pool, &**disk, &object, &path, observer) {
                    // What was read before it was asked to stop is kept.
                    Err(error) if error.is_stop() => {
                        report.stopped = true;
                        break;
                    }
                    reading => results.push((object, path, reading?)),
                }
                observer.event(Event::Advanced { by: 1 });
            }
            record(pool, member, &**disk, results, accepted, report)?;
            if report.stopped {
                break;
            }
        }
    }
    Ok(())
}

fn record(
    pool: &Pool,
    member: &Member,
    disk: &dyn Disk,
    results: Vec<(ObjectRow, RelPath, Reading)>,
    accepted: bool,
    report: &mut SyncReport,
) -> Result<()> {
    pool.catalogue.transaction(|t| {
        for (object, path, reading) in results {
            let place = full_path(disk, &path).display().to_string();
            match reading {
                Reading::Unsteady => report.left_for_next.push(place),
                Reading::Failed(error) => report.unreadable.push(error.to_string()),
                Reading::Done(sum, data) => {
                    report.files_checksummed += 1;
                    let suspect = settle_standing(t, member.row.id, &object, &path, &sum, &data, accepted)?;
                    if suspect {
                        report.suspect.push(place);
                    }
                }
            }
        }
        Ok(())
    })
}

/// Decides what an object that was read is: the known content, a new one, or a suspect. True for a suspect.
fn settle_standing(
    t: &Connection,
    disk: DiskId,
    object: &ObjectRow,
    path: &RelPath,
    sum: &ContentSum,
    data: &[Rows],
    accepted: bool,
) -> Result<bool> {
    let attributes = objects::attributes(t, object.id)?;
    let known = object.version.map(|known| versions::get(t, known)).transpose()?;
    if let Some(version) = known.filter(|version| !version.unfinished) {
        let known = version.id;
        if version.sum.whole == sum.whole && version.sum.size == sum.size && holes_allow(&version.data, data)
        {
            versions::set_attributes(t, known, &attributes)?;
            parity_state::clear_damaged_content(t, known)?;
            objects::set_version(t, object.id, Some(known), Standing::Same, object.older)?;
            return Ok(false);
        }
        // Nobody edits what is held; and an edit that leaves the times as they were is not told from damage.
        let unexplained = matches!(object.standing, Standing::Doubtful | Standing::Suspect)
            || path.is_held() && !held_files::was_edited_before(t, disk, path)?;
        if unexplained && !accepted {
            objects::set_version(t, object.id, Some(known), Standing::Suspect, object.older)?;
            return Ok(true);
        }
    }
    let older = contents::synced_content(t, object)?;
    let version = versions::insert(t, disk, sum, data, &attributes)?;
    objects::set_version(t, object.id, Some(version), Standing::Same, older)?;
    Ok(false)
}
