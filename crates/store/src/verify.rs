//! Reading everything and comparing it: contents with their checksums, parity with the contents.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, CellIndex, DiskId, ParityIndex, VersionId};

use crate::catalogue::objects;
use crate::catalogue::{parity_state, versions};
use crate::content::{CellProblem, Contents};
use crate::error::Result;
use crate::event::{Event, Observer, Unit};
use crate::journal;
use crate::label::Role;
use crate::parity::ParityImage;
use crate::pool::Pool;
use crate::scan;
use crate::sync::{load_snapshot, open_images};
use crate::traffic::Traffic;
use crate::window::ReadProblem;
use crate::writer::LongWriter;

/// What a verify found.
#[derive(Clone, Debug, Default, Serialize)]
pub struct VerifyReport {
    /// Damaged or unreadable files.
    pub damaged: Vec<DamagedFile>,
    /// Damaged cells of parity, by disk.
    pub damaged_parity: BTreeMap<String, Vec<CellIndex>>,
    /// Contents whose every cell was read and is as it was checksummed.
    pub files_checked: u64,
    /// Cells of parity that were read and are what the contents say.
    pub parity_cells_checked: u64,
    /// Cells of parity whose checksum holds, but whose contents are not all there to compare with.
    pub parity_cells_by_checksum: u64,
    /// Files that changed or came after the last sync: there is nothing to compare them with.
    pub not_synced: u64,
    /// Disks that are not there.
    pub missing: Vec<String>,
    /// Bytes read, by disk.
    pub read_bytes: BTreeMap<String, ByteLength>,
}

/// One damaged file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct DamagedFile {
    /// The disk.
    pub disk: String,
    /// Its path, or where it is held.
    pub path: String,
    /// Which of its cells.
    pub cell: u64,
    /// The bytes that are affected: from, up to.
    pub bytes: (u64, u64),
    /// What is wrong.
    pub what: String,
}

impl VerifyReport {
    /// Whether nothing is damaged.
    pub fn is_clean(&self) -> bool {
        self.damaged.is_empty() && self.damaged_parity.is_empty()
    }
}

/// Verifies every volume. Changes no file; remembers what is damaged.
///
/// # Errors
/// When another long writer is at work, or what the database says; what a disk says is part of the report.
pub fn verify(pool: &Pool, observer: &dyn Observer) -> Result<VerifyReport> {
    let _lock = LongWriter::begin(&*pool.home, pool.members.iter(), "verify")?;
    let mut report = VerifyReport::default();
    let traffic = Traffic::begin(pool);
    for member in &pool.members {
        match (member.state.is_usable(), member.row.role) {
            (false, _) => report.missing.push(member.row.name.clone()),
            (true, _) => {}
        }
    }
    scan::scan_all(pool, |_| true, observer)?;
    for volume in pool.volumes() {
        let mut pass =
            Pass { pool, contents: Contents::new(pool), damaged: BTreeMap::new(), report: &mut report };
        pass.rows(&volume.name, observer)?;
        pass.files_beside(&volume.name)?;
        pass.conclude(&volume.name)?;
    }
    report.read_bytes = traffic.since(pool).0;
    journal::append(&*pool.home, pool.machine.now(), "verify", &report)?;
    Ok(report)
}

struct Pass<'a> {
    pool: &'a Pool,
    contents: Contents<'a>,
    damaged: BTreeMap<(DiskId, VersionId), BTreeMap<u64, String>>,
    report: &'a mut VerifyReport,
}

