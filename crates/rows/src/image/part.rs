//! The part of a parity image that lies on one disk: copy-on-write cells. What the last checkpoint wrote is never
//! overwritten before the next one is durable.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use sieve_core::lane::IntervalMap;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::sync::CellGeometry;
use sieve_core::units::{ByteLength, CellIndex, CheckpointId, DiskId, ParityIndex};
use uuid::Uuid;

use super::index::{EntryAt, Index, Located};
use super::table::{self, Entry, Log};
use sieve_disk::durable;
use sieve_disk::{Disk, Stat, WriteFile, full_path};
use sieve_disk::{Error, Kind, Result};

/// A filesystem may limit the size of one file.
const SEGMENT_BYTES: u64 = 1 << 30;
/// At most so much is kept free for the next checkpoint's copies.
const MOST_SPARE: u64 = 1 << 30;

/// How large an image may become.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ImageLimits {
    /// Slots in all.
    pub slots: u32,
    /// Slots kept free of live cells, for copies.
    pub spare: u32,
}

impl ImageLimits {
    /// The limits on a disk of which so many bytes may be used: something is left for the table and a replica.
    pub fn for_bytes(usable: ByteLength, geometry: CellGeometry) -> Self {
        let cell = geometry.cell_bytes();
        let overhead = (usable.exact() / 64).clamp(cell, 64 << 20);
        let slots = usable.exact().saturating_sub(overhead) / cell;
        let spare = (slots / 64).clamp(2, MOST_SPARE / cell).min(slots);
        Self {
            slots: u32::try_from(slots).unwrap_or(u32::MAX),
            spare: u32::try_from(spare).unwrap_or(u32::MAX),
        }
    }

    /// How many cells of parity the image can hold.
    pub const fn cells(self) -> u32 {
        self.slots - self.spare
    }
}

/// So many slots may be named whatever is free on the disk at the moment.
const SLOTS_OF_ANY_DISK: u64 = 8192;

/// A cell that is being written.
pub struct OpenCell {
    cell: CellIndex,
    slot: u32,
    written: u64,
    hasher: blake3::Hasher,
}

impl OpenCell {
    /// Which.
    pub const fn cell(&self) -> CellIndex {
        self.cell
    }
}

/// Where a cell lies, and its checksum.
pub(super) struct Spot {
    pub(super) disk: Arc<dyn Disk>,
    pub(super) segment: RelPath,
    pub(super) offset: u64,
    pub(super) sum: [u8; 16],
}

/// Where a part belongs.
#[derive(Clone, Debug)]
pub struct PartPlace {
    /// The member that it lies on.
    pub member: DiskId,
    /// The cells that belong there; an image that does not go on elsewhere has them all.
    pub cells: Range<u32>,
    /// How large it may become.
    pub limits: ImageLimits,
}

/// The slots that no cell lies in, of the first `end`.
fn free_slots(entries: &Index, end: u32) -> BTreeSet<u32> {
    let mut is_free = vec![true; end as usize];
    entries.iter().for_each(|(_, located)| is_free[located.slot as usize] = false);
    (0..end).zip(is_free).filter_map(|(slot, is_free)| is_free.then_some(slot)).collect()
}

/// A part of a parity image, open: all of it, unless it goes on over several disks.
pub struct Part {
    disk: Arc<dyn Disk>,
    place: PartPlace,
    identity: (Uuid, ParityIndex, CellGeometry),
    entries: Index,
    /// The table's file: it has the checksums.
    log: Mutex<Option<Log>>,
    /// Cells that were written since the last checkpoint;
    pending: BTreeMap<u32, Entry>,
    /// and where the frame begins that has them, once it does.
    prepared: Option<u64>,
    free: BTreeSet<u32>,
    /// Given up by a committed checkpoint, not to be used before the replicas have followed.
    freed: Vec<u32>,
    end: u32,
    logged: usize,
    /// The table holds what the catalogue does not know, or cannot be read: it is written anew before anything is added.
    rewrites: bool,
    damage: Option<String>,
    segments: HashMap<u32, Box<dyn WriteFile>>,
}

