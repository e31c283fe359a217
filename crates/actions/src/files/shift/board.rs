//! The data disks of a volume, and what of them goes where.

use std::collections::{BTreeMap, HashMap, HashSet};

use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::piece_note::PieceNote;
use sieve_catalogue::pieces;
use sieve_core::amounts::Amounts;
use sieve_core::forecast::Forecast;
use sieve_core::path::RelPath;
use sieve_core::placement::Placement;
use sieve_core::pool::{Share, VolumeKind, VolumeSpec};
use sieve_core::units::{ByteLength, DiskId, ObjectId};
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::copies::forecast_copies;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::scan;

use super::plan::{Fill, Measure, ShiftPlan, ShiftedFile};
use crate::files::moves::{Destination, Leaving, LeftAlone, Move, Source};

/// Why something stays where it is.
const WHOLE_COPY: &str = "a copy of a file in pieces, made to become the file: zinc-sieve convert goes on with it, or takes it back";

/// A file as the last scan knew it, by one of its names, or a piece of one.
pub(super) struct Candidate {
    /// Where it lies on its disk.
    path: RelPath,
    pub(super) object: ObjectRow,
    piece: Option<PieceNote>,
}

impl Candidate {
    /// Its path in the volume; of a piece that of its file.
    pub(super) fn in_volume(&self) -> &RelPath {
        self.piece.as_ref().map_or(&self.path, |piece| &piece.path)
    }
}

/// A data disk.
pub(super) struct Seat {
    pub(super) id: DiskId,
    name: String,
    space: ByteLength,
    before: ByteLength,
    pub(super) used: ByteLength,
    free: ByteLength,
}

impl Seat {
    pub(super) fn share(&self) -> f64 {
        self.used.exact() as f64 / self.space.exact().max(1) as f64
    }
}

/// The data disks, and what was put where so far.
pub(super) struct Board<'a> {
    pool: &'a Pool,
    volume: &'a VolumeSpec,
    pub(super) seats: Vec<Seat>,
    files: Vec<ShiftedFile>,
    moves: Vec<Move>,
    left_alone: Vec<LeftAlone>,
    open: HashSet<(u64, u64)>,
    leaving: Leaving,
    /// What is known of the pieces on the disks, by where they lie.
    pieces: HashMap<(DiskId, RelPath), PieceNote>,
}

impl<'a> Board<'a> {
    pub(super) fn look(pool: &'a Pool, volume: &'a VolumeSpec, observer: &dyn Observer) -> Result<Self> {
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
        let pieces = pieces::all(pool.catalogue.reading(), &volume.name)?.into_iter();
        Ok(Self {
            pool,
            volume,
            seats,
            files: Vec::new(),
            moves: Vec::new(),
            left_alone: Vec::new(),
            open: pool.machine.open_files(),
            leaving: if has_parity { Leaving::Hold } else { Leaving::Go },
            pieces: pieces.map(|row| ((row.disk, row.path), row.note)).collect(),
        })
    }

    pub(super) fn seat_named(&self, name: &str) -> Result<usize> {
        self.seats.iter().position(|seat| seat.name == name).ok_or_else(|| {
            let names = self.seats.iter().map(|seat| seat.name.as_str());
            Error::new(Kind::NotFound, "move.disk", sieve_core::suggest::unknown("data disk", name, names))
        })
    }

    /// The files of a disk that may move, each once; what may not is told.
    pub(super) fn files_of(&mut self, seat: usize) -> Result<Vec<Candidate>> {
        let (mut files, mut seen, mut unknown) = (Vec::new(), HashSet::<ObjectId>::new(), Vec::new());
        let disk = self.seats[seat].id;
        objects::for_each_name(self.pool.catalogue.reading(), disk, |path, object| {
            if path.is_piece() {
                match self.pieces.get(&(disk, path.clone())).cloned() {
                    Some(note) => files.push(Candidate { path, object, piece: Some(note) }),
                    None => unknown.push(path),
                }
            } else if !path.is_ours() && seen.insert(object.id) {
                files.push(Candidate { path, object, piece: None });
            }
            Ok(())
        })?;
        for path in &unknown {
            let is_copy = sieve_pool::pieces::copied_file(path).is_some();
            self.leave(path, if is_copy { WHOLE_COPY } else { "this is no piece of a file" });
        }
        Ok(files)
    }

