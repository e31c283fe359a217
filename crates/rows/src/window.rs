//! All lanes over the rows of one parity cell, as the snapshot has them: read where they can be, computed
//! where they cannot.

use sieve_core::code::{Decoder, Encoder};
use sieve_core::gf256::Kernel;
use sieve_core::lane::{IntervalMap, LaneMap, Rows};
use sieve_core::sync::CellGeometry;
use sieve_core::units::{CellIndex, CheckpointId, DiskId, GRANULE, ParityIndex, Slot, VersionId};

use crate::content::{CellProblem, Contents};
use crate::image::ParityImage;
use sieve_disk::Result;

/// One lane over the rows of a window.
#[derive(Debug)]
pub struct LaneWindow {
    /// Its bytes; zeros where it is zero, or not known.
    pub bytes: Vec<u8>,
    /// The rows that are not known, in order.
    pub unknown: Vec<Rows>,
    /// It is zero in all rows.
    pub is_zero: bool,
}

/// Something that was found wrong while reading.
#[derive(Debug)]
pub struct ReadProblem {
    /// The disk.
    pub disk: DiskId,
    /// The content.
    pub version: VersionId,
    /// Its cell.
    pub cell: u64,
    /// What is wrong.
    pub problem: CellProblem,
}

fn span(rows: Rows, window: Rows) -> std::ops::Range<usize> {
    let at = |row: u64| usize::try_from((row - window.start()) * GRANULE).expect("a window is in memory");
    at(rows.start())..at(rows.end())
}

/// Reads what `lane` holds over `rows`, cell by checked cell.
///
/// # Errors
/// Only when the catalogue contradicts itself; what cannot be read is `unknown`, with its reason in `problems`.
pub fn read_lane(
    contents: &mut Contents<'_>,
    disk: DiskId,
    lane: &LaneMap,
    rows: Rows,
    problems: &mut Vec<ReadProblem>,
) -> Result<LaneWindow> {
    let mut window = LaneWindow { bytes: vec![0; span(rows, rows).end], unknown: Vec::new(), is_zero: true };
    for piece in lane.overlapping(rows) {
        window.is_zero = false;
        let version = contents.version(disk, piece.value.version)?;
        let size = version.cell_granules();
        let content = Rows::at(piece.value.offset, piece.rows.length());
        for cell in content.start() / size..content.end().div_ceil(size) {
            let part = Rows::at(cell * size, size).intersection(content);
            let place = Rows::at(piece.rows.start() + (part.start() - content.start()), part.length());
            match contents.cell(disk, version.id, cell) {
                Ok(bytes) => {
                    let from = usize::try_from((part.start() - cell * size) * GRANULE).expect("in memory");
                    let target = &mut window.bytes[span(place, rows)];
                    let available = bytes.len().saturating_sub(from).min(target.len());
                    target[..available].copy_from_slice(&bytes[from..from + available]);
                }
                Err(problem) => {
                    window.unknown.push(place);
                    problems.push(ReadProblem { disk, version: version.id, cell, problem });
                }
            }
        }
    }
    Ok(window)
}

/// One lane of the snapshot.
pub struct SnapshotLane {
    /// Its disk.
    pub disk: DiskId,
    /// Its slot.
    pub slot: Slot,
    /// What it holds.
    pub map: LaneMap,
}

/// The snapshot of a volume, readable row by row.
pub struct Snapshot {
    /// The lanes.
    pub lanes: Vec<SnapshotLane>,
    /// The checkpoint that each parity cell is expected to be of.
    pub expected: IntervalMap<CheckpointId>,
    /// How rows are cut into cells.
    pub geometry: CellGeometry,
    /// The instructions that computing uses.
    pub kernel: Kernel,
}

/// All lanes over one cell, in the order of [`Snapshot::lanes`].
pub struct Window {
    /// The rows.
    pub rows: Rows,
    /// The lanes.
    pub lanes: Vec<LaneWindow>,
}

impl Snapshot {
    /// The cells that parity has.
    pub fn cells(&self) -> impl Iterator<Item = CellIndex> {
        let all = self.expected.iter().flat_map(|cells| cells.rows.start()..cells.rows.end());
        all.filter_map(|cell| Some(CellIndex::new(u32::try_from(cell).ok()?)))
    }

