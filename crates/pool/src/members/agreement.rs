//! The pool file beside what was built: names that were changed in it are followed, and what contradicts is refused.
//!
//! Called whenever a pool is opened, and again under the locks of a writer. A reader follows new names for itself; who has
//! both locks, so that nobody is at work under the old ones, makes them those of catalogue and labels.

use sieve_core::pool::{DiskSpec, PoolSpec, parse};
use sieve_disk::machine::Machine;
use std::path::Path;
use std::sync::Arc;

use sieve_core::pool::VolumeSpec;
use sieve_core::pool::agreement::{self, Agreement, BuiltVolume};
use uuid::Uuid;

use crate::check::small_parities;
use crate::journal::{Did, Entry};
use crate::member::{Member, recognise};
use crate::pool::Pool;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Label;
use sieve_catalogue::pool_file;
use sieve_catalogue::{Identity, disks, mark_changed, set_name, volumes};
use sieve_disk::{Error, Kind, Result};

/// Compares the pool file with what was built.
///
/// Opens the pool of a file for reading: what there is, held against what the file says. Nothing is changed (L3), and what
/// was begun and not finished is left to whoever takes [`Pool::lock_long`] or [`Pool::lock_short`].
///
/// # Errors
/// When the pool was never created, its catalogue is older than, or at odds with, what its disks say, or the file contradicts
/// what was built.
pub fn open(machine: Arc<dyn Machine>, file: &Path, spec: PoolSpec) -> Result<Pool> {
    let mut pool = Pool::open(machine, file, spec)?;
    read_ahead(&mut pool)?;
    let agreement = compare(&pool)?;
    let told = notes(&pool, &agreement);
    pool.notes.extend(told);
    follow(&mut pool, &agreement)?;
    let fuller = pool.members.iter().map(|member| fuller_than_said(&pool, member));
    let fuller: Vec<_> = fuller.collect::<Result<_>>()?;
    pool.notes.extend(fuller.into_iter().flatten());
    pool.differs = differences(&pool, &agreement);
    pool.notes.extend(pool.differs.clone());
    Ok(pool)
}

/// A change that was committed, and cut off before its lines were in the pool file, has happened: a reader takes the file as
/// it is going to be, or it would look for a disk where that is no member any more. Who writes next finishes it.
fn read_ahead(pool: &mut Pool) -> Result<()> {
    let mut edits = Vec::new();
    for (_, intent) in intents::all(pool.catalogue.reading())? {
        if let Intent::EditPoolFile { edits: more } = intent {
            edits.extend(more);
        }
    }
    if edits.is_empty() {
        return Ok(());
    }
    // A file that its owner changed meanwhile so that they do not fit is taken as it is.
    let text = std::fs::read_to_string(&pool.file).map_err(|e| Error::io("pool-file.read", &pool.file, e))?;
    let Some(spec) = pool_file::changed(&text, &edits).ok().and_then(|text| parse(&text).spec) else {
        return Ok(());
    };
    let rows = disks::all(pool.catalogue.reading())?;
    pool.members = recognise(&*pool.machine, &pool.catalogue, pool.identity.pool, rows, &spec.disks)?;
    pool.spec = spec;
    Ok(())
}

/// The pool file has to speak of what was built (L2: also after the question); its names become those of the pool.
/// Whether there were new ones.
///
/// # Errors
/// When it contradicts, or has new names while another command is at work under the old ones.
pub fn agree(pool: &mut Pool, is_alone: bool) -> Result<bool> {
    let agreement = compare(pool)?;
    if is_alone {
        settle(pool, &agreement)?;
        return Ok(agreement.has_renames());
    }
    if !agreement.has_renames() {
        return Ok(false);
    }
    let message =
        format!("{} has new names, and another command is at work under the old ones", pool.file.display());
    Err(Error::new(Kind::Safety, "pool.renamed", message).remedy("run this again when it is done"))
}

