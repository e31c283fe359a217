//! Contents of disks that are not there, computed from parity and the other disks when they are read. Every cell is held
//! against its checksum: what comes back is the present content, or nothing does.

use std::collections::VecDeque;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::versions::VersionRow;
use sieve_catalogue::{parity_state, versions};
use sieve_core::fate::Standing;
use sieve_core::units::{CheckpointId, DiskId};
use sieve_disk::Result;
use sieve_disk::machine::Machine;
use sieve_pool::images::{load_snapshot, open_images};
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::reconstruct::Reconstructor;
use sieve_rows::window::Snapshot;

use crate::{guarded, spec_of};

/// So many cells of an open file are kept: one is usually read in many small steps.
const CELLS_AT_HAND: usize = 4;

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
    row: VersionRow,
    at_hand: Mutex<VecDeque<(u64, Arc<Vec<u8>>)>>,
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
        Ok(is_whole.then(|| Content { disk: object.disk, row, at_hand: Mutex::default() }))
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

    /// A cell of a content; nothing where it does not come back.
    fn cell(&self, content: &Content, cell: u64, without: &[DiskId]) -> Result<Option<Vec<u8>>> {
        let mut ready = guarded(&self.ready);
        let now = self.brought_up(&mut ready)?;
        let mut reconstructor = Reconstructor::without(&now.pool, &now.snapshot, without);
        reconstructor.cell(&now.images, content.disk, &content.row, cell)
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
        let known = guarded(&content.at_hand).iter().find(|(c, _)| *c == cell).map(|(_, b)| Arc::clone(b));
        if known.is_some() {
            return Ok(known);
        }
        let Some(bytes) = self.cell(content, cell, without)?.map(Arc::new) else { return Ok(None) };
        let mut at_hand = guarded(&content.at_hand);
        at_hand.truncate(CELLS_AT_HAND - 1);
        at_hand.push_front((cell, Arc::clone(&bytes)));
        Ok(Some(bytes))
    }
}

fn in_memory(bytes: u64) -> usize {
    usize::try_from(bytes).expect("no more is asked for than fits into memory")
}
