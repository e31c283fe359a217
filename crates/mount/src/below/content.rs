//! Contents of disks that are not there, computed from parity and the other disks when they are read. Every cell is held
//! against its checksum: what comes back is the present content, or nothing does.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::versions::VersionRow;
use sieve_catalogue::{parity_state, versions};
use sieve_core::fate::Standing;
use sieve_core::units::{CheckpointId, DiskId};
use sieve_disk::Result;
use sieve_disk::event::Silent;
use sieve_disk::machine::Machine;
use sieve_pool::images::{load_snapshot, open_images, recall};
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::window::Snapshot;

use crate::{guarded, spec_of};

/// So many cells of an open file are kept: one is usually read in many small steps.
const CELLS_AT_HAND: usize = 8;
/// Where a file is read on and on, so many are computed at once: all disks are read beside each other, and rows that two cells
/// share once.
const CELLS_AHEAD: u64 = 4;

/// Where contents are computed: one after the other, on a pool of its own, so that nobody waits for it who needs none.
pub(crate) struct Computer {
    machine: Arc<dyn Machine>,
    file: PathBuf,
    volume: String,
    ready: Mutex<Option<Ready>>,
}

/// Parity as it was at a checkpoint.
struct Ready {
    pool: Pool,
    snapshot: Snapshot,
    images: Vec<ParityImage>,
    head: Option<CheckpointId>,
}

/// The content of a file of a disk that is not there.
pub(crate) struct Content {
    disk: DiskId,
    row: Arc<VersionRow>,
    at_hand: Mutex<BTreeMap<u64, Arc<Vec<u8>>>>,
}

impl Computer {
    pub(crate) fn new(pool: &Pool, volume: &str) -> Self {
        Self {
            machine: Arc::clone(&pool.machine),
            file: pool.file.clone(),
            volume: volume.into(),
            ready: Mutex::default(),
        }
    }

    /// Gets ready to read a file; nothing where parity does not have its present content.
    pub(crate) fn content(&self, object: &ObjectRow) -> Result<Option<Content>> {
        let Some(version) = object.version.filter(|_| object.standing == Standing::Same) else {
            return Ok(None);
        };
        let mut ready = guarded(&self.ready);
        let row = versions::get(self.brought_up(&mut ready)?.pool.catalogue.reading(), version)?;
        let is_whole = !row.unfinished;
        Ok(is_whole.then(|| Content { disk: object.disk, row: Arc::new(row), at_hand: Mutex::default() }))
    }

    /// The state of parity after the last sync: another one may have passed since.
    fn brought_up<'r>(&self, ready: &'r mut Option<Ready>) -> Result<&'r Ready> {
        if let Some(old) = ready
            && parity_state::head(old.pool.catalogue.reading())?.map(|head| head.id) == old.head
        {
            return Ok(ready.as_ref().expect("it was just looked at"));
        }
        let pool = sieve_pool::open(Arc::clone(&self.machine), &self.file, spec_of(&self.file)?)?;
        let head = parity_state::head(pool.catalogue.reading())?.map(|head| head.id);
        let snapshot = load_snapshot(&pool, &self.volume)?;
        let images = open_images(&pool, &self.volume, &[])?;
        Ok(ready.insert(Ready { pool, snapshot, images, head }))
    }

    /// Whether a content comes back, as far as its beginning tells.
    pub(crate) fn has(&self, content: &Content) -> bool {
        content.row.sum.size.exact() == 0
            || matches!(self.read(content, &mut [0], 0, &[]), Ok(Some(read)) if read > 0)
    }

    /// Cells of a content, as far as they come back.
    fn cells(
        &self,
        content: &Content,
        cells: Range<u64>,
        without: &[DiskId],
    ) -> Result<BTreeMap<u64, Vec<u8>>> {
        let mut ready = guarded(&self.ready);
        let now = self.brought_up(&mut ready)?;
        let recall = recall(&now.pool, &now.snapshot, &now.images, without);
        recall.cells(content.disk, &content.row, cells, &Silent)
    }

    /// Reads from a content into `buffer`; how much there was. Nothing where it does not come back.
    pub(crate) fn read(
        &self,
        content: &Content,
        buffer: &mut [u8],
        offset: u64,
        without: &[DiskId],
    ) -> Result<Option<usize>> {
        let size = content.row.sum.size.exact();
        let end = size.min(offset.saturating_add(buffer.len() as u64));
        let mut at = offset;
        while at < end {
            let cell = at / content.row.cell_bytes();
            let Some(bytes) = self.at_hand(content, cell, without)? else { return Ok(None) };
            let (start, length) = content.row.cell_span(cell);
            let until = end.min(start + length);
            let (from, to) = (in_memory(at - start), in_memory(until - start));
            let into = in_memory(at - offset);
            buffer[into..into + (to - from)].copy_from_slice(&bytes[from..to]);
            at = until;
        }
        Ok(Some(in_memory(at.saturating_sub(offset))))
    }

    fn at_hand(&self, content: &Content, cell: u64, without: &[DiskId]) -> Result<Option<Arc<Vec<u8>>>> {
        let find = |cell: u64| guarded(&content.at_hand).get(&cell).cloned();
        if let Some(known) = find(cell) {
            return Ok(Some(known));
        }
        let goes_on = cell.checked_sub(1).is_some_and(|before| find(before).is_some());
        let end = (cell + if goes_on { CELLS_AHEAD } else { 1 }).min(content.row.sum.cells.len() as u64);
        let come = self.cells(content, cell..end, without)?;
        let mut at_hand = guarded(&content.at_hand);
        at_hand.extend(come.into_iter().map(|(cell, bytes)| (cell, Arc::new(bytes))));
        let found = at_hand.get(&cell).cloned();
        while at_hand.len() > CELLS_AT_HAND
            && let Some(furthest) = at_hand.keys().copied().max_by_key(|other| other.abs_diff(cell))
        {
            at_hand.remove(&furthest);
        }
        Ok(found)
    }
}

fn in_memory(bytes: u64) -> usize {
    usize::try_from(bytes).expect("no more is asked for than fits into memory")
}
