//! Putting a file down in pieces: all of them or none.

use std::sync::Arc;

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};
use uuid::Uuid;

use super::{PiecedFile, path_of};
use crate::pool::Pool;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::piece_note::PieceNote;
use sieve_catalogue::pieces;
use sieve_catalogue::pieces::PieceRow;
use sieve_catalogue::{mark_changed, objects, versions};
use sieve_disk::copying;
use sieve_disk::copying::READ_STEP;
use sieve_disk::copying::{changed, refuse_changed};
use sieve_disk::durable;
use sieve_disk::event::{Observer, advance, heed};
use sieve_disk::{Attributes, Disk, ReadFile, WriteFile};
use sieve_disk::{Error, Kind, Result};

/// Where a piece is to go: the disk, an unfinished file there, and how much of the file it takes.
pub struct Plot {
    /// The member.
    pub member: DiskId,
    /// Its disk.
    pub disk: Arc<dyn Disk>,
    /// Where it lies until it gets its name.
    pub temporary: RelPath,
    /// How long it is.
    pub length: ByteLength,
}

/// The pieces of a file, synced and read back, before they have their names.
#[must_use = "pieces without names are no file"]
pub struct Written<'a> {
    plots: &'a [Plot],
    notes: Vec<PieceNote>,
    attributes: &'a Attributes,
    whole: [u8; 32],
}

/// Copies a file into pieces, each synced and read back.
///
/// # Errors
/// When the source changes on the way, a piece reads back differently, or what a disk says.
pub fn write<'a>(
    input: &mut dyn ReadFile,
    attributes: &'a Attributes,
    path: &RelPath,
    plots: &'a [Plot],
    observer: &dyn Observer,
) -> Result<Written<'a>> {
    let size: ByteLength = plots.iter().map(|plot| plot.length).sum();
    let file = Uuid::new_v4();
    let whole = copy(input, plots, size, observer)?;
    let mut notes = Vec::new();
    let mut offset = ByteLength::ZERO;
    for (number, plot) in (0..).zip(plots) {
        let count = u32::try_from(plots.len()).unwrap_or(u32::MAX);
        let note =
            PieceNote { file, path: path.clone(), number, count, offset, length: plot.length, size, whole };
        let mut output = plot.disk.modify(&plot.temporary)?;
        note.write(&mut *output)?;
        output.set_attributes(attributes)?;
        output.sync()?;
        offset = offset.plus(plot.length);
        notes.push(note);
    }
    verify(plots, whole, observer)?;
    Ok(Written { plots, notes, attributes, whole })
}

fn copy(
    input: &mut dyn ReadFile,
    plots: &[Plot],
    size: ByteLength,
    observer: &dyn Observer,
) -> Result<[u8; 32]> {
    let before = input.stat()?;
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0; READ_STEP];
    let mut offset = 0;
    for plot in plots {
        let mut output = plot.disk.create(&plot.temporary)?;
        let mut written = 0;
        while written < plot.length.exact() {
            let wanted = (plot.length.exact() - written).min(buffer.len() as u64);
            let part = &mut buffer[..usize::try_from(wanted).unwrap_or(READ_STEP)];
            if input.read_at(part, offset)? != part.len() {
                return Err(changed());
            }
            hasher.update(part);
            output.write_at(part, written)?;
            written += wanted;
            offset += wanted;
            advance(observer, part.len())?;
        }
    }
    if before.size != size {
        return Err(changed());
    }
    refuse_changed(&before, &input.stat()?)?;
    Ok(*hasher.finalize().as_bytes())
}

/// Reads all pieces back.
fn verify(plots: &[Plot], expected: [u8; 32], observer: &dyn Observer) -> Result<()> {
    let mut hasher = blake3::Hasher::new();
    for plot in plots {
        copying::for_each_part(&mut *plot.disk.open(&plot.temporary)?, 0, Some(plot.length), |bytes| {
            hasher.update(bytes);
            heed(observer)
        })?;
    }
    if *hasher.finalize().as_bytes() == expected {
        return Ok(());
    }
    let disks: Vec<String> = plots.iter().map(|plot| plot.disk.root().display().to_string()).collect();
    let message = format!("what was written to {} reads back differently", disks.join(" or "));
    Err(Error::new(Kind::Io, "put.verify", message).remedy("do not trust these disks: check them"))
}

