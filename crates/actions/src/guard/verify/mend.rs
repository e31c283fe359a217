//! Mending what a verify found: damaged cells of files are computed from parity and the other disks, checked against
//! their checksums, and put in the place of the damaged ones, which are kept. Damaged parity is computed anew.

use super::mend_in_place::{Patch, mend_in_place};
use super::mend_report::{LeftCell, MendReport, MendedCell};
use std::collections::BTreeMap;
use std::sync::Arc;

use sieve_core::checksum::cell_sum;
use sieve_core::fate::Standing;
use sieve_core::lane::Rows;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{CellIndex, GRANULE, VersionId};

use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::parity_state;
use sieve_catalogue::versions;
use sieve_catalogue::versions::VersionRow;
use sieve_disk::copying;
use sieve_disk::durable;
use sieve_disk::event::{Event, Observer, Unit, advance, heed};
use sieve_disk::workspace::Workspace;
use sieve_disk::{Attributes, Disk, full_path};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::checkpoint::note_written;
use sieve_pool::held;
use sieve_pool::held::{IS_WRITTEN, ToHold, Watcher};
use sieve_pool::images::{load_snapshot, open_images, recall};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_rows::content::Contents;
use sieve_rows::image::ParityImage;
use sieve_rows::window::Snapshot;

/// Mends all damage that is known.
///
/// # Crash safety
/// A file is mended in a copy that takes its name when it is whole, or in place after the new bytes and an intent are
/// durable: the next start finishes that. The bytes replaced are durable elsewhere before.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn mend(pool: &Pool, observer: &dyn Observer) -> Result<MendReport> {
    pool.expect_long()?;
    let (mut report, begun) = (MendReport::default(), std::time::Instant::now());
    for volume in pool.volumes() {
        let snapshot = load_snapshot(pool, &volume.name)?;
        let mut images = open_images(pool, &volume.name, &[])?;
        let mut mender = Mender {
            pool,
            snapshot: &snapshot,
            contents: Contents::new(pool),
            observer,
            report: &mut report,
        };
        match mender.volume(&volume.name, &mut images) {
            Err(error) if error.is_stop() => {
                report.stopped = true;
                break;
            }
            done => done?,
        }
    }
    let ended = Ended::of(report.stopped, report.is_clean());
    pool.tell(Entry::new(Did::Mend).ended(ended).took(begun.elapsed().as_secs_f64()).detail(&report)?)?;
    Ok(report)
}

struct Mender<'a> {
    pool: &'a Pool,
    snapshot: &'a Snapshot,
    /// For parity, once the files are mended.
    contents: Contents<'a>,
    observer: &'a dyn Observer,
    report: &'a mut MendReport,
}

