//! Which files go from one data disk of a volume to another.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use serde::Serialize;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_core::count::Count;
use sieve_core::forecast::Forecast;
use sieve_core::path::RelPath;
use sieve_core::placement::Placement;
use sieve_core::pool::{Share, VolumeKind, VolumeSpec};
use sieve_core::units::{ByteLength, DiskId, ObjectId};
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::forecast_pass;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::scan;

use crate::files::moves::{Destination, Leaving, LeftAlone, Move, Source};
use crate::files::settle::add_to;

/// By what disks are evened out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Measure {
    /// All are to be equally full, by their size.
    Share,
    /// All are to have the same space free.
    Free,
}

/// One file that moves.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ShiftedFile {
    /// Its path.
    pub path: String,
    /// Its length.
    pub size_bytes: ByteLength,
    /// The disk that it leaves.
    pub from: String,
    /// The disk that it comes to.
    pub to: String,
}

/// A disk before and after.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Fill {
    /// The disk.
    pub disk: String,
    /// What may be used of it.
    pub space: ByteLength,
    /// What files take on it.
    pub before: ByteLength,
    /// What they take when a sync has passed what moved.
    pub after: ByteLength,
}

/// What moves.
#[derive(Clone, Debug, Serialize)]
pub struct ShiftPlan {
    /// The volume.
    pub volume: String,
    /// File by file.
    pub files: Vec<ShiftedFile>,
    /// Files and bytes, by the disk that they go to.
    pub by_disk: BTreeMap<String, Count>,
    /// The data disks.
    pub fills: Vec<Fill>,
    /// What stays where it is, and why.
    pub left_alone: Vec<LeftAlone>,
    /// What leaves a disk is held there until a sync has passed it.
    pub holds: bool,
    /// Bytes to read, by disk.
    pub read_bytes: BTreeMap<String, ByteLength>,
    /// Bytes to write, by disk.
    pub written_bytes: BTreeMap<String, ByteLength>,
    /// How long that takes, without the sync.
    pub forecast: Forecast,
    #[serde(skip)]
    pub(crate) moves: Vec<Move>,
}