/// Writes a file from its pieces, wherever each is read from.
///
/// # Errors
/// When they do not make the file; those of `open`, and what a disk says.
pub fn assemble(
    file: &PiecedFile,
    mut open: impl FnMut(&PieceRow) -> Result<Box<dyn ReadFile>>,
    output: &mut dyn WriteFile,
    observer: &dyn Observer,
) -> Result<()> {
    let mut hasher = blake3::Hasher::new();
    for piece in &file.pieces {
        let mut offset = piece.note.offset.exact();
        copying::for_each_part(&mut *open(piece)?, 0, Some(piece.note.length), |bytes| {
            hasher.update(bytes);
            output.write_at(bytes, offset)?;
            offset += bytes.len() as u64;
            advance(observer, bytes.len())
        })?;
    }
    if *hasher.finalize().as_bytes() == file.whole { Ok(()) } else { Err(no_whole(file)) }
}

pub(super) fn no_whole(file: &PiecedFile) -> Error {
    let message = format!("{}: its pieces do not make the file that they say they do", file.path);
    Error::new(Kind::Corrupt, "file.damaged", message).remedy("zinc-sieve verify --mend")
}

impl Written<'_> {
    /// The BLAKE3 of the whole file.
    pub const fn whole(&self) -> &[u8; 32] {
        &self.whole
    }

    /// Gives the pieces their names.
    ///
    /// # Crash safety
    /// What is to come is written down before the first piece gets its name: the next start takes back what was not
    /// recorded, which is all of it or nothing.
    ///
    /// # Errors
    /// What a disk or the database says.
    pub fn publish(self, pool: &Pool) -> Result<()> {
        let Self { plots, notes, attributes, .. } = self;
        publish(pool, plots, notes, attributes)
    }
}

fn publish(pool: &Pool, plots: &[Plot], notes: Vec<PieceNote>, attributes: &Attributes) -> Result<()> {
    let rows: Vec<PieceRow> = plots
        .iter()
        .zip(notes)
        .map(|(plot, note)| PieceRow { disk: plot.member, path: path_of(note.file, note.number), note })
        .collect();
    let intent = Intent::Pieces { pieces: rows.iter().map(|row| (row.disk, row.path.tree_key())).collect() };
    let id = pool.catalogue.transaction(|t| intents::insert(t, &intent))?;
    let mut sums = Vec::new();
    for (plot, row) in plots.iter().zip(&rows) {
        durable::make_own_folder(&*plot.disk, &OurPlace::Pieces.path())?;
        durable::publish(&*plot.disk, &plot.temporary, &row.path)?;
        let mut file = plot.disk.open(&row.path)?;
        let stat = file.stat()?;
        let sum = copying::checksum(&mut *file, stat.size, |_| Ok(()))?.ok_or_else(changed)?;
        sums.push((sum, file.data_ranges()?));
    }
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        for ((plot, row), (sum, data)) in plots.iter().zip(&rows).zip(&sums) {
            // A file without one of its pieces is none: then nothing of it is recorded (L1).
            let Some(stat) = plot.disk.stat(&row.path)? else { return Err(piece_vanished(plot, row)) };
            let version = versions::insert(t, row.disk, sum, data, attributes)?;
            let extended = attributes.pack_extended();
            let object = objects::insert(t, row.disk, &stat, extended.as_deref(), Some(version), false)?;
            objects::set_name(t, row.disk, &row.path, object)?;
            pieces::insert(t, row)?;
        }
        intents::remove(t, id)
    })
}

fn piece_vanished(plot: &Plot, row: &PieceRow) -> Error {
    let place = sieve_disk::full_path(&*plot.disk, &row.path);
    let message = format!("{}: somebody took this piece of {} away", place.display(), row.note.path);
    Error::new(Kind::Conflict, "file.vanished", message).remedy("run this again")
}

/// Takes back pieces that got their names and were not recorded; what a scan took in meanwhile is a file, and stays.
///
/// # Errors
/// What a disk or the database says.
pub fn recover(pool: &Pool, id: i64, begun: &[(DiskId, Vec<u8>)]) -> Result<()> {
    let mut unknown = Vec::new();
    for (disk, key) in begun {
        let Ok(real) = pool.member(*disk)?.writable() else { return Ok(()) }; // kept for when it is back
        let path = objects::path_of(key)?;
        if path.is_piece() && objects::by_path(pool.catalogue.reading(), *disk, &path)?.is_none() {
            unknown.push((real, path));
        }
    }
    if unknown.len() == begun.len() {
        for (disk, path) in &unknown {
            if disk.stat(path)?.is_some() {
                disk.remove_file(path)?;
                disk.sync_folder(&OurPlace::Pieces.path())?;
            }
        }
    }
    pool.catalogue.transaction(|t| intents::remove(t, id))
}