    /// Reads all lanes over a cell and computes what cannot be read, where the parities allow.
    ///
    /// # Errors
    /// Only when the catalogue contradicts itself.
    pub fn read(
        &self,
        contents: &mut Contents<'_>,
        images: &[&ParityImage],
        cell: CellIndex,
        problems: &mut Vec<ReadProblem>,
    ) -> Result<Window> {
        let rows = self.geometry.rows(cell);
        let lanes = self
            .lanes
            .iter()
            .map(|lane| read_lane(contents, lane.disk, &lane.map, rows, problems))
            .collect::<Result<Vec<_>>>()?;
        let mut window = Window { rows, lanes };
        if window.lanes.iter().any(|lane| !lane.unknown.is_empty()) {
            self.compute_unknown(images, cell, &mut window);
        }
        Ok(window)
    }

    /// Computes parities over a cell whose lanes are all known.
    pub fn encode(&self, parities: &[ParityIndex], lanes: &[LaneWindow]) -> Vec<Vec<u8>> {
        let not_zero = || self.lanes.iter().zip(lanes).filter(|(_, window)| !window.is_zero);
        let slots: Vec<Slot> = not_zero().map(|(lane, _)| lane.slot).collect();
        let length = usize::try_from(self.geometry.cell_bytes()).expect("a cell is in memory");
        let mut computed = vec![vec![0; length]; parities.len()];
        Encoder::new(self.kernel, parities, &slots).encode(
            &mut computed.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(),
            &not_zero().map(|(_, window)| window.bytes.as_slice()).collect::<Vec<_>>(),
        );
        computed
    }

    fn compute_unknown(&self, images: &[&ParityImage], cell: CellIndex, window: &mut Window) {
        let Some(expected) = self.expected.at(u64::from(cell.get())) else { return };
        let parities: Vec<(ParityIndex, Vec<u8>)> =
            images.iter().filter_map(|image| Some((image.index(), image.read(cell, expected)?))).collect();
        let mut borders: Vec<u64> =
            window.lanes.iter().flat_map(|l| &l.unknown).flat_map(|r| [r.start(), r.end()]).collect();
        borders.sort_unstable();
        borders.dedup();
        for pair in borders.windows(2) {
            self.compute_rows(&parities, window, Rows::new(pair[0], pair[1]));
        }
        for lane in &mut window.lanes {
            lane.unknown.retain(|r| !r.is_empty());
        }
    }

    /// Computes the missing lanes over rows in which the same lanes are missing throughout.
    fn compute_rows(&self, parities: &[(ParityIndex, Vec<u8>)], window: &mut Window, rows: Rows) {
        let is_missing = |lane: &LaneWindow| lane.unknown.iter().any(|r| !r.intersection(rows).is_empty());
        let missing: Vec<usize> = (0..window.lanes.len()).filter(|i| is_missing(&window.lanes[*i])).collect();
        if missing.is_empty() || missing.len() > parities.len() {
            return;
        }
        let bytes = span(rows, window.rows);
        let known: Vec<usize> = (0..window.lanes.len())
            .filter(|position| !window.lanes[*position].is_zero && !missing.contains(position))
            .collect();
        let slots = |positions: &[usize]| -> Vec<Slot> {
            positions.iter().map(|position| self.lanes[*position].slot).collect()
        };
        let indices: Vec<ParityIndex> = parities.iter().map(|(index, _)| *index).collect();
        let Ok(decoder) = Decoder::new(self.kernel, &slots(&missing), &indices, &slots(&known)) else {
            return;
        };
        let mut found = vec![vec![0; bytes.len()]; missing.len()];
        decoder.decode(
            &mut found.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(),
            &parities.iter().map(|(_, parity)| &parity[bytes.clone()]).collect::<Vec<_>>(),
            &known.iter().map(|position| &window.lanes[*position].bytes[bytes.clone()]).collect::<Vec<_>>(),
        );
        for (position, lane_bytes) in missing.into_iter().zip(found) {
            let lane = &mut window.lanes[position];
            lane.bytes[bytes.clone()].copy_from_slice(&lane_bytes);
            lane.unknown = without(&lane.unknown, rows);
        }
    }
}

/// The ranges with `cut` taken out.
pub fn without(ranges: &[Rows], cut: Rows) -> Vec<Rows> {
    ranges
        .iter()
        .flat_map(|r| {
            [Rows::new(r.start(), cut.start().min(r.end())), Rows::new(cut.end().max(r.start()), r.end())]
        })
        .filter(|r| !r.is_empty())
        .collect()
}