impl Part {
    /// Opens (or begins) the image on a disk. Where its table is damaged, no cell is valid.
    ///
    /// # Errors
    /// When its table is of a newer format.
    pub fn open(
        disk: Arc<dyn Disk>,
        place: PartPlace,
        identity: (Uuid, ParityIndex, CellGeometry),
        knows: impl FnMut(CheckpointId) -> Result<bool>,
    ) -> Result<Self> {
        let (table, damage) = match table::read(&*disk, identity, u64::from(place.limits.slots), knows) {
            Ok(table) => (table, None),
            Err(error) if matches!(error.kind, Kind::Corrupt | Kind::Io) && error.code != table::NEWER => {
                (table::Table::default(), Some(error.message))
            }
            Err(error) => return Err(error),
        };
        // A slot far beyond what the disk can hold would only make room for itself in memory (L6).
        let most = u64::from(place.limits.slots).max(table.entries.len() as u64 * 2 + SLOTS_OF_ANY_DISK);
        let (table, damage) = match table.entries.iter().map(|(_, located)| located.slot).max() {
            Some(slot) if u64::from(slot) >= most => {
                let place = full_path(&*disk, &table::path());
                let why =
                    format!("{}: the parity table names slot {slot}, which cannot be there", place.display());
                (table::Table::default(), Some(why))
            }
            _ => (table, damage),
        };
        let end = table.entries.iter().map(|(_, located)| located.slot + 1).max().unwrap_or(0);
        Ok(Self {
            disk,
            place,
            identity,
            free: free_slots(&table.entries, end),
            entries: table.entries,
            log: Mutex::new(table.log),
            pending: BTreeMap::new(),
            prepared: None,
            freed: Vec::new(),
            end,
            logged: table.logged,
            rewrites: table.has_strangers || damage.is_some(),
            damage,
            segments: HashMap::new(),
        })
    }

    /// The member that it lies on.
    pub const fn member(&self) -> DiskId {
        self.place.member
    }

    /// Why none of its cells is valid, when its table cannot be used.
    pub fn damage(&self) -> Option<&str> {
        self.damage.as_deref()
    }

    /// Whether a cell belongs here.
    pub fn covers(&self, cell: CellIndex) -> bool {
        self.place.cells.contains(&cell.get())
    }

    /// The bytes that its slots take.
    pub fn bytes(&self) -> ByteLength {
        ByteLength::new(u64::from(self.end) * self.cell_bytes())
    }

    fn cell_bytes(&self) -> u64 {
        self.identity.2.cell_bytes()
    }

    fn segment_of(&self, slot: u32) -> (u32, u64) {
        let slots = u32::try_from(SEGMENT_BYTES / self.cell_bytes()).unwrap_or(1).max(1);
        (slot / slots, u64::from(slot % slots) * self.cell_bytes())
    }

    fn segment_path(segment: u32) -> RelPath {
        OurPlace::Parity.with(&format!("segment-{segment:05}"))
    }

    /// Whether the table has the cell as of the checkpoint that is expected.
    pub fn has(&self, cell: CellIndex, expected: CheckpointId) -> bool {
        self.entries.get(cell.get()).is_some_and(|located| located.checkpoint == expected)
    }

    /// The cells that belong here, of those expected, that the table does not have as they should be; intervals count in
    /// cells.
    pub fn missing(&self, expected: &IntervalMap<CheckpointId>) -> Vec<CellIndex> {
        expected
            .iter()
            .flat_map(|interval| {
                (interval.rows.start()..interval.rows.end()).map(move |cell| (cell, interval.value))
            })
            .filter_map(|(cell, id)| {
                let cell = CellIndex::new(u32::try_from(cell).ok()?);
                (self.covers(cell) && !self.has(cell, id)).then_some(cell)
            })
            .collect()
    }

    /// Where a cell lies, and its checksum, if it is of the expected checkpoint and the table still says so.
    fn slot_and_sum(&self, cell: CellIndex, expected: CheckpointId) -> Option<(u32, [u8; 16])> {
        let located = self.entries.get(cell.get()).filter(|located| located.checkpoint == expected)?;
        let mut log = self.log.lock().unwrap_or_else(PoisonError::into_inner);
        Some((located.slot, log.as_mut()?.sum(cell.get(), located).ok()??))
    }

    /// Reads a cell; nothing unless it is of the expected checkpoint and its checksum holds.
    ///
    /// # Errors
    /// Never for what cannot be read: that is a cell that is not valid. Only when the image contradicts itself.
    pub fn read(&self, cell: CellIndex, expected: CheckpointId) -> Option<Vec<u8>> {
        let (slot, sum) = self.slot_and_sum(cell, expected)?;
        let (segment, offset) = self.segment_of(slot);
        let mut bytes = vec![0; usize::try_from(self.cell_bytes()).ok()?];
        let length = self.disk.open(&Self::segment_path(segment)).ok()?.read_at(&mut bytes, offset).ok()?;
        let is_whole = length == bytes.len() && blake3::hash(&bytes).as_bytes()[..16] == sum;
        is_whole.then_some(bytes)
    }