    /// Whether somebody has a file open: who has it open for writing is asked again, with a lease, before it is read.
    fn is_open(&self, seat: usize, file: &Candidate) -> bool {
        let filesystem =
            self.pool.member(self.seats[seat].id).ok().and_then(|member| member.filesystem.as_ref());
        filesystem.is_some_and(|filesystem| self.open.contains(&(filesystem.device, file.object.inode)))
    }

    pub(super) fn leave(&mut self, path: &RelPath, why: &str) {
        self.left_alone.push(LeftAlone { path: path.to_string(), why: why.into() });
    }

    pub(super) fn fullest_first(&self) -> Vec<usize> {
        let mut seats: Vec<usize> = (0..self.seats.len()).collect();
        seats.sort_by(|a, b| self.seats[*b].share().total_cmp(&self.seats[*a].share()));
        seats
    }

    /// Whether a disk has a file of this path.
    pub(super) fn has(&self, seat: usize, file: &Candidate) -> Result<bool> {
        Ok(objects::by_path(self.pool.catalogue.reading(), self.seats[seat].id, &file.path)?.is_some())
    }

    /// Of these disks those that have no copy of a file of a mirrored volume.
    pub(super) fn without_copy(&self, seats: Vec<usize>, file: &Candidate) -> Result<Vec<usize>> {
        let mut without = Vec::new();
        for seat in seats {
            if !self.has(seat, file)? {
                without.push(seat);
            }
        }
        Ok(without)
    }

    /// Where a file goes that has to go somewhere: to the folder that it is in where that is wished, to the first disk with
    /// room in a volume that is filled in order, else to the emptiest.
    pub(super) fn place(&self, file: &Candidate, without: &[usize]) -> Result<Option<usize>> {
        let has_room = |seat: &usize| !without.contains(seat) && self.seats[*seat].free > file.object.size;
        let mut with_room: Vec<usize> = (0..self.seats.len()).filter(has_room).collect();
        if self.volume.kind == VolumeKind::Mirrored {
            with_room = self.without_copy(with_room, file)?;
        }
        let has_folder = |seat: &&usize| {
            let parent = file.in_volume().parent().unwrap_or_default();
            let disk = self.pool.member(self.seats[**seat].id).ok().and_then(|member| member.usable().ok());
            !parent.is_root() && disk.is_some_and(|disk| disk.stat(&parent).is_ok_and(|stat| stat.is_some()))
        };
        Ok(match self.volume.placement {
            Placement::InOrder => with_room.first().copied(),
            Placement::KeepTogether if with_room.iter().any(|seat| has_folder(&seat)) => {
                with_room.iter().find(has_folder).copied()
            }
            _ => with_room.into_iter().max_by_key(|seat| self.seats[*seat].free),
        })
    }

    /// Plans that a file goes from one disk to another, unless something is in the way.
    pub(super) fn shift(&mut self, file: &Candidate, from: usize, to: usize) {
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
            self.leave(file.in_volume(), &why);
            return;
        }
        self.files.push(ShiftedFile {
            path: file.in_volume().to_string(),
            piece: file.piece.as_ref().map(|piece| piece.number + 1),
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
    pub(super) fn goals(&self, until: Option<Share>, measure: Measure) -> Vec<ByteLength> {
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

    pub(super) fn plan(self) -> Result<ShiftPlan> {
        let mut plan = ShiftPlan {
            volume: self.volume.name.clone(),
            by_disk: BTreeMap::new(),
            fills: Vec::new(),
            left_alone: self.left_alone,
            holds: self.leaving == Leaving::Hold,
            read_bytes: Amounts::new(),
            written_bytes: Amounts::new(),
            forecast: Forecast::default(),
            moves: self.moves,
            files: self.files,
        };
        for file in &plan.files {
            plan.by_disk.entry(file.to.clone()).or_default().add(file.size_bytes);
            plan.read_bytes.add(&file.from, file.size_bytes);
            plan.written_bytes.add(&file.to, file.size_bytes);
        }
        let fill =
            |seat: Seat| Fill { disk: seat.name, space: seat.space, before: seat.before, after: seat.used };
        plan.fills = self.seats.into_iter().map(fill).collect();
        plan.forecast = forecast_copies(self.pool, &plan.read_bytes, &plan.written_bytes)?;
        Ok(plan)
    }
}
