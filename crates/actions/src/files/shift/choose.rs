//! Which files go from one data disk of a volume to another.

use std::collections::{BTreeSet, HashSet};

use sieve_core::path::RelPath;
use sieve_core::placement::Placement;
use sieve_core::pool::{Share, VolumeKind, VolumeSpec};
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use super::board::Board;
use super::plan::{Measure, ShiftPlan};

/// Files of these paths, or in them, to a disk.
///
/// # Errors
/// When there is no such path, the disk is no data disk of the volume, or a disk of it is missing.
pub fn to_disk(
    pool: &Pool,
    volume: &VolumeSpec,
    paths: &[RelPath],
    target: &str,
    observer: &dyn Observer,
) -> Result<ShiftPlan> {
    let mut board = Board::look(pool, volume, observer)?;
    let to = board.seat_named(target)?;
    let mut found: BTreeSet<usize> = BTreeSet::new();
    // Of a mirrored volume the fullest disk gives its copy away, and one that the target has already stays where it is.
    let mut coming: HashSet<RelPath> = HashSet::new();
    for from in board.fullest_first() {
        for file in board.files_of(from)? {
            let asked = paths.iter().position(|path| file.in_volume().is_within(path));
            let Some(asked) = asked else { continue };
            found.insert(asked);
            let is_copied = volume.kind == VolumeKind::Mirrored
                && (board.has(to, &file)? || !coming.insert(file.in_volume().clone()));
            if from != to && !is_copied {
                board.shift(&file, from, to);
            }
        }
    }
    if let Some(missing) = (0..paths.len()).find(|position| !found.contains(position)) {
        let message = format!("{} is on no data disk of volume {}", paths[missing], volume.name);
        return Err(Error::new(Kind::NotFound, "move.path", message).remedy("zinc-sieve where NAME finds it"));
    }
    board.plan()
}

/// Everything off some disks, to where the volume's placement puts it.
///
/// # Errors
/// As [`to_disk`].
pub fn off(pool: &Pool, volume: &VolumeSpec, disks: &[DiskId], observer: &dyn Observer) -> Result<ShiftPlan> {
    let mut board = Board::look(pool, volume, observer)?;
    let leaving: Vec<usize> =
        (0..board.seats.len()).filter(|seat| disks.contains(&board.seats[*seat].id)).collect();
    let nowhere = match volume.kind {
        VolumeKind::Mirrored => "every other data disk with room for it has a copy already",
        _ => "no other data disk has room for it",
    };
    for from in &leaving {
        for file in board.files_of(*from)? {
            match board.place(&file, &leaving)? {
                Some(to) => board.shift(&file, *from, to),
                None => board.leave(file.in_volume(), nowhere),
            }
        }
    }
    board.plan()
}

/// As little as possible, so that no disk is fuller than `until`, or all are equally full where that is not said.
///
/// # Errors
/// As [`to_disk`].
pub fn even_out(
    pool: &Pool,
    volume: &VolumeSpec,
    until: Option<Share>,
    measure: Measure,
    observer: &dyn Observer,
) -> Result<ShiftPlan> {
    let mut board = Board::look(pool, volume, observer)?;
    let goals = board.goals(until, measure);
    for from in 0..board.seats.len() {
        let mut files = board.files_of(from)?;
        // The largest first: few files carry most of what is too much. Folders that stay together go together.
        if volume.placement == Placement::KeepTogether {
            files.sort_by_key(|file| file.in_volume().tree_key());
        } else {
            files.sort_by_key(|file| std::cmp::Reverse(file.object.size));
        }
        for file in files {
            let excess = board.seats[from].used.minus(goals[from]);
            if excess == ByteLength::ZERO {
                break;
            }
            // One that is larger than what is too much would only turn things round.
            if file.object.size > excess {
                continue;
            }
            let room = |seat: &usize| {
                *seat != from && board.seats[*seat].used.plus(file.object.size) <= goals[*seat]
            };
            let mut with_room: Vec<usize> = (0..board.seats.len()).filter(room).collect();
            if volume.kind == VolumeKind::Mirrored {
                with_room = board.without_copy(with_room, &file)?;
            }
            let emptiest = with_room
                .into_iter()
                .min_by(|a, b| board.seats[*a].share().total_cmp(&board.seats[*b].share()));
            if let Some(to) = emptiest {
                board.shift(&file, from, to);
            }
        }
    }
    board.plan()
}