impl ShiftPlan {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.moves.is_empty()
    }

    /// All that moves.
    pub fn total(&self) -> Count {
        self.by_disk.values().fold(Count::default(), |sum, count| sum.plus(*count))
    }
}

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
    for from in 0..board.seats.len() {
        for file in board.files_of(from)? {
            let Some(asked) = paths.iter().position(|path| file.path.is_within(path)) else { continue };
            found.insert(asked);
            if from != to {
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
    for from in &leaving {
        for file in board.files_of(*from)? {
            match board.place(&file, &leaving) {
                Some(to) => board.shift(&file, *from, to),
                None => board.leave(&file, "no other data disk has room for it"),
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
            files.sort_by_key(|file| file.path.tree_key());
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
            let emptiest = (0..board.seats.len())
                .filter(room)
                .min_by(|a, b| board.seats[*a].share().total_cmp(&board.seats[*b].share()));
            if let Some(to) = emptiest {
                board.shift(&file, from, to);
            }
        }
    }
    board.plan()
}

/// A file as the last scan knew it, by one of its names.
struct Piece {
    path: RelPath,
    object: ObjectRow,
}

/// A data disk.
struct Seat {
    id: DiskId,
    name: String,
    space: ByteLength,
    before: ByteLength,
    used: ByteLength,
    free: ByteLength,
}

impl Seat {
    fn share(&self) -> f64 {
        self.used.exact() as f64 / self.space.exact().max(1) as f64
    }
}

/// The data disks, and what was put where so far.
struct Board<'a> {
    pool: &'a Pool,
    volume: &'a VolumeSpec,
    seats: Vec<Seat>,
    files: Vec<ShiftedFile>,
    moves: Vec<Move>,
    left_alone: Vec<LeftAlone>,
    open: HashSet<(u64, u64)>,
    leaving: Leaving,
}

impl<'a> Board<'a> {
    fn look(pool: &'a Pool, volume: &'a VolumeSpec, observer: &dyn Observer) -> Result<Self> {
        if matches!(volume.kind, VolumeKind::Spanned | VolumeKind::Mirrored) {
            let message = format!(
                "volume {} is {}: where its files lie is not chosen one by one",
                volume.name,
                volume.kind.word()
            );
            return Err(Error::new(Kind::Usage, "shift.kind", message)
                .remedy("this is for unstriped and tiered volumes"));
        }
        let of_volume = |member: &&Member| member.row.volume == volume.name;
        // With a disk away parity is needed for what is on it, and what moves would weaken its neighbours.
        for member in pool.members.iter().filter(of_volume) {
            member.writable()?;
        }
        scan::scan_all(pool, |member| member.row.volume == volume.name, observer)?;
        let mut seats = Vec::new();
        for member in pool.members_of(&volume.name, Role::Data) {
            let used = member.used_bytes(&pool.catalogue)?;
            seats.push(Seat {
                id: member.row.id,
                name: member.row.name.clone(),
                space: member.usable_bytes().unwrap_or_default(),
                before: used,
                used,
                free: member.free_bytes(&pool.catalogue)?,
            });
        }
        let has_parity = pool.members_of(&volume.name, Role::Parity).next().is_some();
        Ok(Self {
            pool,
            volume,
            seats,
            files: Vec::new(),
            moves: Vec::new(),
            left_alone: Vec::new(),
            open: pool.machine.open_files(),
            leaving: if has_parity { Leaving::Hold } else { Leaving::Go },
        })
    }

    fn seat_named(&self, name: &str) -> Result<usize> {
        self.seats.iter().position(|seat| seat.name == name).ok_or_else(|| {
            let names = self.seats.iter().map(|seat| seat.name.as_str());
            Error::new(Kind::NotFound, "move.disk", sieve_core::suggest::unknown("data disk", name, names))
        })
    }

    /// The files of a disk that may move, each once; what may not is told.
    fn files_of(&mut self, seat: usize) -> Result<Vec<Piece>> {
        let (mut files, mut seen) = (Vec::new(), HashSet::<ObjectId>::new());
        let disk = self.seats[seat].id;
        objects::for_each_name(self.pool.catalogue.reading(), disk, |path, object| {
            if !path.is_ours() && seen.insert(object.id) {
                files.push(Piece { path, object });
            }
            Ok(())
        })?;
        Ok(files)
    }

    /// Whether somebody has a file open: who has it open for writing is asked again, with a lease, before it is read.
    fn is_open(&self, seat: usize, file: &Piece) -> bool {
        let filesystem =
            self.pool.member(self.seats[seat].id).ok().and_then(|member| member.filesystem.as_ref());
        filesystem.is_some_and(|filesystem| self.open.contains(&(filesystem.device, file.object.inode)))
    }

    fn leave(&mut self, file: &Piece, why: &str) {
        self.left_alone.push(LeftAlone { path: file.path.to_string(), why: why.into() });
    }

    /// Where a file goes that has to go somewhere: to the folder that it is in where that is wished, to the first disk with
    /// room in a volume that is filled in order, else to the emptiest.
    fn place(&self, file: &Piece, without: &[usize]) -> Option<usize> {
        let has_room = |seat: &usize| !without.contains(seat) && self.seats[*seat].free > file.object.size;
        let with_room: Vec<usize> = (0..self.seats.len()).filter(has_room).collect();
        let has_folder = |seat: &&usize| {
            let parent = file.path.parent().unwrap_or_default();
            let disk = self.pool.member(self.seats[**seat].id).ok().and_then(|member| member.usable().ok());
            !parent.is_root() && disk.is_some_and(|disk| disk.stat(&parent).is_ok_and(|stat| stat.is_some()))
        };
        match self.volume.placement {
            Placement::InOrder => with_room.first().copied(),
            Placement::KeepTogether if with_room.iter().any(|seat| has_folder(&seat)) => {
                with_room.iter().find(has_folder).copied()
            }
            _ => with_room.into_iter().max_by_key(|seat| self.seats[*seat].free),
        }
    }

    /// Plans that a file goes from one disk to another, unless something is in the way.
    fn shift(&mut self, file: &Piece, from: usize, to: usize) {
        let (path, size) = (&file.path, file.object.size);
        let is_taken = || {
            let taken = objects::by_path(self.pool.catalogue.reading(), self.seats[to].id, path);
            taken.map_or(true, |object| object.is_some())
        };
        let why = if self.is_open(from, file) {
            Some("it is open".to_string())
        } else if is_taken() {
            Some(format!("{} has a file of that name", self.seats[to].name))
        } else if self.seats[to].free <= size {
            Some(format!("{} has no room for it", self.seats[to].name))
        } else {
            None
        };
        if let Some(why) = why {
            self.leave(file, &why);
            return;
        }
        self.files.push(ShiftedFile {
            path: path.to_string(),
            size_bytes: size,
            from: self.seats[from].name.clone(),
            to: self.seats[to].name.clone(),
        });
        self.moves.push(Move {
            from: vec![Source { disk: self.seats[from].id, object: file.object.id, leaving: self.leaving }],
            to: Destination::Whole(vec![self.seats[to].id]),
            size,
        });
        self.seats[from].used = self.seats[from].used.minus(size);
        self.seats[to].used = self.seats[to].used.plus(size);
        self.seats[to].free = self.seats[to].free.minus(size);
    }

    /// What each disk is to hold at most.
    fn goals(&self, until: Option<Share>, measure: Measure) -> Vec<ByteLength> {
        let sum = |of: fn(&Seat) -> ByteLength| self.seats.iter().map(of).sum::<ByteLength>().exact() as f64;
        let (used, space) = (sum(|seat| seat.used), sum(|seat| seat.space).max(1.0));
        let share = until.map_or(used / space, Share::fraction);
        let free = (space - used).max(0.0) / self.seats.len().max(1) as f64;
        let goal = |seat: &Seat| {
            let space = seat.space.exact() as f64;
            match (until, measure) {
                (None, Measure::Free) => space - free,
                _ => space * share,
            }
        };
        // A thousandth is left to chance: files are whole.
        self.seats
            .iter()
            .map(|seat| ByteLength::new((goal(seat) + seat.space.exact() as f64 / 1000.0).max(0.0) as u64))
            .collect()
    }

    fn plan(self) -> Result<ShiftPlan> {
        let mut plan = ShiftPlan {
            volume: self.volume.name.clone(),
            by_disk: BTreeMap::new(),
            fills: Vec::new(),
            left_alone: self.left_alone,
            holds: self.leaving == Leaving::Hold,
            read_bytes: BTreeMap::new(),
            written_bytes: BTreeMap::new(),
            forecast: Forecast::default(),
            moves: self.moves,
            files: self.files,
        };
        for file in &plan.files {
            plan.by_disk.entry(file.to.clone()).or_default().add(file.size_bytes);
            add_to(&mut plan.read_bytes, &file.from, file.size_bytes);
            add_to(&mut plan.written_bytes, &file.to, file.size_bytes);
        }
        let fill =
            |seat: Seat| Fill { disk: seat.name, space: seat.space, before: seat.before, after: seat.used };
        plan.fills = self.seats.into_iter().map(fill).collect();
        let mut both = plan.read_bytes.clone();
        for (disk, bytes) in &plan.written_bytes {
            add_to(&mut both, disk, *bytes);
        }
        plan.forecast = forecast_pass(self.pool, &both)?;
        Ok(plan)
    }
}