/// # Errors
/// What contradicts, with what to type about it; what the database says.
fn compare(pool: &Pool) -> Result<Agreement> {
    // A change of members writes the file and the catalogue one after the other; who recovers it brings them together.
    let is_changing = |intent: &Intent| {
        matches!(intent, Intent::EditPoolFile { .. } | Intent::Join { .. } | Intent::Leave { .. })
    };
    if intents::all(pool.catalogue.reading())?.iter().any(|(_, intent)| is_changing(intent)) {
        return Ok(Agreement::default());
    }
    let agreement = agreement::compare(&pool.spec, &built(pool)?, |built, said| is_same(pool, built, said));
    if agreement.contradictions.is_empty() {
        return Ok(agreement);
    }
    let told: Vec<String> = agreement.contradictions.iter().map(ToString::to_string).collect();
    let advice: Vec<String> = agreement.contradictions.iter().map(agreement::Contradiction::advice).collect();
    let message = format!("{}: {}; nothing was done", pool.file.display(), told.join("; "));
    Err(Error::new(Kind::Safety, "pool.differs", message).remedy(advice.join("; ")))
}

fn built(pool: &Pool) -> Result<Vec<BuiltVolume>> {
    let kinds = volumes::kinds(pool.catalogue.reading())?;
    let mut built: Vec<BuiltVolume> = Vec::new();
    for member in &pool.members {
        let place = (member.row.name.clone(), member.row.role);
        match built.iter_mut().find(|volume| volume.name == member.row.volume) {
            Some(volume) => volume.members.push(place),
            None => built.push(BuiltVolume {
                name: member.row.volume.clone(),
                kind: kinds.get(&member.row.volume).copied(),
                members: vec![place],
            }),
        }
    }
    Ok(built)
}

/// Whether the disk that the file calls `said` has the label of the member `built`.
fn is_same(pool: &Pool, built: &str, said: &str) -> bool {
    let Some(path) = pool.spec.disk(said).and_then(|spec| spec.path.as_deref()) else { return false };
    let Ok(disk) = pool.machine.open_disk(Path::new(path)) else { return false };
    let Ok(Some(label)) = label::read(&*disk) else { return false };
    pool.members.iter().any(|member| member.row.name == built && member.row.uuid == label.disk)
}

/// What a reader is told.
fn notes(pool: &Pool, agreement: &Agreement) -> Vec<String> {
    let renamed = |what: &str, (old, new): &(String, String)| {
        format!(
            "the pool file calls {what} {old} {new} now: it is the same one, and the next command that writes renames it everywhere"
        )
    };
    let mut notes: Vec<String> =
        agreement.renamed_volumes.iter().map(|names| renamed("volume", names)).collect();
    notes.extend(agreement.renamed_disks.iter().map(|names| renamed("disk", names)));
    if pool.identity.name != pool.spec.name {
        notes.push(renamed("pool", &(pool.identity.name.clone(), pool.spec.name.clone())));
    }
    notes
}

/// A disk that holds more than the pool file lets it.
fn fuller_than_said(pool: &Pool, member: &Member) -> Result<Option<String>> {
    let said = member.spec.as_ref().and_then(|spec| spec.capacity);
    let (Some(said), Some(filesystem)) = (said, &member.filesystem) else { return Ok(None) };
    // What our files take is asked of the catalogue only where it can be more: that costs a look at each of them.
    if filesystem.total.minus(filesystem.available) <= said {
        return Ok(None);
    }
    let used = member.used_bytes(&pool.catalogue)?;
    let name = &member.row.name;
    Ok((used > said).then(|| {
        format!("{name} holds {used}, and the pool file lets it have {said}: nothing more is put there")
    }))
}

/// What the pool file says and is not so: it is no pool in which all is well, though nothing contradicts.
fn differences(pool: &Pool, agreement: &Agreement) -> Vec<String> {
    let not_built = agreement.not_built.iter().map(|volume| {
        format!("volume {volume} of the pool file is not built, nothing of it is looked at or guarded: zinc-sieve create")
    });
    let not_joined = agreement.not_joined.iter().map(|(disk, volume, role)| {
        format!("{disk} is no member of {volume} yet: zinc-sieve grow {disk} --as {role} --volume {volume}")
    });
    let size = |name: &str| pool.member_named(name).ok()?.usable_bytes();
    let small = pool.spec.volumes.iter().flat_map(|volume| small_parities(volume, size));
    let not_mounted = folders_as_disks(pool);
    not_built.chain(not_joined).chain(small.map(|mistake| mistake.message)).chain(not_mounted).collect()
}

