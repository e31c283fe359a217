//! Which files change their tier.

use std::collections::HashMap;

use sieve_core::path::RelPath;
use sieve_core::pool::{Tier, VolumeSpec};
use sieve_core::tiers::{Assignment, Change, TieredFile, assign};
use sieve_core::units::{ByteLength, DiskId, ObjectId};

use super::plan::{Options, PlannedMove, SettlePlan, TierOutlook, Why};
use super::when::why_in_use;
use crate::files::moves::{Destination, Leaving, LeftAlone, Move, Source};
use sieve_catalogue::heat;
use sieve_catalogue::heat::Heat;
use sieve_catalogue::held_files;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_disk::Result;
use sieve_pool::grounds::Grounds;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

/// A file on one of the tiers.
struct OnTier {
    path: RelPath,
    disk: DiskId,
    object: ObjectRow,
    state: TieredFile,
}

/// Plans what changes its tier.
pub(super) fn plan(pool: &Pool, volume: &VolumeSpec, options: &Options, plan: &mut SettlePlan) -> Result<()> {
    let files = files(pool, volume)?;
    let (free, space) = fast_space(pool, volume)?;
    let grounds = Grounds::as_scanned(pool, volume)?;
    let mut lander = grounds.lander(pool, volume, ByteLength::ZERO)?;
    let reserve = lander.fast_reserve();
    let on_fast: ByteLength =
        files.iter().filter(|file| file.state.tier == Tier::Fast).map(|file| file.state.size).sum();
    let held = held_on_fast(pool, volume)?;
    // What has left is held until the next sync, and frees nothing before; what belongs on the fast disks is decided by
    // the room that there is then. Else every further settling would find less room, and push more down.
    let room = on_fast.plus(free).plus(held).minus(reserve).min(space);
    let states: Vec<TieredFile> = files.iter().map(|file| file.state).collect();
    let Assignment { changes, fast_share_before, fast_share_after } = assign(&states, room);
    let all: f64 = states.iter().map(|state| state.heat).sum();
    let mut fast_reads_after = fast_share_before;
    let has_parity = pool.members_of(&volume.name, Role::Parity).next().is_some();
    let leaving = if has_parity { Leaving::Hold } else { Leaving::Go };
    let open = pool.machine.open_files();
    for change in changes {
        let file = &files[change.file];
        if options.folder.as_ref().is_some_and(|folder| !file.path.is_within(folder)) {
            continue;
        }
        let mut leave = |why: &str| {
            plan.left_alone.push(LeftAlone { path: file.path.to_string(), why: why.into() });
        };
        if let Some(why) = why_in_use(pool, volume, (file.disk, &file.object), &open)? {
            leave(why);
            continue;
        }
        let Some(place) = lander.on_tier(&file.path, file.state.size, change.to) else {
            leave(match change.to {
                Tier::Fast => "the fast disks have no room for it before a sync frees what left them",
                Tier::Slow => "the slow disks have no room for it",
            });
            continue;
        };
        let share = file.state.heat / all.max(f64::MIN_POSITIVE);
        fast_reads_after += if change.to == Tier::Fast { share } else { -share };
        add(pool, plan, file, change, leaving, pool.members[grounds.members[place]].row.id)?;
    }
    plan.tiers = Some(TierOutlook {
        fast_reads_before: fast_share_before,
        fast_reads_after,
        fast_reads_after_sync: fast_share_after,
        free,
        held,
        reserve,
    });
    Ok(())
}

/// What is held on the fast disks that are there.
fn held_on_fast(pool: &Pool, volume: &VolumeSpec) -> Result<ByteLength> {
    let held = |member: &Member| held_files::bytes(pool.catalogue.reading(), member.row.id);
    fast_members(pool, volume).map(held).sum()
}

/// Free and all space of the fast disks that are there.
fn fast_space(pool: &Pool, volume: &VolumeSpec) -> Result<(ByteLength, ByteLength)> {
    let (mut free, mut space) = (ByteLength::ZERO, ByteLength::ZERO);
    for member in fast_members(pool, volume) {
        free = free.plus(member.free_bytes(&pool.catalogue)?);
        space = space.plus(member.usable_bytes().unwrap_or_default());
    }
    Ok((free, space))
}

fn fast_members<'a>(pool: &'a Pool, volume: &'a VolumeSpec) -> impl Iterator<Item = &'a Member> {
    let is_fast =
        |member: &&Member| volume.tier_of(&member.row.name) == Tier::Fast && member.state.is_usable();
    pool.members_of(&volume.name, Role::Data).filter(is_fast)
}