impl Mender<'_> {
    /// Files first, since parity is computed from them.
    fn volume(&mut self, volume: &str, images: &mut [ParityImage]) -> Result<()> {
        for member in self.pool.file_members(volume).filter(|m| m.state.is_usable()) {
            self.disk(member, images)?;
        }
        for member in self.pool.members_of(volume, Role::Parity) {
            if let Some(position) = images.iter().position(|image| image.part_on(member.row.id).is_some()) {
                self.parity(member, images, position)?;
            }
        }
        Ok(())
    }

    fn disk(&mut self, member: &Member, images: &[ParityImage]) -> Result<()> {
        let known = parity_state::damaged_contents(self.pool.catalogue.reading(), member.row.id)?;
        let mut by_content: BTreeMap<VersionId, Vec<u64>> = BTreeMap::new();
        known.into_iter().for_each(|(version, cell)| by_content.entry(version).or_default().push(cell));
        if by_content.is_empty() {
            return Ok(());
        }
        let total = by_content.len() as u64;
        self.observer.event(Event::Stage { name: "mending", total, unit: Unit::Files });
        for (version, cells) in by_content {
            self.content(member, images, version, &cells)?;
            advance(self.observer, 1)?;
        }
        Ok(())
    }

    fn content(
        &mut self,
        member: &Member,
        images: &[ParityImage],
        version: VersionId,
        cells: &[u64],
    ) -> Result<()> {
        let reading = self.pool.catalogue.reading();
        let row = Arc::new(versions::get(reading, version)?);
        let object = objects::of_version(reading, member.row.id, version)?;
        let names = object.as_ref().map_or(Ok(Vec::new()), |object| objects::names(reading, object.id))?;
        let (Some(object), Some(path)) = (object, names.first().cloned()) else { return Ok(()) };
        let disk = member.writable()?;
        // Only what is still the synced object is touched.
        // A doubt that was read, and found wrong, is mended as well: what is replaced is kept.
        let is_known = matches!(object.standing, Standing::Same | Standing::Suspect);
        let stat = disk.stat(&path)?.filter(|stat| is_known && object.matches(stat));
        let Some(stat) = stat else {
            for cell in cells {
                self.leave(member, &path, &row, *cell, "its times or its inode moved since it was checksummed: it may be an edit, and is not touched (restore brings the synced content back beside it)");
            }
            return Ok(());
        };
        let patches = self.patches(images, member, &path, &row, cells)?;
        if patches.is_empty() {
            return Ok(());
        }
        let in_place = stat.links > 1 || !disk.may_give_to(stat.uid) || !has_room(&**disk, &row)?;
        let watcher = Watcher::new(&*self.pool.machine);
        let Some(watch) = watcher.watch(&**disk, &path)? else {
            cells.iter().for_each(|cell| self.leave(member, &path, &row, *cell, IS_WRITTEN));
            return Ok(());
        };
        if in_place {
            // Our own opening for writing would break the lease; that nobody else writes was seen a moment ago.
            drop(watch);
            for patch in &patches {
                mend_in_place(self.pool, member, &object, &path, patch)?;
            }
        } else {
            let item = ToHold { path: path.clone(), object, watched: Some(watch) };
            match self.mend_in_copy(member, item, &row, &patches) {
                Err(error) if error.is_stop() => return forget(&**disk, &patches).and(Err(error)),
                done => done?,
            }
        }
        self.pool.catalogue.transaction(|t| {
            patches.iter().try_for_each(|patch| parity_state::clear_damaged_cell(t, version, patch.cell))
        })?;
        for patch in patches {
            self.report.mended.push(MendedCell {
                disk: member.row.name.clone(),
                path: path.to_string(),
                bytes: (patch.offset, patch.offset + patch.bytes.len() as u64),
                kept: full_path(&**disk, &patch.kept).display().to_string(),
                in_place,
            });
        }
        Ok(())
    }

    /// What the damaged cells are to be, with what they were kept; those that do not come back are told.
    fn patches(
        &mut self,
        images: &[ParityImage],
        member: &Member,
        path: &RelPath,
        row: &Arc<VersionRow>,
        cells: &[u64],
    ) -> Result<Vec<Patch>> {
        let disk = member.writable()?;
        let mut patches = Vec::new();
        for cell in cells {
            if self.observer.is_stopped() {
                return forget(&**disk, &patches).and(Err(Error::stopped()));
            }
            match self.right_cell(images, member, path, row, *cell)? {
                Some(bytes) => patches.push(self.keep(&**disk, path, row, *cell, bytes)?),
                None => self.leave(
                    member,
                    path,
                    row,
                    *cell,
                    "no copy of it is whole there, and its rows miss more than the valid parities can bring back",
                ),
            }
        }
        Ok(patches)
    }

    /// A cell as it is to be: from another copy of the file, else from parity.
    fn right_cell(
        &mut self,
        images: &[ParityImage],
        member: &Member,
        path: &RelPath,
        row: &Arc<VersionRow>,
        cell: u64,
    ) -> Result<Option<Vec<u8>>> {
        for other in self.pool.file_members(&member.row.volume).filter(|m| m.row.id != member.row.id) {
            if let Some(bytes) = self.cell_of_copy(other, path, row, cell)? {
                return Ok(Some(bytes));
            }
        }
        // Nothing on a cache is in any row.
        if member.row.role == Role::Data {
            let recall = recall(self.pool, self.snapshot, images, &[]);
            Ok(recall.cells(member.row.id, row, cell..cell + 1, self.observer)?.remove(&cell))
        } else {
            Ok(None)
        }
    }

    /// A cell of the file of the same name and content on another disk, if it is right there.
    fn cell_of_copy(
        &self,
        other: &Member,
        path: &RelPath,
        row: &VersionRow,
        cell: u64,
    ) -> Result<Option<Vec<u8>>> {
        let reading = self.pool.catalogue.reading();
        let Ok(disk) = other.usable() else { return Ok(None) };
        let Some(object) = objects::by_path(reading, other.row.id, path)? else { return Ok(None) };
        let Some(version) = object.version.filter(|_| object.standing == Standing::Same) else {
            return Ok(None);
        };
        if versions::get(reading, version)?.sum.whole != row.sum.whole {
            return Ok(None);
        }
        let (offset, length) = row.cell_span(cell);
        let mut bytes = vec![0; usize::try_from(length).unwrap_or(0)];
        let read = disk.open(path).and_then(|mut file| file.read_at(&mut bytes, offset));
        let expected = usize::try_from(cell).ok().and_then(|cell| row.sum.cells.get(cell).copied());
        let is_right = read.is_ok_and(|count| count == bytes.len())
            && expected == Some(cell_sum(row.sum.size, cell, &bytes));
        Ok(is_right.then_some(bytes))
    }

    fn leave(&mut self, member: &Member, path: &RelPath, row: &VersionRow, cell: u64, why: &str) {
        let (start, length) = row.cell_span(cell);
        self.report.left.push(LeftCell {
            disk: member.row.name.clone(),
            path: path.to_string(),
            bytes: (start, start + length),
            why: why.into(),
        });
    }

    /// Keeps the damaged bytes of a cell.
    fn keep(
        &self,
        disk: &dyn Disk,
        path: &RelPath,
        row: &VersionRow,
        cell: u64,
        bytes: Vec<u8>,
    ) -> Result<Patch> {
        let (offset, length) = row.cell_span(cell);
        let mut old = vec![0; usize::try_from(length).unwrap_or(0)];
        // What cannot be read at all leaves zeros.
        let _ = disk.open(path).and_then(|mut file| file.read_at(&mut old, offset));
        let folder = OurPlace::Replaced.path();
        durable::make_own_folder(disk, &folder)?;
        let name = format!("{:016x}-{}-{offset}", self.pool.machine.random(), row.id);
        let kept = folder.join(name.as_bytes()).expect("digits make a valid name");
        durable::write_file(disk, &kept, &old)?;
        Ok(Patch { cell, offset, bytes, kept })
    }

    /// A whole copy with the cells mended takes the file's name.
    fn mend_in_copy(&self, member: &Member, item: ToHold, row: &VersionRow, patches: &[Patch]) -> Result<()> {
        let (disk, path) = (member.writable()?, &item.path);
        let mut space = Workspace::begin(disk, self.pool.machine.random())?;
        let copy = space.next_path();
        let mut input = disk.open(path)?;
        let stat = input.stat()?;
        let attributes = Attributes::of(&stat, disk.extended_attributes(path)?);
        let mut output = disk.create(&copy)?;
        output.set_length(stat.size.exact())?;
        for data in input.data_ranges()? {
            let copied =
                copy_rows(&mut *input, &mut *output, data, stat.size.exact(), patches, self.observer);
            if copied.is_err() {
                space.finish()?;
                return copied;
            }
        }
        for patch in patches {
            output.write_at(&patch.bytes, patch.offset)?;
        }
        output.set_attributes(&attributes)?;
        output.sync()?;
        let still_damaged = parity_state::damaged_contents(self.pool.catalogue.reading(), member.row.id)?
            .iter()
            .any(|(version, cell)| *version == row.id && patches.iter().all(|patch| patch.cell != *cell));
        if !still_damaged
            && copying::checksum(&mut *output, row.sum.size, |_| heed(self.observer))?.as_ref()
                != Some(&row.sum)
        {
            let message = format!(
                "{}: the mended copy is not what was checksummed",
                full_path(&**disk, path).display()
            );
            return Err(Error::new(Kind::Io, "mend.copy", message).remedy("do not trust this disk: check it"));
        }
        drop((input, output));
        held::swap_in(self.pool, member, item, &copy)?;
        space.finish()
    }

    /// Damaged cells of one parity are computed from the lanes.
    fn parity(&mut self, member: &Member, images: &mut [ParityImage], position: usize) -> Result<()> {
        let damaged = parity_state::damaged_parity(self.pool.catalogue.reading(), member.row.id)?;
        let name = &member.row.name;
        self.observer.event(Event::Stage {
            name: "mending parity",
            total: damaged.len() as u64,
            unit: Unit::Cells,
        });
        for cell in damaged {
            heed(self.observer)?;
            if self.parity_cell(member, images, position, cell)? {
                *self.report.parity_mended.entry(name.clone()).or_default() += 1;
            } else {
                *self.report.parity_left.entry(name.clone()).or_default() += 1;
            }
            self.observer.event(Event::Advanced { by: 1 });
        }
        Ok(())
    }

    fn parity_cell(
        &mut self,
        member: &Member,
        images: &mut [ParityImage],
        position: usize,
        cell: CellIndex,
    ) -> Result<bool> {
        let Some(expected) = self.snapshot.expected.at(u64::from(cell.get())) else { return Ok(true) };
        let all: Vec<&ParityImage> = images.iter().collect();
        let window = self.snapshot.read(&mut self.contents, &all, cell, &mut Vec::new())?;
        let known = window.lanes.iter().all(|lane| lane.unknown.is_empty());
        let Some(image) = images.get_mut(position).filter(|image| known && image.room() > 0) else {
            return Ok(false);
        };
        let computed = self.snapshot.encode(&[image.index()], &window.lanes);
        image.mend(cell, &computed[0], expected)?;
        self.pool.catalogue.transaction(|t| {
            parity_state::set_damaged_parity(t, member.row.id, cell, false)?;
            image.parts().iter().try_for_each(|part| note_written(t, part))
        })?;
        Ok(true)
    }
}