/// Members that are no disk of their own, which the pool file does not say.
fn folders_as_disks(pool: &Pool) -> Option<String> {
    let is_meant = |spec: &DiskSpec| spec.simulated || spec.shares_filesystem;
    let folders = pool.members.iter().filter(|member| {
        member.filesystem.as_ref().is_some_and(|filesystem| !filesystem.is_mount_point)
            && !member.spec.as_ref().is_some_and(is_meant)
    });
    let names: Vec<&str> = folders.map(|member| member.row.name.as_str()).collect();
    (!names.is_empty()).then(|| {
        format!(
            "nothing is mounted where {} should be: a folder on the filesystem around it; shares_filesystem = true if it is meant",
            names.join(", ")
        )
    })
}

/// Takes the new names into the catalogue (a reader: into what it keeps for itself), and recognises the members by them.
///
/// # Errors
/// What the database says.
fn follow(pool: &mut Pool, agreement: &Agreement) -> Result<()> {
    if !agreement.has_renames() {
        return Ok(());
    }
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        agreement.renamed_volumes.iter().try_for_each(|(old, new)| volumes::rename(t, old, new))?;
        agreement.renamed_disks.iter().try_for_each(|(old, new)| disks::rename(t, old, new))
    })?;
    let rows = disks::all(pool.catalogue.reading())?;
    pool.members = recognise(&*pool.machine, &pool.catalogue, pool.identity.pool, rows, &pool.spec.disks)?;
    Ok(())
}

/// Makes the names of the pool file those of catalogue and labels, and gives volumes that have none their id. Only under
/// both locks: another writer goes by the names that it has read.
///
/// # Crash safety
/// The catalogue comes first. A label says an old name until it is written again, by the next one who comes here: it is
/// recognised by its ids.
///
/// # Errors
/// What a disk or the database says.
fn settle(pool: &mut Pool, agreement: &Agreement) -> Result<()> {
    follow(pool, agreement)?;
    if pool.identity.name != pool.spec.name {
        pool.catalogue.transaction(|t| {
            mark_changed(t)?;
            set_name(t, &pool.spec.name)
        })?;
        pool.identity = Identity { name: pool.spec.name.clone(), ..pool.identity.clone() };
    }
    identify_volumes(pool)?;
    if agreement.has_renames() {
        let names = (&agreement.renamed_volumes, &agreement.renamed_disks);
        let said: Vec<String> =
            names.0.iter().chain(names.1).map(|(old, new)| format!("{old} is {new} now")).collect();
        pool.tell(Entry { said: Some(said.join(", ")), ..Entry::new(Did::Renamed).detail(&names)? })?;
    }
    labels_follow(pool)
}

/// Gives volumes of before ids theirs. Where a label has one already, the catalogue is of before it was written there, and takes
/// that: two ids of one volume would make strangers of its disks.
fn identify_volumes(pool: &mut Pool) -> Result<()> {
    let is_without = |volume: &VolumeSpec| {
        pool.members.iter().any(|m| m.row.volume == volume.name && m.row.volume_id.is_none())
    };
    let mut found = Vec::new();
    for volume in pool.volumes().into_iter().filter(is_without) {
        let mut id = None;
        for member in pool.members.iter().filter(|member| member.row.volume == volume.name) {
            let Ok(disk) = member.usable() else { continue };
            id = id.or(label::read(&**disk)?.and_then(|label| label.volume_id));
        }
        found.push((volume, id.unwrap_or_else(Uuid::new_v4)));
    }
    if found.is_empty() {
        return Ok(());
    }
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        found.iter().try_for_each(|(volume, id)| volumes::identify(t, &volume.name, *id, volume.kind))
    })?;
    pool.refresh_rows()
}

/// A label that says something older than the catalogue is written again. On a full disk it stays as it is: it is recognised all
/// the same, and who wants to make room must not be kept from it.
fn labels_follow(pool: &Pool) -> Result<()> {
    for member in &pool.members {
        let Ok(disk) = member.writable() else { continue };
        let Some(found) = label::read(&**disk)? else { continue };
        let wanted: Label = member.row.label(&pool.identity, found.filesystem.clone());
        if wanted == found {
            continue;
        }
        match label::write(&**disk, &wanted) {
            Err(error) if error.io_kind() == Some(std::io::ErrorKind::StorageFull) => {}
            other => other?,
        }
    }
    Ok(())
}
