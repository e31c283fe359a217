//! A new disk that takes the files of a lost one.

use super::jobs::{self, Assembly, Job};
use sieve_catalogue::{held_files, objects, versions};
use sieve_core::checksum::cell_sum;
use sieve_core::fate::Recovered;
use sieve_core::lane::{LaneMap, Rows};
use sieve_core::path::RelPath;
use sieve_core::units::{CellIndex, DiskId, GRANULE, ObjectId, VersionId};
use sieve_disk::Result;
use sieve_disk::workspace::Workspace;
use sieve_disk::{Disk, WriteFile};
use sieve_pool::pool::Pool;
use sieve_rows::stream::solve::RowSink;
use sieve_rows::window::Snapshot;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// A data disk while it is rebuilt.
pub(super) struct DataTarget {
    pub(super) disk_id: DiskId,
    pub(super) disk: Arc<dyn Disk>,
    pub(super) jobs: Vec<Job>,
    pub(super) assemblies: BTreeMap<VersionId, Assembly>,
    /// Contents that an earlier run had finished, with the objects that have them.
    pub(super) finished: BTreeSet<(VersionId, ObjectId)>,
    /// Contents that several objects come back with: a replaced file and what is held of it.
    pub(super) shared: BTreeSet<VersionId>,
    /// Contents that something held comes back with.
    pub(super) held: BTreeSet<VersionId>,
    /// What lives in the catalogue alone comes back.
    pub(super) newest_replica: u32,
    /// What comes back in pieces is kept beside its name.
    pub(super) salvages: bool,
    /// The bytes that are missing of contents that came back in pieces and are kept: from, up to.
    pub(super) holes: BTreeMap<VersionId, Vec<(u64, u64)>>,
    pub(super) workspace: Workspace,
    pub(super) open: Option<(VersionId, Box<dyn WriteFile>)>,
    pub(super) lane: usize,
    /// The contents that are put together now, where it is not all of them.
    pub(super) only: Option<BTreeSet<VersionId>>,
}

impl DataTarget {
    pub(super) fn wants(&self, version: VersionId) -> bool {
        let is_now = self.only.as_ref().is_none_or(|only| only.contains(&version));
        is_now && self.assemblies.get(&version).is_some_and(|a| a.state.is_none())
    }

    /// Whether something of a content is known not to come back.
    pub(super) fn has_lost(&self, version: VersionId) -> bool {
        self.assemblies.get(&version).is_some_and(|a| !a.lost.is_empty())
    }

    /// The cells of parity over which something lies that is wanted.
    pub(super) fn cells(&self, snapshot: &Snapshot) -> impl Iterator<Item = CellIndex> {
        let geometry = snapshot.geometry;
        let pieces = snapshot.lanes.get(self.lane).into_iter().flat_map(|lane| lane.map.iter());
        let wanted = pieces.filter(|piece| self.wants(piece.value.version));
        wanted.flat_map(move |piece| geometry.cells(piece.rows))
    }

    pub(super) fn write(&mut self, version: VersionId, bytes: &[u8], offset: u64) -> Result<()> {
        let size = self.assemblies.get(&version).map_or(0, |a| a.size.exact());
        let length = usize::try_from(size.saturating_sub(offset)).unwrap_or(usize::MAX).min(bytes.len());
        self.file(version)?.write_at(&bytes[..length], offset)
    }

    /// The unfinished file of a content, opened for writing.
    pub(super) fn file(&mut self, version: VersionId) -> Result<&mut Box<dyn WriteFile>> {
        if self.open.as_ref().is_none_or(|(open, _)| *open != version) {
            let path = self.unfinished(version);
            self.open = Some((version, self.disk.modify(&path)?));
        }
        Ok(&mut self.open.as_mut().expect("it was just opened").1)
    }