    /// How each segment file that holds something looks now.
    ///
    /// # Errors
    /// What the disk says.
    pub fn segments(&self) -> Result<Vec<(u32, Option<Stat>)>> {
        let slots = self.entries.iter().map(|(_, located)| located.slot);
        let numbers: BTreeSet<u32> = slots.map(|slot| self.segment_of(slot).0).collect();
        numbers.into_iter().map(|n| Ok((n, self.disk.stat(&Self::segment_path(n))?))).collect()
    }

    /// The cells that lie in a segment.
    pub fn cells_in(&self, segment: u32) -> Vec<CellIndex> {
        let here = self.entries.iter().filter(|(_, located)| self.segment_of(located.slot).0 == segment);
        here.map(|(cell, _)| CellIndex::new(cell)).collect()
    }

    /// How the segment files that were written to look now.
    ///
    /// # Errors
    /// What the disk says.
    pub fn written_segments(&self) -> Result<Vec<(u32, Stat)>> {
        let mut found = Vec::new();
        for number in self.segments.keys() {
            if let Some(stat) = self.disk.stat(&Self::segment_path(*number))? {
                found.push((*number, stat));
            }
        }
        Ok(found)
    }

    /// How many more cells can be written before a checkpoint has to be taken.
    pub fn room(&self) -> usize {
        self.free.len() + self.place.limits.slots.saturating_sub(self.end) as usize
    }

    /// Where a cell lies, if it is of the expected checkpoint.
    pub(super) fn spot(&self, cell: CellIndex, expected: CheckpointId) -> Option<Spot> {
        let (slot, sum) = self.slot_and_sum(cell, expected)?;
        let (segment, offset) = self.segment_of(slot);
        Some(Spot { disk: Arc::clone(&self.disk), segment: Self::segment_path(segment), offset, sum })
    }

    /// Takes a written cell back before the checkpoint: it stays as it was.
    pub fn discard(&mut self, cell: CellIndex) {
        if let Some(entry) = self.pending.remove(&cell.get()) {
            self.free.insert(entry.slot);
        }
    }

    /// Begins to write a cell to a free slot, for the coming checkpoint.
    ///
    /// # Crash safety
    /// Nothing of the last checkpoint is touched.
    ///
    /// # Errors
    /// When there is no free slot, or what the disk says.
    pub fn begin_cell(&mut self, cell: CellIndex) -> Result<OpenCell> {
        if self.rewrites {
            self.rewrite(&BTreeMap::new())?;
        }
        let slot = self.take_slot(cell)?;
        Ok(OpenCell { cell, slot, written: 0, hasher: blake3::Hasher::new() })
    }

    /// Writes the next bytes of a cell.
    ///
    /// # Errors
    /// What the disk says.
    pub fn append(&mut self, open: &mut OpenCell, bytes: &[u8]) -> Result<()> {
        let (segment, offset) = self.segment_of(open.slot);
        if !self.segments.contains_key(&segment) {
            durable::make_own_folder(&*self.disk, &OurPlace::Parity.path())?;
            self.segments.insert(segment, self.disk.modify(&Self::segment_path(segment))?);
        }
        let file = self.segments.get_mut(&segment).expect("it was just put there");
        file.write_at(bytes, offset + open.written)?;
        open.hasher.update(bytes);
        open.written += bytes.len() as u64;
        Ok(())
    }

    /// A cell is written whole.
    pub fn finish_cell(&mut self, open: OpenCell) {
        let OpenCell { cell, slot, hasher, .. } = open;
        let mut sum = [0; 16];
        sum.copy_from_slice(&hasher.finalize().as_bytes()[..16]);
        let entry = Entry { slot, checkpoint: CheckpointId::new(0), sum };
        if let Some(older) = self.pending.insert(cell.get(), entry) {
            self.free.insert(older.slot);
        }
    }