fn add(
    pool: &Pool,
    plan: &mut SettlePlan,
    file: &OnTier,
    change: Change,
    leaving: Leaving,
    to: DiskId,
) -> Result<()> {
    let (from_name, to_name) = (&pool.member(file.disk)?.row.name, &pool.member(to)?.row.name);
    plan.files.push(PlannedMove {
        key: file.path.tree_key(),
        path: file.path.to_string(),
        size_bytes: file.object.size,
        from: vec![from_name.clone()],
        to: vec![to_name.clone()],
        why: Why::Tier(change.reason),
        since: file.object.ctime,
    });
    plan.moves.push(Move {
        from: vec![Source { disk: file.disk, object: file.object.id, leaving }],
        to: Destination::Whole(vec![to]),
        size: file.object.size,
    });
    plan.by_disk.entry(to_name.clone()).or_default().add(file.object.size);
    plan.read_bytes.add(from_name, file.object.size);
    plan.written_bytes.add(to_name, file.object.size);
    plan.holds_on_tiers |= leaving == Leaving::Hold;
    Ok(())
}

/// The files on the data disks that are there, with how much they are used; what was learned of that is kept.
fn files(pool: &Pool, volume: &VolumeSpec) -> Result<Vec<OnTier>> {
    let mut known = heat::all(pool.catalogue.reading(), &volume.name)?;
    let mut learned: Vec<(Vec<u8>, Heat)> = Vec::new();
    let now = pool.machine.now();
    let mut files: Vec<OnTier> = Vec::new();
    for member in pool.members_of(&volume.name, Role::Data).filter(|m| m.state.is_usable()) {
        let disk = member.usable()?;
        let mut here: HashMap<ObjectId, usize> = HashMap::new();
        objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, object| {
            if path.is_held() {
                return Ok(());
            }
            let key = path.tree_key();
            let before = known.remove(&key);
            let accessed = disk.stat(&path)?.map_or(i64::MIN, |stat| stat.accessed);
            let after = observed(before, &object, accessed, now, volume.half_life);
            if before != Some(after) {
                learned.push((key, after));
            }
            let heat = after.at(now, volume.half_life);
            if let Some(position) = here.get(&object.id) {
                files[*position].state.heat += heat; // a further name of the same file
                return Ok(());
            }
            here.insert(object.id, files.len());
            let state = TieredFile {
                size: object.size,
                heat,
                tier: volume.tier_of(&member.row.name),
                pin: volume.pin_of(&path),
            };
            files.push(OnTier { path, disk: member.row.id, object, state });
            Ok(())
        })?;
    }
    pool.catalogue.transaction(|t| {
        learned.iter().try_for_each(|(key, heat)| heat::set(t, &volume.name, key, heat))?;
        known.keys().try_for_each(|key| heat::forget(t, &volume.name, key))
    })?;
    Ok(files)
}

/// What an access time says beyond what is known: coming counts as a use, and so does each access that moved it.
fn observed(before: Option<Heat>, object: &ObjectRow, accessed: i64, now: i64, half_life: f64) -> Heat {
    match before {
        None => Heat::of_new(object.ctime.min(now), accessed),
        Some(heat) if heat.seen == i64::MIN => Heat { seen: accessed, ..heat },
        Some(heat) if accessed > heat.seen => {
            Heat { seen: accessed, ..heat.used(accessed.min(now), half_life) }
        }
        Some(heat) => heat,
    }
}

/// Writing a copy sets its access time, and that is no use: it is taken as seen.
///
/// # Errors
/// What a disk or the database says.
pub(super) fn see_own_writes(pool: &Pool, volume: &VolumeSpec, plan: &SettlePlan) -> Result<()> {
    let known = heat::all(pool.catalogue.reading(), &volume.name)?;
    let mut seen = Vec::new();
    for (file, at) in plan.files.iter().zip(&plan.moves) {
        let (Some(heat), Ok(path)) = (known.get(&file.key), RelPath::from_tree_key(&file.key)) else {
            continue;
        };
        for disk in &at.to.disks() {
            let stat = pool.member(*disk)?.usable()?.stat(&path)?;
            if let Some(stat) = stat.filter(|stat| stat.accessed > heat.seen) {
                seen.push((file.key.clone(), Heat { seen: stat.accessed, ..*heat }));
            }
        }
    }
    pool.catalogue
        .transaction(|t| seen.iter().try_for_each(|(key, heat)| heat::set(t, &volume.name, key, heat)))
}
