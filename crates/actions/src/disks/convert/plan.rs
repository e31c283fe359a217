//! What becomes of the files, and whether it can be done.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::label::Role;
use sieve_catalogue::pool_file::{self, Edit};
use sieve_core::count::Count;
use sieve_core::path::RelPath;
use sieve_core::placement::{Placement, Placer};
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_core::units::DiskId;
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::scan::doubts::resolve_doubts;
use sieve_pool::{fate, pieces, scan};

use super::joins::Joins;
use super::surplus::{Copy, Surplus, by_path};
use super::told::PiecesPlan;

/// What a volume is to become.
#[derive(Clone, Debug)]
pub struct ConvertRequest {
    /// The volume.
    pub volume: String,
    /// The kind.
    pub to: VolumeKind,
    /// The fast disks of a tiered one.
    pub fast: Vec<String>,
    /// How many disks each file of a mirrored one lies on.
    pub copies: Option<usize>,
    /// The fewest disks that may be lost without losing a file, afterwards; as many as now where nobody says.
    pub never_below: Option<u8>,
}

/// What will be done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ConvertPlan {
    /// The volume.
    pub volume: String,
    /// What it is.
    pub from: &'static str,
    /// What it becomes.
    pub to: &'static str,
    /// Its files.
    pub files: Count,
    /// Copies that the next sync makes.
    pub to_copy: Count,
    /// Copies that are one too many, and are held until the next sync.
    pub surplus: Count,
    /// What becomes of files in pieces first.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pieces: Option<PiecesPlan>,
    /// So many disks may be lost now without losing a file.
    pub guard_before: u8,
    /// And when it is done.
    pub guard_after: u8,
}

/// A conversion that can be begun.
pub struct PreparedConvert {
    /// What it will do.
    pub plan: ConvertPlan,
    pub(super) to: VolumeKind,
    pub(super) joins: Joins,
    pub(super) surplus: Vec<Surplus>,
    pub(super) edits: Vec<Edit>,
}

/// Looks at what it would do. A volume that is of that kind already takes back what a conversion to another one had begun.
///
/// # Errors
/// When it is of that kind already, a disk is missing, files lie in pieces that fit nowhere whole or in several versions, copies
/// have no room, or files would be guarded less.
pub fn plan(pool: &Pool, request: &ConvertRequest, observer: &dyn Observer) -> Result<PreparedConvert> {
    let volume = pool.volume(Some(&request.volume))?;
    let is_taken_back = volume.kind == request.to;
    if is_taken_back && pieces::copies(pool, &volume.name)?.is_empty() {
        let message = format!("volume {} is {} already", volume.name, volume.kind.word());
        return Err(Error::new(Kind::Usage, "convert.same", message));
    }
    let edits = if is_taken_back { Vec::new() } else { edits(pool, &volume, request)? };
    for member in pool.members.iter().filter(|member| member.row.volume == volume.name) {
        member.writable()?;
    }
    scan::scan_all(pool, |member| member.row.volume == volume.name, observer)?;
    let joins = if is_taken_back { Joins::back(pool, &volume)? } else { Joins::look(pool, &volume)? };
    if volume.kind == VolumeKind::Mirrored {
        // Copies whose times alone moved, as by a cut in the middle of this, are read before they are said to differ.
        for member in pool.members_of(&volume.name, Role::Data) {
            resolve_doubts(pool, member, observer)?;
        }
    }
    let files = by_path(pool, &volume)?;
    let guard_before = lowest_guard(pool, &volume)?;
    let mut plan = ConvertPlan {
        volume: volume.name.clone(),
        from: volume.kind.word(),
        to: request.to.word(),
        files: Count::default(),
        to_copy: Count::default(),
        surplus: Count::default(),
        pieces: joins.plan(pool)?,
        guard_before,
        guard_after: guard_before,
    };
    files.iter().for_each(|(_, copies)| plan.files.add(copies[0].object.size));
    joins.files().for_each(|file| plan.files.add(file.size));
    let mut surplus = Vec::new();
    if request.to == VolumeKind::Mirrored {
        plan.to_copy = room_for_copies(pool, &volume, &files, &joins, request.copies.unwrap_or(2))?;
    } else if volume.kind == VolumeKind::Mirrored {
        surplus = super::surplus::choose(pool, files)?;
        surplus.iter().flat_map(|one| &one.go).for_each(|copy| plan.surplus.add(copy.object.size));
        plan.guard_after =
            guard_of_kept(pool, &volume, &surplus)?.map_or(guard_before, |kept| kept.min(guard_before));
    }
    refuse_weaker(&plan, request)?;
    Ok(PreparedConvert { plan, to: request.to, joins, surplus, edits })
}

