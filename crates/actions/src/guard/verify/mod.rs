//! Reading everything and comparing it: contents with their checksums, parity with the contents.

mod forecast;
mod mend;
mod mend_in_place;
mod mend_report;
mod report;
mod streaming;

use std::collections::{BTreeMap, BTreeSet};

use sieve_core::amounts::Amounts;
use sieve_core::fate::Standing;
use sieve_core::lane::IntervalMap;
use sieve_core::path::RelPath;
use sieve_core::units::{CellIndex, DiskId, ParityIndex, VersionId};

pub use forecast::{amounts, forecast};
pub use mend::mend;
pub(crate) use mend_in_place::recover;
pub use mend_report::{LeftCell, MendReport, MendedCell};
pub use report::{DamagedFile, Scope, VerifyReport};

use sieve_catalogue::checks;
use sieve_catalogue::checks::CheckedAt;
use sieve_catalogue::label::Role;
use sieve_catalogue::{objects, parity_state, versions};
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_pool::images::{load_snapshot, open_images};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::progress::OneOfSeveral;
use sieve_pool::scan;
use sieve_pool::scan::doubts::read_doubts;
use sieve_pool::traffic::Traffic;
use sieve_rows::content::{CellProblem, Contents};
use sieve_rows::image::ParityImage;
use sieve_rows::window::{ReadProblem, Snapshot};

/// Verifies what `scope` says. Changes no file; remembers what is damaged.
///
/// # Errors
/// When another long writer is at work, or what the database says; what a disk says is part of the report.
pub fn verify(pool: &Pool, scope: &Scope, observer: &dyn Observer) -> Result<VerifyReport> {
    pool.expect_long()?;
    let mut report = VerifyReport::default();
    let (traffic, begun) = (Traffic::begin(pool), std::time::Instant::now());
    let is_meant = |name: &str| match scope {
        Scope::Disks(disks) => disks.iter().any(|disk| disk == name),
        _ => true,
    };
    if let Scope::Disks(disks) = scope {
        disks.iter().try_for_each(|name| pool.member_named(name).map(|_| ()))?;
    }
    let absent = pool.members.iter().filter(|m| !m.state.is_usable() && is_meant(&m.row.name));
    report.missing = absent.map(|m| m.row.name.clone()).collect();
    scan::scan_all(pool, |m| is_meant(&m.row.name), observer)?;
    let (amounts, forecast) = forecast::forecast(pool, scope)?.unzip();
    let amounts = amounts.unwrap_or_default();
    for volume in pool.volumes() {
        let observer = &OneOfSeveral::new(pool, observer, &volume.name, &amounts)?;
        let mut pass = Pass {
            pool,
            contents: Contents::new(pool),
            observer,
            damaged: BTreeMap::new(),
            read: BTreeSet::new(),
            report: &mut report,
        };
        for member in pool.file_members(&volume.name).filter(|m| m.state.is_usable() && is_meant(&m.row.name))
        {
            pass.doubts(member)?;
        }
        pass.volume(&volume.name, scope)?;
        pass.conclude(&volume.name)?;
        if report.stopped {
            break;
        }
    }
    report.read_bytes = traffic.since(pool).0;
    report.seconds = begun.elapsed().as_secs_f64();
    let well = report.is_clean() && report.missing.is_empty();
    let mut entry = Entry::new(Did::Verify)
        .ended(Ended::of(report.stopped, well))
        .took(report.seconds)
        .moved((&report.read_bytes, &Amounts::new()))
        .detail(&report)?;
    if let Some(forecast) = &forecast {
        entry = entry.expected(forecast);
    }
    pool.tell(entry)?;
    report.forecast = forecast;
    Ok(report)
}

struct Pass<'a> {
    pool: &'a Pool,
    contents: Contents<'a>,
    observer: &'a dyn Observer,
    damaged: BTreeMap<(DiskId, VersionId), BTreeMap<u64, String>>,
    /// Contents that were read whole.
    read: BTreeSet<VersionId>,
    report: &'a mut VerifyReport,
}

