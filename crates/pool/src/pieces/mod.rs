//! Files of a spanned volume that are too large for what is free on one disk: they lie in pieces, in our own folder.

mod read;
mod whole;
mod write;

use std::collections::BTreeMap;

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use uuid::Uuid;

pub use read::Joined;
pub use whole::{
    WholeCopy, copied_file, copies, copy_whole, hold_copy, hold_rest, join, recover_whole, take_place,
};
pub use write::{Plot, assemble, recover, write};

use crate::member::Member;
use crate::pool::Pool;
use sieve_catalogue::piece_note::PieceNote;
use sieve_catalogue::pieces;
use sieve_catalogue::pieces::PieceRow;
use sieve_disk::Result;

/// The path of a piece.
pub(crate) fn path_of(file: Uuid, number: u32) -> RelPath {
    let name = format!("{}.{number}", file.simple());
    OurPlace::Pieces.with(&name)
}

/// A file of which every piece is known.
#[derive(Clone, Debug)]
pub struct PiecedFile {
    /// Its path in the volume.
    pub path: RelPath,
    /// Its length.
    pub size: ByteLength,
    /// The BLAKE3 of all of it.
    pub whole: [u8; 32],
    /// Its pieces, in order.
    pub pieces: Vec<PieceRow>,
}

/// Reads what pieces that a scan found say about themselves.
///
/// What contradicts itself or another piece of its file is told and left alone.
///
/// # Errors
/// What the disk or the database says.
pub fn learn(pool: &Pool, member: &Member) -> Result<Vec<String>> {
    let reading = pool.catalogue.reading();
    let mut left_alone = Vec::new();
    let mut learned = Vec::new();
    let unknown = pieces::unknown(reading, member.row.id)?;
    if unknown.is_empty() && !pieces::has_gone(reading, member.row.id)? {
        return Ok(left_alone);
    }
    if !unknown.is_empty() {
        let known = pieces::all(reading, &member.row.volume)?;
        for path in unknown {
            if copied_file(&path).is_some() {
                continue; // whole, beside the pieces; who asks for the state of the pool is told of it
            }
            let disk = member.usable()?;
            let place = sieve_disk::full_path(&**disk, &path);
            match PieceNote::read(&**disk, &path) {
                Ok(Some(note)) => {
                    let row = PieceRow { disk: member.row.id, path, note };
                    match known.iter().chain(&learned).find_map(|other| contradiction(&row, other)) {
                        Some(why) => left_alone.push(format!("{}: {why}", place.display())),
                        None => learned.push(row),
                    }
                }
                Ok(None) => left_alone.push(format!("{}: this is no piece of a file", place.display())),
                Err(error) => left_alone.push(error.message),
            }
        }
    }
    pool.catalogue.transaction(|t| {
        learned.iter().try_for_each(|row| pieces::insert(t, row))?;
        pieces::forget_gone(t, member.row.id)
    })?;
    Ok(left_alone)
}

/// Why two pieces cannot both be what they say.
fn contradiction(one: &PieceRow, other: &PieceRow) -> Option<&'static str> {
    let (a, b) = (&one.note, &other.note);
    if a.file != b.file || (one.disk, &one.path) == (other.disk, &other.path) {
        return None;
    }
    if (&a.path, a.count, a.size, a.whole) != (&b.path, b.count, b.size, b.whole) {
        return Some("this piece claims to belong to a file that its other pieces describe otherwise");
    }
    // The same under the same name on another disk is a piece on its way there.
    (a.number == b.number && one.path != other.path)
        .then_some("another piece claims the same place in the file")
}

/// The files of a volume of which all pieces are known, by path.
///
/// # Errors
/// What the database says.
pub fn files(pool: &Pool, volume: &str) -> Result<Vec<PiecedFile>> {
    Ok(all(pool, volume)?.0)
}

/// Pieces that do not make a whole file: others of it are gone.
///
/// # Errors
/// What the database says.
pub fn rests(pool: &Pool, volume: &str) -> Result<Vec<PiecedFile>> {
    Ok(all(pool, volume)?.1)
}

fn all(pool: &Pool, volume: &str) -> Result<(Vec<PiecedFile>, Vec<PiecedFile>)> {
    let mut by_file: BTreeMap<Uuid, Vec<PieceRow>> = BTreeMap::new();
    for row in pieces::all(pool.catalogue.reading(), volume)? {
        let pieces = by_file.entry(row.note.file).or_default();
        // A piece on its way from one disk to another is on both for a moment, and one of them is enough.
        if pieces.last().is_none_or(|last| last.note != row.note) {
            pieces.push(row);
        }
    }
    let as_file = |pieces: Vec<PieceRow>| {
        let first = pieces.first()?.note.clone();
        Some(PiecedFile { path: first.path, size: first.size, whole: first.whole, pieces })
    };
    let mut files: Vec<PiecedFile> = by_file.into_values().filter_map(as_file).collect();
    files.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(files.into_iter().partition(is_whole))
}

/// Only what covers a file from its start to its end is one.
fn is_whole(file: &PiecedFile) -> bool {
    let mut end = ByteLength::ZERO;
    for (number, piece) in (0..).zip(&file.pieces) {
        if piece.note.number != number || piece.note.offset != end {
            return false;
        }
        end = end.plus(piece.note.length);
    }
    end == file.size
        && file.pieces.first().is_some_and(|piece| piece.note.count as usize == file.pieces.len())
}
