//! Files in pieces, which only a spanned volume has: each becomes whole on one disk before the volume is another kind.
//!
//! A whole copy is made beside the pieces, guarded by the next sync, and takes their place when it is guarded as they are (I4):
//! where there is parity, that takes two runs with a sync between.

use sieve_catalogue::label::Role;
use sieve_catalogue::{contents, objects};
use sieve_core::amounts::Amounts;
use sieve_core::landing::Spot;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{ByteLength, DiskId, ObjectId};
use sieve_disk::event::{Observer, heed};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::copies::forecast_copies;
use sieve_pool::fate::{self, Evaluation, VolumeModel};
use sieve_pool::grounds::Grounds;
use sieve_pool::held::Left;
use sieve_pool::pieces::{self, PiecedFile, WholeCopy};
use sieve_pool::pool::Pool;

use super::told::{PiecesPlan, PiecesReport};
use crate::files::moves::{LeftAlone, announce};

/// What is next for a file in pieces.
pub(super) enum Step {
    /// A whole copy of it is made on this disk.
    Copy(DiskId),
    /// Its whole copy on this disk waits for a sync.
    Wait(DiskId),
    /// Its whole copy takes its place.
    Take(WholeCopy),
    /// No disk has room for all of it now.
    NoRoom,
    /// It has become whole; pieces that somebody was at were left.
    Over,
}

/// What is next for all files in pieces of a volume.
#[derive(Default)]
pub(super) struct Joins {
    /// File by file, the largest first.
    pub(super) steps: Vec<(PiecedFile, Step)>,
    /// Whole copies of what is no file in pieces any more.
    spare: Vec<WholeCopy>,
    /// Whole copies that are to be made have to be guarded by a sync.
    wait: bool,
}

impl Joins {
    /// Takes back what an earlier run has made.
    ///
    /// # Errors
    /// What the database says.
    pub(super) fn back(pool: &Pool, volume: &VolumeSpec) -> Result<Self> {
        Ok(Self { spare: pieces::copies(pool, &volume.name)?, ..Self::default() })
    }

    /// Finds what is next.
    ///
    /// # Errors
    /// When no data disk takes files, or what the database says.
    pub(super) fn look(pool: &Pool, volume: &VolumeSpec) -> Result<Self> {
        let mut copies = pieces::copies(pool, &volume.name)?;
        let mut files = pieces::files(pool, &volume.name)?;
        let rests = pieces::rests(pool, &volume.name)?;
        files.sort_by_key(|file| std::cmp::Reverse(file.size));
        let mut joins = Self::default();
        if files.is_empty() && rests.is_empty() {
            joins.spare = copies;
            return Ok(joins);
        }
        let model = fate::load(pool, &volume.name)?;
        let guards = Guards { evaluation: model.evaluate(&[]), model: &model, pool };
        for file in files {
            let of_file = |copy: &WholeCopy| copy.file == file.pieces[0].note.file;
            let of_it = copies.iter().position(of_file).map(|position| copies.swap_remove(position));
            let step = guards.next(&file, of_it, &mut joins.spare)?;
            joins.wait |= matches!(step, Step::NoRoom) && guards.has_parity();
            joins.steps.push((file, step));
        }
        for rest in rests {
            if let Some(step) = guards.named(&rest)? {
                joins.steps.push((rest, step));
            }
        }
        joins.spare.extend(copies);
        joins.find_room(pool, volume)?;
        Ok(joins)
    }

    /// Places for whole copies.
    fn find_room(&mut self, pool: &Pool, volume: &VolumeSpec) -> Result<()> {
        if !self.steps.iter().any(|(_, step)| matches!(step, Step::NoRoom)) {
            return Ok(());
        }
        let grounds = Grounds::open(pool, volume)?.without_caches();
        let mut lander = grounds.lander(pool, volume, ByteLength::ZERO)?;
        for (file, step) in self.steps.iter_mut().filter(|(_, step)| matches!(step, Step::NoRoom)) {
            if let Some(Spot::Whole(places)) = lander.whole_on_disks(&file.path, file.size) {
                *step = Step::Copy(pool.members[grounds.members[places[0]]].row.id);
            }
        }
        Ok(())
    }

    /// Whether files are in pieces still when all steps are taken that can be: a sync has to come first, or more room.
    fn go_on(&self) -> bool {
        self.steps.iter().any(|(_, step)| match step {
            Step::Copy(_) => self.wait,
            Step::Wait(_) | Step::NoRoom => true,
            Step::Take(_) | Step::Over => false,
        })
    }