impl Pass<'_> {
    fn volume(&mut self, volume: &str, scope: &Scope) -> Result<()> {
        let snapshot = load_snapshot(self.pool, volume)?;
        match scope {
            Scope::Folder(folder) => return self.folder(volume, folder),
            Scope::Disks(disks) => {
                for member in self.pool.members_of(volume, Role::Data) {
                    if disks.contains(&member.row.name) && member.state.is_usable() {
                        self.disk(member)?;
                    }
                }
                self.parity_disks(volume, &snapshot, disks)?;
                return Ok(());
            }
            Scope::Whole | Scope::Share(_) => {}
        }
        let all: Vec<CellIndex> = snapshot.cells().collect();
        let checks = checks::all(self.pool.catalogue.reading(), volume)?;
        let cells = match scope {
            Scope::Share(share) => oldest(&all, &checks, *share),
            _ => all.clone(),
        };
        self.report.cells += all.len() as u64;
        self.observer.event(Event::Stage { name: "verifying", total: cells.len() as u64, unit: Unit::Cells });
        let streamed = streaming::compare(self.pool, volume, &snapshot, &cells, self.observer)?;
        let images = open_images(self.pool, volume, &[])?;
        self.report.parity_cells_checked += streamed.compared.values().sum::<u64>();
        self.report.parity_cells_by_checksum += streamed.by_checksum.values().sum::<u64>();
        self.clear_damaged_parity(volume, &cells[..streamed.ordered], &streamed.left)?;
        let mut done: Vec<CellIndex> = cells[..streamed.ordered].to_vec();
        for (position, cell) in streamed.left.iter().enumerate() {
            if self.is_stopped() {
                // What was not looked at closely is not checked.
                let unseen: BTreeSet<CellIndex> = streamed.left.iter().skip(position).copied().collect();
                done.retain(|cell| !unseen.contains(cell));
                break;
            }
            self.rows(&snapshot, &images, *cell)?;
        }
        self.report.cells_checked += done.len() as u64;
        self.report.stopped |= streamed.ordered < cells.len();
        let now = self.pool.machine.now();
        self.pool.catalogue.transaction(|t| checks::note(t, volume, &done, now))?;
        let checks = checks::all(self.pool.catalogue.reading(), volume)?;
        let oldest = all.iter().map(|cell| checks.at(u64::from(cell.get())).map_or(0, |at| at.0)).min();
        self.report.oldest_check =
            self.report.oldest_check.into_iter().chain(oldest.filter(|at| *at > 0)).min();
        if matches!(scope, Scope::Whole) && !self.report.stopped {
            self.files_beside(volume)?;
        }
        Ok(())
    }

    /// Parity that was read and is right is no longer damaged.
    fn clear_damaged_parity(
        &self,
        volume: &str,
        cells: &[CellIndex],
        left: &BTreeSet<CellIndex>,
    ) -> Result<()> {
        for member in self.pool.members_of(volume, Role::Parity).filter(|m| m.state.is_usable()) {
            let known = parity_state::damaged_parity(self.pool.catalogue.reading(), member.row.id)?;
            let mended =
                known.into_iter().filter(|cell| cells.binary_search(cell).is_ok() && !left.contains(cell));
            let mended: Vec<CellIndex> = mended.collect();
            if !mended.is_empty() {
                self.pool.catalogue.transaction(|t| {
                    mended
                        .iter()
                        .try_for_each(|cell| parity_state::set_damaged_parity(t, member.row.id, *cell, false))
                })?;
            }
        }
        Ok(())
    }

    /// One cell, the careful way: its contents and its parities.
    fn rows(&mut self, snapshot: &Snapshot, images: &[ParityImage], cell: CellIndex) -> Result<()> {
        let mut problems = Vec::new();
        let window = snapshot.read(&mut self.contents, &[], cell, &mut problems)?;
        self.note(problems);
        let known = window.lanes.iter().all(|lane| lane.unknown.is_empty());
        let indices: Vec<ParityIndex> = images.iter().map(ParityImage::index).collect();
        let computed = if known { snapshot.encode(&indices, &window.lanes) } else { Vec::new() };
        let expected = snapshot.expected.at(u64::from(cell.get()));
        for (position, image) in images.iter().enumerate() {
            let Some(part) = image.part_at(cell) else { continue };
            let bytes = expected.and_then(|id| part.read(cell, id));
            let good = bytes.as_ref().is_some_and(|b| !known || *b == computed[position]);
            match (good, known) {
                (true, true) => self.report.parity_cells_checked += 1,
                (true, false) => self.report.parity_cells_by_checksum += 1,
                (false, _) => self.damaged_parity(part.member(), cell)?,
            }
            self.set_damaged(part.member(), cell, !good)?;
        }
        Ok(())
    }

    fn damaged_parity(&mut self, disk: DiskId, cell: CellIndex) -> Result<()> {
        let name = self.pool.member(disk)?.row.name.clone();
        self.report.damaged_parity.entry(name).or_default().push(cell);
        Ok(())
    }

    fn set_damaged(&self, disk: DiskId, cell: CellIndex, damaged: bool) -> Result<()> {
        if parity_state::is_damaged_parity(self.pool.catalogue.reading(), disk, cell)? == damaged {
            return Ok(());
        }
        self.pool.catalogue.transaction(|t| parity_state::set_damaged_parity(t, disk, cell, damaged))
    }

    /// The cells of parity disks, by their own checksums.
    fn parity_disks(&mut self, volume: &str, snapshot: &Snapshot, disks: &[String]) -> Result<()> {
        let images = open_images(self.pool, volume, &[])?;
        for part in images.iter().flat_map(ParityImage::parts) {
            let id = part.member();
            if !disks.contains(&self.pool.member(id)?.row.name) {
                continue;
            }
            let mut cells = snapshot.cells().collect::<Vec<_>>();
            cells.retain(|cell| part.covers(*cell));
            self.observer.event(Event::Stage {
                name: "verifying",
                total: cells.len() as u64,
                unit: Unit::Cells,
            });
            for cell in cells {
                if self.is_stopped() {
                    return Ok(());
                }
                let expected = snapshot.expected.at(u64::from(cell.get()));
                let good = expected.is_some_and(|id| part.read(cell, id).is_some());
                if good {
                    self.report.parity_cells_by_checksum += 1;
                } else {
                    self.damaged_parity(id, cell)?;
                }
                self.set_damaged(id, cell, !good)?;
                self.observer.event(Event::Advanced { by: 1 });
            }
        }
        Ok(())
    }

    /// A file of which a time moved and nothing else may be as it was, or not: it is read, and told.
    fn doubts(&mut self, member: &Member) -> Result<()> {
        for (version, cells) in read_doubts(self.pool, member, self.observer)? {
            let what = "its bytes are not what was checksummed, and its change time moved: damage, or an edit that put its other times back";
            let told = self.damaged.entry((member.row.id, version)).or_default();
            told.extend(cells.into_iter().map(|cell| (cell, what.to_string())));
        }
        Ok(())
    }

    /// Every file of a disk.
    fn disk(&mut self, member: &Member) -> Result<()> {
        self.files(member, &RelPath::ROOT)
    }

    fn folder(&mut self, volume: &str, folder: &RelPath) -> Result<()> {
        for member in self.pool.file_members(volume).filter(|m| m.state.is_usable()) {
            self.files(member, folder)?;
        }
        Ok(())
    }

    /// The files below a folder of one disk, cell by cell.
    fn files(&mut self, member: &Member, folder: &RelPath) -> Result<()> {
        let mut contents = BTreeSet::new();
        let reading = self.pool.catalogue.reading();
        objects::for_each_name(reading, member.row.id, |path, object| {
            if !path.is_within(folder) {
                return Ok(());
            }
            match object.version.filter(|_| object.standing == Standing::Same) {
                Some(version) => {
                    contents.insert(version);
                }
                None => self.report.not_synced += 1,
            }
            Ok(())
        })?;
        self.observer.event(Event::Stage {
            name: "verifying",
            total: contents.len() as u64,
            unit: Unit::Files,
        });
        for version in contents {
            if self.is_stopped() {
                return Ok(());
            }
            self.content(member.row.id, version)?;
            self.observer.event(Event::Advanced { by: 1 });
        }
        Ok(())
    }

    /// Reads all cells of a content; one that is not known to its end yet has nothing to be compared with.
    fn content(&mut self, disk: DiskId, version: VersionId) -> Result<()> {
        let row = versions::get(self.pool.catalogue.reading(), version)?;
        if row.unfinished {
            self.report.not_synced += 1;
            return Ok(());
        }
        let mut problems = Vec::new();
        let mut stopped = false;
        for cell in 0..row.sum.cells.len() as u64 {
            stopped = self.is_stopped();
            if stopped {
                break;
            }
            if let Err(problem) = self.contents.cell(disk, version, cell) {
                problems.push(ReadProblem { disk, version, cell, problem });
            }
        }
        if !stopped {
            self.report.files_checked += 1;
            self.read.insert(version);
        }
        self.note(problems);
        Ok(())
    }

    /// Whether it is to stop here; what was found so far is kept and told.
    fn is_stopped(&mut self) -> bool {
        self.report.stopped |= self.observer.is_stopped();
        self.report.stopped
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
        for member in self.pool.file_members(volume).filter(|m| m.state.is_usable()) {
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
                        if whole {
                            self.report.files_checked += 1;
                            self.read.insert(version);
                        } else {
                            beside.push(version);
                        }
                    }
                    Some(_) => {}
                    None => self.report.not_synced += 1,
                }
                Ok(())
            })?;
            for version in beside {
                if self.is_stopped() {
                    return Ok(());
                }
                self.content(member.row.id, version)?;
            }
        }
        Ok(())
    }

    /// Remembers the damage, forgets what is mended, and names the files.
    fn conclude(&mut self, volume: &str) -> Result<()> {
        for member in self.pool.file_members(volume).filter(|m| m.state.is_usable()) {
            let known = parity_state::damaged_contents(self.pool.catalogue.reading(), member.row.id)?;
            let mended: BTreeSet<VersionId> = known
                .iter()
                .map(|(version, _)| *version)
                .filter(|version| self.read.contains(version))
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
            let object = objects::of_version(reading, disk, version)?;
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

/// The cells that parity is expected to have, in order.
/// So large a share of the cells, those checked the longest ago, in order; at least one.
fn oldest(all: &[CellIndex], checks: &IntervalMap<CheckedAt>, share: f64) -> Vec<CellIndex> {
    let mut by_age: Vec<(i64, CellIndex)> =
        all.iter().map(|cell| (checks.at(u64::from(cell.get())).map_or(0, |at| at.0), *cell)).collect();
    by_age.sort_unstable();
    let count = (all.len() as f64 * share).ceil() as usize;
    let mut cells: Vec<CellIndex> = by_age.into_iter().take(count).map(|(_, cell)| cell).collect();
    cells.sort_unstable();
    cells
}

#[cfg(test)]
mod tests {
    use super::*;
    use sieve_core::lane::Rows;

    #[test]
    fn a_share_takes_what_was_checked_the_longest_ago_and_in_the_end_everything() {
        let all: Vec<CellIndex> = (0..10).map(CellIndex::new).collect();
        let mut checks = IntervalMap::default();
        checks.insert(Rows::at(0, 3), CheckedAt(50));
        let mut seen = BTreeSet::new();
        for night in 0..5 {
            let cells = oldest(&all, &checks, 0.2);
            assert_eq!(cells.len(), 2);
            for cell in cells {
                checks.insert(Rows::at(u64::from(cell.get()), 1), CheckedAt(100 + night));
                seen.insert(cell);
            }
        }
        assert_eq!(seen.len(), 10, "each night other rows");
        assert_eq!(oldest(&all, &checks, 0.001).len(), 1);
    }
}