/// What was kept of a file that is not mended now is not needed: the file still has it.
fn forget(disk: &dyn Disk, patches: &[Patch]) -> Result<()> {
    patches.iter().try_for_each(|patch| disk.remove_file(&patch.kept))
}

fn has_room(disk: &dyn Disk, row: &VersionRow) -> Result<bool> {
    let granules: u64 = row.data.iter().map(|rows| rows.length()).sum();
    Ok(disk.filesystem()?.available.exact() > granules * GRANULE + (16 << 20))
}

/// Copies granules of a file but for those that are mended.
fn copy_rows(
    input: &mut dyn sieve_disk::ReadFile,
    output: &mut dyn sieve_disk::WriteFile,
    data: Rows,
    size: u64,
    patches: &[Patch],
    observer: &dyn Observer,
) -> Result<()> {
    let mut buffer = vec![0; copying::READ_STEP];
    let mut offset = data.start() * GRANULE;
    let end = (data.end() * GRANULE).min(size);
    while offset < end {
        let patched = patches.iter().find(|p| (p.offset..p.offset + p.bytes.len() as u64).contains(&offset));
        if let Some(patch) = patched {
            offset = patch.offset + patch.bytes.len() as u64;
            continue;
        }
        let next = patches.iter().map(|p| p.offset).filter(|start| *start > offset).min().unwrap_or(end);
        let length = (end.min(next) - offset).min(buffer.len() as u64) as usize;
        let count = input.read_at(&mut buffer[..length], offset)?;
        if count == 0 {
            break;
        }
        output.write_at(&buffer[..count], offset)?;
        offset += count as u64;
        heed(observer)?;
    }
    Ok(())
}
