//! What a parity table says, small enough to be kept for the largest image: twelve bytes a cell. Checksums stay in the table's
//! file, and are read from there when they are needed.

use std::collections::{BTreeMap, HashMap};

use sieve_core::units::CheckpointId;

/// Cells of a page: neighbours are there together, most often.
const PAGE: usize = 64;
/// So many cells may be named whatever the disk can hold at the moment: as many as an image has when it is made.
const CELLS_OF_ANY_DISK: u64 = 4_000_000;

/// Where an entry begins in the table's file; all of them begin at multiples of eight bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct EntryAt(u32);

impl EntryAt {
    /// Nothing that a file has: the header is there.
    const NONE: u32 = 0;
    const UNIT: u64 = 8;
    /// Further than any table reaches.
    pub(super) const BEYOND: Self = Self(u32::MAX);

    /// None for what no table reaches.
    pub(super) fn of_offset(offset: u64) -> Option<Self> {
        u32::try_from(offset / Self::UNIT).ok().map(Self)
    }

    pub(super) fn offset(self) -> u64 {
        u64::from(self.0) * Self::UNIT
    }
}

/// Where a cell lies, of which checkpoint, and where that is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Located {
    pub(super) slot: u32,
    pub(super) checkpoint: CheckpointId,
    pub(super) at: EntryAt,
}

/// The cells of a table.
#[derive(Debug, Default)]
pub(super) struct Index {
    pages: BTreeMap<u32, Box<Page>>,
    /// The checkpoints that cells are of: few, beside the cells.
    checkpoints: Vec<CheckpointId>,
    numbers: HashMap<CheckpointId, u32>,
    length: usize,
}

#[derive(Debug)]
struct Page {
    slots: [u32; PAGE],
    checkpoints: [u32; PAGE],
    entries: [u32; PAGE],
}

fn split(cell: u32) -> (u32, usize) {
    (cell / PAGE as u32, cell as usize % PAGE)
}

impl Index {
    /// How many cells it has.
    pub(super) const fn len(&self) -> usize {
        self.length
    }

    /// Whether it has more cells, or cells further apart, than an image on a disk of so many slots: that would only make room for
    /// itself in memory (L6).
    pub(super) fn is_beyond(&self, slots: u64) -> bool {
        let cells = slots.max(CELLS_OF_ANY_DISK);
        let (length, pages) = (self.length as u64, self.pages.len() as u64);
        length > 2 * cells || pages > cells / PAGE as u64 + length / 4
    }

    pub(super) fn get(&self, cell: u32) -> Option<Located> {
        let (number, within) = split(cell);
        self.located(self.pages.get(&number)?, within)
    }

    fn located(&self, page: &Page, within: usize) -> Option<Located> {
        let at = EntryAt(page.entries[within]);
        (at.0 != EntryAt::NONE).then(|| Located {
            slot: page.slots[within],
            checkpoint: self.checkpoints[page.checkpoints[within] as usize],
            at,
        })
    }

    /// Puts a cell in; the slot that it had before.
    pub(super) fn insert(&mut self, cell: u32, located: Located) -> Option<u32> {
        let checkpoint = self.number_of(located.checkpoint);
        let (number, within) = split(cell);
        let empty =
            || Box::new(Page { slots: [0; PAGE], checkpoints: [0; PAGE], entries: [EntryAt::NONE; PAGE] });
        let page = self.pages.entry(number).or_insert_with(empty);
        let before = (page.entries[within] != EntryAt::NONE).then_some(page.slots[within]);
        page.slots[within] = located.slot;
        page.checkpoints[within] = checkpoint;
        page.entries[within] = located.at.0;
        self.length += usize::from(before.is_none());
        before
    }

    fn number_of(&mut self, checkpoint: CheckpointId) -> u32 {
        let next = u32::try_from(self.checkpoints.len()).expect("fewer checkpoints than cells");
        // Cells come in the order of their checkpoints, most often.
        if self.checkpoints.last() == Some(&checkpoint) {
            return next - 1;
        }
        let number = *self.numbers.entry(checkpoint).or_insert(next);
        if number == next {
            self.checkpoints.push(checkpoint);
        }
        number
    }

    /// All cells, in order.
    pub(super) fn iter(&self) -> impl Iterator<Item = (u32, Located)> {
        self.pages.iter().flat_map(move |(number, page)| {
            (0..PAGE).filter_map(move |within| {
                Some((number * PAGE as u32 + within as u32, self.located(page, within)?))
            })
        })
    }

    /// Drops the cells that lie in slots that `keeps` does not name.
    pub(super) fn retain(&mut self, keeps: impl Fn(u32) -> bool) {
        for page in self.pages.values_mut() {
            for within in (0..PAGE).filter(|within| !keeps(page.slots[*within])) {
                self.length -= usize::from(page.entries[within] != EntryAt::NONE);
                page.entries[within] = EntryAt::NONE;
            }
        }
    }

    /// Their entries are written anew, in the order of the cells: `at` tells where the entry of that position is.
    pub(super) fn moved(&mut self, at: impl Fn(usize) -> EntryAt) {
        let mut position = 0;
        for page in self.pages.values_mut() {
            for entry in page.entries.iter_mut().filter(|entry| **entry != EntryAt::NONE) {
                *entry = at(position).0;
                position += 1;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn located(slot: u32, checkpoint: u64) -> Located {
        let at = EntryAt::of_offset(64 + u64::from(slot) * 32).expect("it is near");
        Located { slot, checkpoint: CheckpointId::new(checkpoint), at }
    }

    #[test]
    fn what_was_put_in_last_counts_and_cells_come_in_order() {
        let mut index = Index::default();
        for (cell, slot) in [(700, 1), (3, 2), (64, 3), (63, 4)] {
            assert_eq!(index.insert(cell, located(slot, u64::from(slot) % 2)), None);
        }
        assert_eq!(index.insert(64, located(9, 5)), Some(3));
        assert_eq!(index.len(), 4);
        let cells: Vec<(u32, u32)> = index.iter().map(|(cell, located)| (cell, located.slot)).collect();
        assert_eq!(cells, [(3, 2), (63, 4), (64, 9), (700, 1)]);
        assert_eq!(index.get(64), Some(located(9, 5)));
        assert_eq!((index.get(65), index.get(6_000_000)), (None, None));
        index.moved(|position| EntryAt::of_offset(4096 + position as u64 * 32).expect("it is near"));
        assert_eq!(index.get(700).map(|located| located.at.offset()), Some(4096 + 3 * 32));
        index.retain(|slot| slot != 4);
        assert_eq!((index.len(), index.get(63)), (3, None));
    }

    #[rstest]
    #[case::neighbours(1, 6_400, false)]
    #[case::far_apart_on_a_small_disk(200, 6_400, true)]
    #[case::one_of_a_page_of_the_largest(64, 6_400, false)]
    #[case::far_apart_on_a_disk_that_has_them(200, 24_000_000, false)]
    fn cells_further_apart_than_on_the_disk_are_no_image(
        #[case] apart: u32,
        #[case] slots: u64,
        #[case] expected: bool,
    ) {
        let mut index = Index::default();
        // As many as make the largest image, one a page; those further apart reach beyond it.
        let cells = if apart > 64 { 120_000 } else { 62_500 };
        (0..cells).for_each(|number| _ = index.insert(number * apart, located(number, 1)));
        assert_eq!(index.is_beyond(slots), expected);
    }
}