    /// The files that are in pieces.
    pub(super) fn files(&self) -> impl Iterator<Item = &PiecedFile> {
        self.steps.iter().filter(|(_, step)| !matches!(step, Step::Over)).map(|(file, _)| file)
    }

    /// Where those come to lie that find a place, and how long they are.
    pub(super) fn places(&self) -> Vec<(&RelPath, ByteLength, Vec<DiskId>)> {
        let place = |step: &Step| match step {
            Step::Copy(to) => Some(*to),
            Step::Wait(there) => Some(*there),
            Step::Take(copy) => Some(copy.disk),
            Step::NoRoom | Step::Over => None,
        };
        self.steps.iter().filter_map(|one| Some((&one.0.path, one.0.size, vec![place(&one.1)?]))).collect()
    }

    /// What is free on a disk when whole copies are made, and their pieces gone.
    pub(super) fn free_afterwards(&self, disk: DiskId, free: ByteLength) -> ByteLength {
        let pieces = self.steps.iter().flat_map(|(file, _)| &file.pieces);
        let freed: ByteLength =
            pieces.filter(|piece| piece.disk == disk).map(|piece| piece.note.length).sum();
        let is_here = |step: &Step| matches!(step, Step::Copy(to) if *to == disk);
        let taken: ByteLength =
            self.steps.iter().filter(|(_, step)| is_here(step)).map(|(file, _)| file.size).sum();
        free.plus(freed).minus(taken)
    }

    /// What a plan says of them; an error where no step can be taken.
    ///
    /// # Errors
    /// When nothing can be done before a sync, or before there is more room; when the measured curves are damaged.
    pub(super) fn plan(&self, pool: &Pool) -> Result<Option<PiecesPlan>> {
        if self.steps.is_empty() && self.spare.is_empty() {
            return Ok(None);
        }
        let mut plan = PiecesPlan { goes_on: self.go_on(), ..PiecesPlan::default() };
        let (mut read, mut written) = (Amounts::default(), Amounts::default());
        self.spare.iter().for_each(|copy| plan.taken_back.add(copy.object.size));
        for (file, step) in &self.steps {
            match step {
                Step::Copy(to) => {
                    plan.to_copy.add(file.size);
                    for piece in &file.pieces {
                        read.add(&pool.member(piece.disk)?.row.name, piece.note.length);
                    }
                    written.add(&pool.member(*to)?.row.name, file.size);
                }
                Step::Take(_) | Step::Over => plan.to_become_whole.add(file.size),
                Step::Wait(_) => plan.waiting.add(file.size),
                Step::NoRoom => plan.without_room.add(file.size),
            }
        }
        if plan.to_copy.files > 0 {
            plan.forecast = Some(forecast_copies(pool, &read, &written)?);
        }
        self.refuse_standstill(&plan).map(|()| Some(plan))
    }

    fn refuse_standstill(&self, plan: &PiecesPlan) -> Result<()> {
        if plan.to_copy.files + plan.to_become_whole.files + plan.taken_back.files > 0
            || self.steps.is_empty()
        {
            return Ok(());
        }
        if plan.waiting.files > 0 {
            let message = format!(
                "whole copies of files in pieces that a sync has not guarded yet: {}, {}",
                plan.waiting.files, plan.waiting.bytes
            );
            return Err(Error::new(Kind::Conflict, "convert.waits", message)
                .remedy("zinc-sieve sync, then run this again"));
        }
        let (largest, _) = &self.steps[0];
        let message = format!(
            "files that lie in pieces: {} (such as {}, {}); only a spanned volume has those, and no disk has room for all of one",
            plan.without_room.files, largest.path, largest.size
        );
        Err(Error::new(Kind::Conflict, "convert.pieces", message).remedy(
            "let a larger disk join (zinc-sieve grow, replace), or make room: zinc-sieve rm, and a sync",
        ))
    }

    /// Takes all steps that can be taken; what becomes of each is in the report, also where it was asked to stop.
    ///
    /// # Errors
    /// What a disk or the database says.
    pub(super) fn execute(
        self,
        pool: &Pool,
        volume: &VolumeSpec,
        observer: &dyn Observer,
        report: &mut PiecesReport,
        left_alone: &mut Vec<LeftAlone>,
    ) -> Result<()> {
        for copy in &self.spare {
            heed(observer)?;
            if take(pieces::hold_copy(pool, copy)?, left_alone) {
                report.taken_back.add(copy.object.size);
            }
        }
        if self.steps.is_empty() {
            return Ok(());
        }
        let to_copy = || {
            self.steps.iter().filter_map(|(file, step)| match step {
                Step::Copy(to) => Some((file, *to)),
                _ => None,
            })
        };
        if to_copy().next().is_none() {
            return become_whole(pool, self.steps, observer, report, left_alone);
        }
        announce(observer, "joining", to_copy().map(|(file, _)| file.size).sum());
        for (file, to) in to_copy() {
            heed(observer)?;
            match pieces::copy_whole(pool, file, to, observer) {
                Err(error) if error.code == "file.damaged" => {
                    left_alone.push(LeftAlone { path: file.path.to_string(), why: error.message });
                }
                other => {
                    other?;
                    report.copied.add(file.size);
                }
            }
        }
        // What was copied is guarded as its pieces are where nothing guards those.
        let now = Self::look(pool, volume)?;
        become_whole(pool, now.steps, observer, report, left_alone)
    }
}

