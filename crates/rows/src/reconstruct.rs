//! One content brought back from parity and the other disks, cell by cell, each checked against its checksum.

use sieve_core::checksum::cell_sum;
use sieve_core::lane::{Interval, Piece, Rows};
use sieve_core::units::{DiskId, GRANULE, VersionId};

use crate::content::Contents;
use crate::image::ParityImage;
use crate::places::Places;
use crate::window::Snapshot;
use sieve_catalogue::versions::VersionRow;
use sieve_disk::Result;
use sieve_disk::WriteFile;
use sieve_disk::event::{Observer, advance, heed};

/// Brings contents of a snapshot back.
pub struct Reconstructor<'a> {
    snapshot: &'a Snapshot,
    contents: Contents<'a>,
    /// The pieces of the content that was asked for last.
    pieces: Option<(DiskId, VersionId, Vec<Interval<Piece>>)>,
}

impl<'a> Reconstructor<'a> {
    /// One that reads whatever is there.
    pub fn new(places: &'a dyn Places, snapshot: &'a Snapshot) -> Self {
        Self::without(places, snapshot, &[])
    }

    /// One that reads nothing of the disks given, also if they are there.
    pub fn without(places: &'a dyn Places, snapshot: &'a Snapshot, disks: &[DiskId]) -> Self {
        Self { snapshot, contents: Contents::without(places, disks.to_vec()), pieces: None }
    }

    /// One cell of a content; nothing where it does not come back.
    ///
    /// # Errors
    /// Only when the catalogue contradicts itself.
    pub fn cell(
        &mut self,
        images: &[ParityImage],
        disk: DiskId,
        row: &VersionRow,
        cell: u64,
    ) -> Result<Option<Vec<u8>>> {
        let (start, length) = row.cell_span(cell);
        let wanted = Rows::at(cell * row.cell_granules(), row.cell_granules());
        let Some(lane) = self.snapshot.lanes.iter().position(|lane| lane.disk == disk) else {
            return Ok(None);
        };
        let mut bytes = vec![0; usize::try_from(length).unwrap_or(0)];
        for piece in self.pieces_of(lane, row.id, wanted) {
            for parity_cell in self.snapshot.geometry.cells(piece.rows) {
                let window = self.snapshot.read(&mut self.contents, images, parity_cell, &mut Vec::new())?;
                let part = piece.rows.intersection(window.rows);
                if window.lanes[lane].unknown.iter().any(|unknown| !unknown.intersection(part).is_empty()) {
                    return Ok(None);
                }
                let from = in_memory((part.start() - window.rows.start()) * GRANULE);
                let granule = piece.value.offset + (part.start() - piece.rows.start());
                let to = in_memory(granule * GRANULE - start);
                let count = bytes.len().saturating_sub(to).min(in_memory(part.length() * GRANULE));
                bytes[to..to + count].copy_from_slice(&window.lanes[lane].bytes[from..from + count]);
            }
        }
        let expected = usize::try_from(cell).ok().and_then(|index| row.sum.cells.get(index));
        Ok((expected == Some(&cell_sum(row.sum.size, cell, &bytes))).then_some(bytes))
    }

    /// The pieces that hold these granules of a content, cut to them.
    fn pieces_of(&mut self, lane: usize, version: VersionId, wanted: Rows) -> Vec<Interval<Piece>> {
        let disk = self.snapshot.lanes[lane].disk;
        if self.pieces.as_ref().is_none_or(|(d, v, _)| (*d, *v) != (disk, version)) {
            let all = self.snapshot.lanes[lane].map.iter();
            self.pieces = Some((disk, version, all.filter(|piece| piece.value.version == version).collect()));
        }
        let pieces = self.pieces.as_ref().map_or(&[][..], |(.., pieces)| pieces);
        let cut = |piece: &Interval<Piece>| {
            let here = Rows::at(piece.value.offset, piece.rows.length()).intersection(wanted);
            let first = piece.rows.start() + (here.start().max(piece.value.offset) - piece.value.offset);
            let value = Piece { version, offset: here.start() };
            (!here.is_empty()).then_some(Interval { rows: Rows::at(first, here.length()), value })
        };
        pieces.iter().filter_map(cut).collect()
    }

    /// Writes a whole content to an empty file, holes as holes; returns the cells that do not come back.
    ///
    /// # Errors
    /// What the file's disk says, when the catalogue contradicts itself, or the observer wants no more.
    pub fn write(
        &mut self,
        images: &[ParityImage],
        disk: DiskId,
        row: &VersionRow,
        output: &mut dyn WriteFile,
        observer: &dyn Observer,
    ) -> Result<Vec<u64>> {
        output.set_length(row.sum.size.exact())?;
        let mut missing = Vec::new();
        for cell in 0..row.sum.cells.len() as u64 {
            heed(observer)?;
            let Some(bytes) = self.cell(images, disk, row, cell)? else {
                missing.push(cell);
                continue;
            };
            let (start, length) = row.cell_span(cell);
            let here = Rows::at(cell * row.cell_granules(), row.cell_granules());
            for data in row.data.iter().map(|data| data.intersection(here)).filter(|data| !data.is_empty()) {
                let from = in_memory(data.start() * GRANULE - start);
                let to = in_memory((data.end() * GRANULE - start).min(length));
                output.write_at(&bytes[from..to], start + from as u64)?;
            }
            advance(observer, usize::try_from(length).unwrap_or(usize::MAX))?;
        }
        Ok(missing)
    }
}

fn in_memory(bytes: u64) -> usize {
    usize::try_from(bytes).expect("a cell is in memory")
}