impl Pass<'_> {
    /// Every row of the snapshot: its contents and its parities.
    fn rows(&mut self, volume: &str, observer: &dyn Observer) -> Result<()> {
        let snapshot = load_snapshot(self.pool, volume)?;
        let images = open_images(self.pool, volume, &[])?;
        let cells: Vec<u64> = snapshot.expected.iter().flat_map(|i| i.rows.start()..i.rows.end()).collect();
        observer.event(Event::Stage { name: "verifying", total: cells.len() as u64, unit: Unit::Cells });
        for cell in cells.into_iter().filter_map(|c| Some(CellIndex::new(u32::try_from(c).ok()?))) {
            let mut problems = Vec::new();
            let window = snapshot.read(&mut self.contents, &[], cell, &mut problems)?;
            self.note(problems);
            let known = window.lanes.iter().all(|lane| lane.unknown.is_empty());
            let indices: Vec<ParityIndex> = images.iter().map(ParityImage::index).collect();
            let computed = if known { snapshot.encode(&indices, &window.lanes) } else { Vec::new() };
            let expected = snapshot.expected.at(u64::from(cell.get()));
            for (position, (member, image)) in
                self.present_parities(volume).into_iter().zip(&images).enumerate()
            {
                let bytes = expected.and_then(|id| image.read(cell, id));
                let good = bytes.as_ref().is_some_and(|b| !known || *b == computed[position]);
                match (good, known) {
                    (true, true) => self.report.parity_cells_checked += 1,
                    (true, false) => self.report.parity_cells_by_checksum += 1,
                    (false, _) => self.report.damaged_parity.entry(member.1).or_default().push(cell),
                }
                let id = member.0;
                let was = parity_state::damaged_parity(self.pool.catalogue.reading(), id)?.contains(&cell);
                if was == good {
                    self.pool
                        .catalogue
                        .transaction(|t| parity_state::set_damaged_parity(t, id, cell, !good))?;
                }
            }
            observer.event(Event::Advanced { by: 1 });
        }
        Ok(())
    }

    /// The parity disks whose images were opened, in the same order.
    fn present_parities(&self, volume: &str) -> Vec<(DiskId, String)> {
        let members = self.pool.members_of(volume, Role::Parity).filter(|m| m.state.is_usable());
        members.map(|m| (m.row.id, m.row.name.clone())).collect()
    }

    fn note(&mut self, problems: Vec<ReadProblem>) {
        for found in problems {
            let what = match found.problem {
                CellProblem::Damaged(_) => "its bytes are not what was checksummed".to_string(),
                CellProblem::Failed(error) => error.to_string(),
                CellProblem::Absent | CellProblem::Changed(_) => continue,
            };
            self.damaged.entry((found.disk, found.version)).or_default().insert(found.cell, what);
        }
    }

    /// Cells that lie in no row (holes), and contents that are not, or not all, in the snapshot.
    fn files_beside(&mut self, volume: &str) -> Result<()> {
        for member in self.pool.members_of(volume, Role::Data).filter(|m| m.state.is_usable()) {
            let reading = self.pool.catalogue.reading();
            let mut seen = BTreeSet::new();
            let lane = parity_state::lane(reading, member.row.id)?;
            let mapped: BTreeMap<VersionId, u64> = lane.iter().fold(BTreeMap::new(), |mut sums, piece| {
                *sums.entry(piece.value.version).or_default() += piece.rows.length();
                sums
            });
            let mut beside = Vec::new();
            objects::for_each_name(reading, member.row.id, |_, object| {
                match object.version.filter(|_| object.standing == Standing::Same) {
                    Some(version) if seen.insert(version) => {
                        let whole = mapped.get(&version).copied() == Some(object.size.granules());
                        if whole { self.report.files_checked += 1 } else { beside.push(version) }
                    }
                    Some(_) => {}
                    None => self.report.not_synced += 1,
                }
                Ok(())
            })?;
            for version in beside {
                let row = versions::get(reading, version)?;
                self.report.files_checked += 1;
                let mut problems = Vec::new();
                for cell in 0..row.sum.cells.len() as u64 {
                    if let Err(problem) = self.contents.cell(member.row.id, version, cell) {
                        problems.push(ReadProblem { disk: member.row.id, version, cell, problem });
                    }
                }
                self.note(problems);
            }
        }
        Ok(())
    }

    /// Remembers the damage, forgets what is mended, and names the files.
    fn conclude(&mut self, volume: &str) -> Result<()> {
        for member in self.pool.members_of(volume, Role::Data).filter(|m| m.state.is_usable()) {
            let known = parity_state::damaged_contents(self.pool.catalogue.reading(), member.row.id)?;
            let mended: BTreeSet<VersionId> = known
                .iter()
                .map(|(version, _)| *version)
                .filter(|version| !self.damaged.contains_key(&(member.row.id, *version)))
                .collect();
            self.pool.catalogue.transaction(|t| {
                mended.iter().try_for_each(|version| parity_state::clear_damaged_content(t, *version))?;
                for ((_, version), cells) in
                    self.damaged.iter().filter(|((disk, _), _)| *disk == member.row.id)
                {
                    cells
                        .keys()
                        .try_for_each(|cell| parity_state::add_damaged_content(t, *version, *cell))?;
                }
                Ok(())
            })?;
        }
        for ((disk, version), cells) in std::mem::take(&mut self.damaged) {
            self.report.files_checked = self.report.files_checked.saturating_sub(1);
            let reading = self.pool.catalogue.reading();
            let row = versions::get(reading, version)?;
            let object = objects::by_version(reading, disk, version)?;
            let names = object.map_or(Ok(Vec::new()), |o| objects::names(reading, o.id))?;
            let path = names.first().map_or_else(|| format!("content {version}"), RelPath::to_string);
            for (cell, what) in cells {
                let (start, length) = row.cell_span(cell);
                self.report.damaged.push(DamagedFile {
                    disk: self.pool.member(disk)?.row.name.clone(),
                    path: path.clone(),
                    cell,
                    bytes: (start, start + length),
                    what,
                });
            }
        }
        self.report.damaged.sort();
        Ok(())
    }
}