    /// Checks a content that is put together as far as it can be, cell by cell; true if it is whole.
    pub(super) fn settle(&mut self, pool: &Pool, version: VersionId) -> Result<bool> {
        let row = versions::get(pool.catalogue.reading(), version)?;
        let lost = std::mem::take(&mut self.assemblies.get_mut(&version).expect("it is being settled").lost);
        let cell = row.cell_granules();
        let file = self.file(version)?;
        file.set_length(row.sum.size.exact())?;
        let (mut good, mut holes) = (0, Vec::new());
        for (index, expected) in (0..).zip(&row.sum.cells) {
            let rows = Rows::at(index * cell, cell);
            let (offset, length) = row.cell_span(index);
            if lost.iter().any(|l| !l.intersection(rows).is_empty()) {
                holes.push((offset, offset + length));
                continue;
            }
            let mut bytes = vec![0; usize::try_from(length).unwrap_or(0)];
            let read = file.read_at(&mut bytes, offset)?;
            if read == bytes.len() && cell_sum(row.sum.size, index, &bytes) == *expected {
                good += 1;
            } else {
                holes.push((offset, offset + length));
            }
        }
        let state = match good {
            _ if good == row.sum.cells.len() as u64 => Recovered::Whole,
            0 => Recovered::Nothing,
            _ => Recovered::Pieces,
        };
        if state == Recovered::Pieces && self.salvages {
            self.holes.insert(version, holes);
        } else if state != Recovered::Whole {
            self.open = None;
            self.disk.remove_file(&self.unfinished(version))?;
        }
        self.assemblies.get_mut(&version).expect("it is being settled").state = Some(state);
        Ok(state == Recovered::Whole)
    }

    /// What a copy did not bring is left to parity, as if it had not been tried.
    pub(super) fn reopen(&mut self, pool: &Pool, version: VersionId) -> Result<()> {
        self.assemblies.remove(&version);
        let again = jobs::assemblies(pool, self.disk_id, &self.jobs, self.newest_replica)?;
        if let Some((version, assembly)) = again.into_iter().find(|(found, _)| *found == version) {
            self.assemblies.insert(version, assembly);
        }
        Ok(())
    }

    pub(super) fn unfinished(&self, version: VersionId) -> RelPath {
        self.workspace.path_of(&format!("content-{version}"))
    }

    /// The unfinished file of a content that came back in pieces, with zeros for what is missing.
    pub(super) fn torn(&mut self, version: VersionId) -> RelPath {
        self.open = None;
        self.unfinished(version)
    }

    /// The unfinished file of a content that came back whole; none where an earlier run had finished it.
    pub(super) fn temporary(&mut self, version: VersionId) -> Option<RelPath> {
        self.open = None;
        self.finisher(version).is_none().then(|| self.unfinished(version))
    }

    /// An object that an earlier run had brought back with this content.
    pub(super) fn finisher(&self, version: VersionId) -> Option<ObjectId> {
        let first = (version, ObjectId::new(i64::MIN));
        self.finished.range(first..).next().filter(|(v, _)| *v == version).map(|(_, object)| *object)
    }

    /// Notes which contents more than one object comes back with, and which something held does.
    pub(super) fn note_sharing(&mut self, pool: &Pool) -> Result<()> {
        let mut used: Vec<VersionId> =
            self.jobs.iter().filter_map(|job| jobs::outcome(job, &self.assemblies).1).collect();
        used.sort_unstable();
        self.shared = used.windows(2).filter(|pair| pair[0] == pair[1]).map(|pair| pair[0]).collect();
        for row in held_files::all(pool.catalogue.reading(), self.disk_id)? {
            let object = objects::by_path(pool.catalogue.reading(), self.disk_id, &row.path)?;
            let position = object.and_then(|o| self.jobs.binary_search_by_key(&o.id, |job| job.object).ok());
            self.held.extend(position.and_then(|p| jobs::outcome(&self.jobs[p], &self.assemblies).1));
        }
        Ok(())
    }

    /// A path for one more unfinished file.
    pub(super) fn next_path(&mut self) -> RelPath {
        self.workspace.next_path()
    }
}

impl RowSink for DataTarget {
    fn lane(&self) -> usize {
        self.lane
    }

    fn take_rows(&mut self, lane: &LaneMap, rows: Rows, bytes: &[u8], unknown: &[Rows]) -> Result<()> {
        for piece in lane.overlapping(rows) {
            let version = piece.value.version;
            if !self.wants(version) {
                continue;
            }
            let unknown: Vec<Rows> =
                unknown.iter().map(|u| u.intersection(piece.rows)).filter(|u| !u.is_empty()).collect();
            let known =
                unknown.iter().fold(vec![piece.rows], |known, cut| sieve_rows::window::without(&known, *cut));
            let content = |row: u64| piece.value.offset + (row - piece.rows.start());
            for part in known {
                let at = |row: u64| usize::try_from((row - rows.start()) * GRANULE).expect("in memory");
                self.write(
                    version,
                    &bytes[at(part.start())..at(part.end())],
                    content(part.start()) * GRANULE,
                )?;
            }
            let assembly = self.assemblies.get_mut(&version).expect("it is wanted");
            assembly.lost.extend(unknown.iter().map(|u| Rows::at(content(u.start()), u.length())));
        }
        Ok(())
    }
}
