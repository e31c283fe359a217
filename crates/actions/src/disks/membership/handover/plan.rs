//! Looking at both disks.

use std::path::PathBuf;

use crate::disks::membership::successor;
use crate::disks::membership::successor::About;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::pool_file;
use sieve_catalogue::pool_file::Edit;
use sieve_core::amounts::Amounts;
use sieve_core::count::{Count, so_many};
use sieve_core::forecast::Forecast;
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::copies::forecast_copies;
use sieve_pool::member::Member;
use sieve_pool::new_disk::NewDisk;
use sieve_pool::pool::Pool;
use uuid::Uuid;

/// Which disk, onto which.
#[derive(Clone, Debug)]
pub struct HandoverRequest {
    /// The disk.
    pub name: String,
    /// The folder of the new one.
    pub onto: PathBuf,
    /// How much of the new one may be used, where the pool file limits the old one.
    pub capacity: Option<ByteLength>,
    /// What is known of the new one.
    pub about: About,
    /// Our traces go from the old one, when the new one has its place.
    pub wipes: bool,
}

/// What will be done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct HandoverPlan {
    /// The volume.
    pub volume: String,
    /// The disk.
    pub disk: String,
    /// Where it is.
    pub from: String,
    /// Where it will be.
    pub onto: String,
    /// What is copied, held files and pieces among it.
    pub files: Count,
    /// What may be used of the new disk.
    #[serde(rename = "space_bytes")]
    pub space: ByteLength,
    /// Our traces go from the old disk at the end.
    pub wipes: bool,
    /// It goes on with one that was interrupted.
    pub resumes: bool,
    /// How long it takes.
    pub forecast: Forecast,
    /// Something to think about.
    pub doubts: Vec<String>,
}

/// A handover that can be begun.
pub struct PreparedHandover {
    /// What it will do.
    pub plan: HandoverPlan,
    pub(super) old: DiskRow,
    pub(super) row: DiskRow,
    pub(super) new: NewDisk,
    pub(super) edits: Vec<Edit>,
}

/// Looks at what it would do.
///
/// # Errors
/// When the disk is a parity disk or not there, or the new one is not fit or too small.
pub fn plan(pool: &Pool, request: &HandoverRequest) -> Result<PreparedHandover> {
    let member = pool.member_named(&request.name)?;
    if !member.row.role.holds_files() {
        let message = format!("{} is a parity disk", member.row.name);
        return Err(Error::new(Kind::Internal, "handover.parity", message));
    }
    let from = member.writable()?.root().display().to_string();
    let described = successor::described(pool, member, &request.onto);
    let new = NewDisk::open(pool, &request.onto, described, None)?;
    let begun = begun(pool, member.row.id, &new.at)?;
    let row = DiskRow {
        uuid: begun.unwrap_or_else(Uuid::new_v4),
        filesystem: new.bound(),
        replica: None,
        ..member.row.clone()
    };
    refuse_used(&new, &row)?;
    let files = objects::taken(pool.catalogue.reading(), member.row.id)?;
    let capacity = request.capacity.or_else(|| described?.capacity);
    let space = capacity.map_or(new.filesystem.total, |capacity| capacity.min(new.filesystem.total));
    refuse_too_small(
        &new,
        begun.is_some(),
        files.bytes.min(space.plus(ByteLength::new(1))),
        space,
        files.bytes,
    )?;
    refuse_of_others(pool, member, &new)?;
    let edits = successor::edits(pool, &member.row.name, &new.at, request.capacity, &request.about);
    pool_file::rehearse(&pool.file, &edits)?;
    let mut doubts = new.doubts();
    doubts.extend(larger_than_parity(pool, member, space));
    // Nobody knows the new disk: it is taken to be as fast as the old one.
    let whole = Amounts::from_iter([(member.row.name.clone(), files.bytes)]);
    let forecast = forecast_copies(pool, &whole, &whole)?;
    let plan = HandoverPlan {
        volume: member.row.volume.clone(),
        disk: member.row.name.clone(),
        from,
        onto: new.at.clone(),
        files,
        space,
        wipes: request.wipes,
        resumes: begun.is_some(),
        forecast,
        doubts,
    };
    Ok(PreparedHandover { plan, old: member.row.clone(), row, new, edits })
}

/// The new disk of a handover to this place that was begun.
fn begun(pool: &Pool, id: DiskId, at: &str) -> Result<Option<Uuid>> {
    let found = intents::all(pool.catalogue.reading())?.into_iter().find_map(|(_, intent)| match intent {
        Intent::Move { disk, successor, onto, rest: None } if disk == id && onto == at => Some(successor),
        _ => None,
    });
    Ok(found)
}

/// A copy of somebody else's file would be ours (L5): of a whole disk that is more than a file left alone.
fn refuse_of_others(pool: &Pool, member: &Member, new: &NewDisk) -> Result<()> {
    let owners = objects::by_owner(pool.catalogue.reading(), member.row.id)?;
    let Some((uid, files)) = owners.iter().find(|(uid, _)| !new.disk.may_give_to(*uid)) else {
        return Ok(());
    };
    let files = so_many(files.files, "file");
    let message = format!("{} has {files} of another user (number {uid})", member.row.name);
    Err(Error::new(Kind::Safety, "handover.owners", message)
        .remedy("run it as root, who alone can copy them without making them its own"))
}

/// The disk has to be empty, unless it is the one that this handover began to fill.
fn refuse_used(new: &NewDisk, row: &DiskRow) -> Result<()> {
    if label::read(&*new.disk)?.is_some_and(|label| label.disk == row.uuid) {
        return Ok(());
    }
    new.refuse_member()?;
    new.refuse_used()
}

/// # Errors
/// When not all of it fits.
fn refuse_too_small(
    new: &NewDisk,
    resumes: bool,
    wanted: ByteLength,
    space: ByteLength,
    all: ByteLength,
) -> Result<()> {
    // What was copied already takes its place there.
    let fits = space >= all && (resumes || new.filesystem.available >= wanted);
    if fits {
        return Ok(());
    }
    let message = format!(
        "{} has room for {}, and {all} have to go there",
        new.at,
        space.min(new.filesystem.available)
    );
    Err(Error::new(Kind::Conflict, "handover.too-small", message)
        .remedy("use a larger disk, or move files to others first: zinc-sieve even-out, zinc-sieve move"))
}

/// What lies beyond the end of a parity drive cannot be guarded.
fn larger_than_parity(pool: &Pool, member: &Member, space: ByteLength) -> Option<String> {
    let parities = pool.members_of(&member.row.volume, Role::Parity).filter_map(Member::usable_bytes);
    let smallest = parities.min().filter(|_| member.row.role == Role::Data)?;
    (space > smallest).then(|| {
        format!("the new disk is larger than a parity drive of {}: what does not fit below its end is not guarded; let the parity grow first", member.row.volume)
    })
}