    /// A free slot: for a cell that is written again as near as can be to where it lay, for a new one behind the others.
    fn take_slot(&mut self, cell: CellIndex) -> Result<u32> {
        let former = self.entries.get(cell.get()).map(|located| located.slot);
        let can_grow = self.end < self.place.limits.slots;
        if former.is_none() && can_grow {
            return Ok(self.next_slot());
        }
        let home = former.unwrap_or(cell.get() - self.place.cells.start);
        let above = self.free.range(home..).next().copied();
        let below = self.free.range(..home).next_back().copied();
        let nearest = [above, below].into_iter().flatten().min_by_key(|slot| slot.abs_diff(home));
        if let Some(slot) = nearest {
            self.free.remove(&slot);
            return Ok(slot);
        }
        if !can_grow {
            let message = format!("{}: the parity disk is full", self.disk.root().display());
            return Err(Error::new(Kind::Io, "parity.full", message));
        }
        Ok(self.next_slot())
    }

    /// The next slot behind the others. The spare ones are spread among them, so that copies find one near by.
    fn next_slot(&mut self) -> u32 {
        let apart = self.place.limits.slots / self.place.limits.spare.max(1);
        if apart > 1 && self.end % apart == apart - 1 && self.end + 1 < self.place.limits.slots {
            self.free.insert(self.end);
            self.end += 1;
        }
        self.end += 1;
        self.end - 1
    }

    fn sync_segments(&mut self) -> Result<()> {
        for file in self.segments.values_mut() {
            file.sync()?;
            file.let_go(0, 0);
        }
        Ok(())
    }

    /// Makes the written cells durable, and adds them to the table as of `checkpoint`.
    ///
    /// # Crash safety
    /// Until the catalogue knows `checkpoint`, readers take the cells as they were before.
    ///
    /// # Errors
    /// What the disk says.
    pub fn prepare(&mut self, checkpoint: CheckpointId) -> Result<()> {
        if self.pending.is_empty() {
            return Ok(());
        }
        self.sync_segments()?;
        self.disk.sync_folder(&OurPlace::Parity.path())?;
        for entry in self.pending.values_mut() {
            entry.checkpoint = checkpoint;
        }
        if self.disk.stat(&table::path())?.is_none() || self.logged > 2 * self.entries.len() + 4096 {
            self.rewrite(&BTreeMap::new())?;
        }
        let end = self.disk.stat(&table::path())?.map_or(0, |s| s.size.exact());
        let mut file = self.disk.modify(&table::path())?;
        file.write_at(&table::frame(checkpoint, &self.pending), end)?;
        file.sync()?;
        self.logged += self.pending.len();
        self.prepared = Some(end);
        Ok(())
    }

    fn rewrite(&mut self, fresh: &BTreeMap<u32, Entry>) -> Result<()> {
        let log = self.log.get_mut().unwrap_or_else(PoisonError::into_inner);
        *log = Some(table::rewrite(&*self.disk, self.identity, &mut self.entries, log.as_mut(), fresh)?);
        (self.rewrites, self.logged) = (false, self.entries.len());
        Ok(())
    }

    /// Makes the written cells durable as what the catalogue expects already.
    ///
    /// # Crash safety
    /// The table is written last; before, the cells are as they were.
    ///
    /// # Errors
    /// What the disk says.
    pub fn finish_copy(&mut self, expected: &IntervalMap<CheckpointId>) -> Result<()> {
        self.sync_segments()?;
        let mut fresh = BTreeMap::new();
        for (cell, mut entry) in std::mem::take(&mut self.pending) {
            if let Some(checkpoint) = expected.at(u64::from(cell)) {
                entry.checkpoint = checkpoint;
                self.take_in(cell, entry, table::NOT_YET);
                fresh.insert(cell, entry);
            }
        }
        durable::make_own_folder(&*self.disk, &OurPlace::Parity.path())?;
        self.disk.sync_folder(&OurPlace::Parity.path())?;
        self.rewrite(&fresh)
    }

    /// The catalogue knows the checkpoint now: the new cells count, the old ones' slots are given up.
    pub fn committed(&mut self) {
        let frame = self.prepared.take();
        for (position, (cell, entry)) in std::mem::take(&mut self.pending).into_iter().enumerate() {
            let at = frame.and_then(|frame| table::entry_in(frame, position)).unwrap_or(table::NOT_YET);
            self.take_in(cell, entry, at);
        }
    }

    /// A cell counts; the slot that it had before is given up.
    fn take_in(&mut self, cell: u32, Entry { slot, checkpoint, .. }: Entry, at: EntryAt) {
        self.freed.extend(self.entries.insert(cell, Located { slot, checkpoint, at }));
    }

    /// The replicas know the checkpoint too: slots given up may be used again.
    pub fn release(&mut self) {
        self.free.extend(self.freed.drain(..));
    }
}