/// What can become whole does; what cannot is counted.
fn become_whole(
    pool: &Pool,
    steps: Vec<(PiecedFile, Step)>,
    observer: &dyn Observer,
    report: &mut PiecesReport,
    left_alone: &mut Vec<LeftAlone>,
) -> Result<()> {
    for (file, step) in steps {
        heed(observer)?;
        let left = match &step {
            Step::Take(copy) => pieces::take_place(pool, &file, copy)?,
            Step::Over => pieces::hold_rest(pool, &file)?,
            Step::Wait(_) => {
                report.waiting.add(file.size);
                continue;
            }
            Step::Copy(_) | Step::NoRoom => {
                report.without_room.add(file.size);
                continue;
            }
        };
        if take(left, left_alone) {
            report.became_whole.add(file.size);
        }
    }
    Ok(())
}

/// Whether nothing was left; what was is told.
fn take(left: Vec<Left>, left_alone: &mut Vec<LeftAlone>) -> bool {
    let is_done = left.is_empty();
    left_alone.extend(left.into_iter().map(|l| LeftAlone { path: l.path.to_string(), why: l.why.into() }));
    is_done
}

/// How much the files of a volume are guarded.
struct Guards<'a> {
    pool: &'a Pool,
    model: &'a VolumeModel,
    evaluation: Evaluation,
}

impl Guards<'_> {
    /// What is next for a file; a copy of it that is none goes to the spare ones.
    fn next(&self, file: &PiecedFile, copy: Option<WholeCopy>, spare: &mut Vec<WholeCopy>) -> Result<Step> {
        if let Some(step) = self.named(file)? {
            return Ok(step);
        }
        let Some(copy) = copy else { return Ok(Step::NoRoom) };
        match copy.content {
            None => Ok(Step::Wait(copy.disk)),
            Some(found) if found != file.whole => {
                spare.push(copy);
                Ok(Step::NoRoom)
            }
            Some(_) if self.is_guarded_like(file, copy.object.id)? => Ok(Step::Take(copy)),
            Some(_) => Ok(Step::Wait(copy.disk)),
        }
    }

    /// What is next for one that is whole under its name as well.
    fn named(&self, file: &PiecedFile) -> Result<Option<Step>> {
        let reading = self.pool.catalogue.reading();
        for member in self.pool.members_of(&self.model.volume, Role::Data) {
            let Some(object) = objects::by_path(reading, member.row.id, &file.path)? else { continue };
            if contents::present(reading, &object)?.is_some_and(|sum| sum.whole == file.whole) {
                let is_guarded = self.is_guarded_like(file, object.id)?;
                return Ok(Some(if is_guarded { Step::Over } else { Step::Wait(member.row.id) }));
            }
        }
        Ok(None)
    }

    fn has_parity(&self) -> bool {
        self.pool.members_of(&self.model.volume, Role::Parity).next().is_some()
    }

    /// Whether as many disks may be lost without losing this as without losing the file in pieces. Where there is parity it has
    /// to encode it, too: while an image cannot be read, nothing is guarded, and what is compared alone would be equal.
    fn is_guarded_like(&self, file: &PiecedFile, object: ObjectId) -> Result<bool> {
        let is_encoded = !self.has_parity() || self.model.is_encoded(object);
        Ok(is_encoded && self.level(object) >= self.of_pieces(file)?)
    }

    fn of_pieces(&self, file: &PiecedFile) -> Result<Option<u8>> {
        let first = &file.pieces[0];
        let piece = objects::by_path(self.pool.catalogue.reading(), first.disk, &first.path)?;
        Ok(piece.and_then(|piece| self.level(piece.id)))
    }

    fn level(&self, object: ObjectId) -> Option<u8> {
        self.model.of_object(&self.evaluation, object).map(|(_, guard)| guard.level)
    }
}