fn edits(pool: &Pool, volume: &VolumeSpec, request: &ConvertRequest) -> Result<Vec<Edit>> {
    let edits = vec![Edit::Kind {
        volume: volume.name.clone(),
        kind: request.to,
        fast: request.fast.clone(),
        copies: request.copies,
    }];
    pool_file::rehearse(&pool.file, &edits).map(|_| edits)
}

/// Whether every file finds disks for its further copies, the largest first; what they come to. Files that become whole first count
/// where they come to lie, and what their pieces take is free by then.
fn room_for_copies(
    pool: &Pool,
    volume: &VolumeSpec,
    files: &[(RelPath, Vec<Copy>)],
    joins: &Joins,
    copies: usize,
) -> Result<Count> {
    let members: Vec<&Member> = pool.members_of(&volume.name, Role::Data).collect();
    let ids: Vec<DiskId> = members.iter().map(|member| member.row.id).collect();
    let free = members.iter().map(|member| member.free_bytes(&pool.catalogue)).collect::<Result<Vec<_>>>()?;
    let free = ids.iter().zip(free).map(|(id, free)| joins.free_afterwards(*id, free)).collect();
    let mut placer = Placer::new(Placement::Emptiest, free);
    let mut in_order = joins.places();
    for (path, there) in files {
        if there.len() > 1 && !Copy::are_one(there) {
            let disks: Vec<&str> = there.iter().map(|copy| copy.disk_name.as_str()).collect();
            let message = format!("{path} is another file on each of {}", disks.join(", "));
            return Err(Error::new(Kind::Conflict, "convert.conflict", message)
                .remedy("give one of them another name, and sync, first"));
        }
        in_order.push((path, there[0].object.size, there.iter().map(|copy| copy.disk).collect()));
    }
    in_order.sort_by_key(|(_, size, _)| std::cmp::Reverse(*size));
    let (mut made, mut homeless) = (Count::default(), Count::default());
    for (path, size, there) in in_order {
        let lacking: Vec<usize> = (0..ids.len()).filter(|disk| !there.contains(&ids[*disk])).collect();
        let wanted = copies.saturating_sub(there.len());
        match placer.place_copies(path, size, &lacking, wanted, Default::default()) {
            Some(places) => places.iter().for_each(|_| made.add(size)),
            None => homeless.add(size),
        }
    }
    if homeless.files > 0 {
        let message = format!(
            "no disk has room for the further copies of {} files, {}",
            homeless.files, homeless.bytes
        );
        return Err(Error::new(Kind::Conflict, "convert.room", message)
            .remedy("let another disk join first: zinc-sieve grow NAME --as data"));
    }
    Ok(made)
}

fn lowest_guard(pool: &Pool, volume: &VolumeSpec) -> Result<u8> {
    let model = fate::load(pool, &volume.name)?;
    let evaluation = model.evaluate(&[]);
    let mut lowest: Option<u8> = None;
    model.for_each_file(pool, &evaluation, |file| {
        lowest = Some(lowest.map_or(file.guard, |lowest| lowest.min(file.guard)));
        Ok(())
    })?;
    Ok(lowest.unwrap_or_default())
}

/// What parity alone is worth for the copies that stay; nothing where none is surplus.
fn guard_of_kept(pool: &Pool, volume: &VolumeSpec, surplus: &[Surplus]) -> Result<Option<u8>> {
    let model = fate::load(pool, &volume.name)?;
    let evaluation = model.evaluate(&[]);
    let kept = surplus.iter().filter_map(|one| model.object_index(one.keep.object.id));
    Ok(kept.map(|position| evaluation.guards[position].level).min())
}

fn refuse_weaker(plan: &ConvertPlan, request: &ConvertRequest) -> Result<()> {
    let floor = request.never_below.unwrap_or(plan.guard_before);
    if plan.guard_after >= floor {
        return Ok(());
    }
    let message = format!(
        "any {} of the disks may be lost now without losing a file, and afterwards {}",
        plan.guard_before, plan.guard_after
    );
    Err(Error::new(Kind::Safety, "convert.weaker", message).remedy(format!(
        "let a parity disk join first (zinc-sieve grow NAME --as parity), or allow it: --never-below {}",
        plan.guard_after
    )))
}
