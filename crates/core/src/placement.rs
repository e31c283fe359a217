//! On which disk a new file is placed.

use std::collections::HashMap;

use crate::path::RelPath;
use crate::units::{ByteLength, GRANULE};

/// How a volume chooses the disk for new data.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Placement {
    /// The disk with the most free space.
    #[default]
    Emptiest,
    /// The first disk, in the order of the pool file, with room.
    InOrder,
    /// The disk that has the files of the same folder, while there is room; a new folder starts on the emptiest.
    KeepTogether,
}

impl Placement {
    /// All placements.
    pub const ALL: [Self; 3] = [Self::Emptiest, Self::InOrder, Self::KeepTogether];

    /// The word for it in a pool file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Emptiest => "emptiest",
            Self::InOrder => "in-order",
            Self::KeepTogether => "keep-together",
        }
    }
}

/// A part of a file that goes to one disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Piece {
    /// The disk (its position in the list).
    pub disk: usize,
    /// Where in the file it begins.
    pub offset: ByteLength,
    /// Its length.
    pub length: ByteLength,
}

/// Disks with less free than this count as full: no file is cut for so little.
const SMALLEST_PIECE: ByteLength = ByteLength::new(1 << 20);
/// What a piece says about itself takes at most so much.
const DESCRIPTION: ByteLength = ByteLength::new(32 << 10);

/// Chooses disks for a batch of files, counting what it has given away already.
#[derive(Debug, Clone)]
pub struct Placer {
    placement: Placement,
    free: Vec<ByteLength>,
    /// For each folder the disk that has its files.
    homes: HashMap<Vec<u8>, usize>,
}

/// What something takes on a disk: whole granules.
fn taken(size: ByteLength) -> ByteLength {
    ByteLength::new(size.granules().saturating_mul(GRANULE))
}

impl Placer {
    /// Starts from the free space of each disk.
    pub fn new(placement: Placement, free: Vec<ByteLength>) -> Self {
        Self { placement, free, homes: HashMap::new() }
    }

    /// Tells that files of `folder` lie on a disk (its position in the list) already.
    pub fn settle_home(&mut self, folder: &RelPath, disk: usize) {
        self.homes.insert(folder.as_bytes().to_vec(), disk);
    }

    /// The disk (its position in the list) for something of `size` bytes at `path`; nothing when it fits on none.
    ///
    /// A file takes whole granules. Of equally empty disks the first one is chosen.
    pub fn place(&mut self, path: &RelPath, size: ByteLength) -> Option<usize> {
        let all: Vec<usize> = (0..self.free.len()).collect();
        self.place_among(path, size, &all, ByteLength::ZERO)
    }

    /// As [`Self::place`], on one of the disks `among`, of which `keep` bytes stay free.
    pub fn place_among(
        &mut self,
        path: &RelPath,
        size: ByteLength,
        among: &[usize],
        keep: ByteLength,
    ) -> Option<usize> {
        let needed = taken(size);
        let fits = |disk: &usize| self.free[*disk] >= needed.plus(keep);
        let fitting: Vec<usize> = among.iter().copied().filter(fits).collect();
        let chosen = match self.placement {
            Placement::Emptiest => self.emptiest(&fitting),
            Placement::InOrder => fitting.first().copied(),
            Placement::KeepTogether => self.beside_its_folder(path, &fitting),
        }?;
        self.free[chosen] = self.free[chosen].minus(needed);
        Some(chosen)
    }

    /// Different disks for `copies` of something, of those `among`; all or none of them.
    pub fn place_copies(
        &mut self,
        path: &RelPath,
        size: ByteLength,
        among: &[usize],
        copies: usize,
        keep: ByteLength,
    ) -> Option<Vec<usize>> {
        let mut left = among.to_vec();
        let before = self.free.clone();
        let mut chosen = Vec::new();
        while chosen.len() < copies {
            let Some(disk) = self.place_among(path, size, &left, keep) else {
                self.free = before;
                return None;
            };
            left.retain(|other| *other != disk);
            chosen.push(disk);
        }
        Some(chosen)
    }

    /// The disks in their order, as far as they are needed, for something that may go on from one to the next; nothing when
    /// all of them together have too little room.
    ///
    /// Each piece but the last is whole granules, and each disk keeps room for what its piece says about itself.
    pub fn span(&mut self, among: &[usize], size: ByteLength) -> Option<Vec<Piece>> {
        let current = among.iter().copied().find(|disk| self.free[*disk] >= SMALLEST_PIECE.plus(DESCRIPTION));
        let whole = among
            .iter()
            .copied()
            .find(|disk| self.free[*disk] >= taken(size) && current.is_none_or(|current| current == *disk));
        if let Some(disk) = whole {
            self.free[disk] = self.free[disk].minus(taken(size));
            return Some(vec![Piece { disk, offset: ByteLength::ZERO, length: size }]);
        }
        let (mut pieces, mut offset) = (Vec::new(), ByteLength::ZERO);
        for disk in among.iter().copied().filter(|disk| self.free[*disk] >= SMALLEST_PIECE.plus(DESCRIPTION))
        {
            let room = self.free[disk].minus(DESCRIPTION).exact() / GRANULE * GRANULE;
            let length = ByteLength::new(room).min(size.minus(offset));
            pieces.push(Piece { disk, offset, length });
            offset = offset.plus(length);
            if offset == size {
                for piece in &pieces {
                    let used = taken(piece.length).plus(DESCRIPTION);
                    self.free[piece.disk] = self.free[piece.disk].minus(used);
                }
                return Some(pieces);
            }
        }
        None
    }

    /// What is free on a disk after all that was placed.
    pub fn free_on(&self, disk: usize) -> ByteLength {
        self.free[disk]
    }

    fn emptiest(&self, among: &[usize]) -> Option<usize> {
        among.iter().copied().max_by_key(|disk| (self.free[*disk], usize::MAX - disk))
    }

    fn beside_its_folder(&mut self, path: &RelPath, fitting: &[usize]) -> Option<usize> {
        let folder = path.parent().unwrap_or_default();
        let home = self.homes.get(folder.as_bytes()).copied();
        if let Some(home) = home.filter(|disk| fitting.contains(disk)) {
            return Some(home);
        }
        // What goes on elsewhere when a disk is full stays together there.
        let emptiest = self.emptiest(fitting)?;
        self.homes.insert(folder.as_bytes().to_vec(), emptiest);
        Some(emptiest)
    }

    /// Takes room on one disk for something that has to lie there; false when it does not fit.
    #[must_use]
    pub fn place_on(&mut self, disk: usize, size: ByteLength) -> bool {
        let needed = taken(size);
        let fits = self.free[disk] >= needed;
        if fits {
            self.free[disk] = self.free[disk].minus(needed);
        }
        fits
    }

    /// The disk for an empty folder, of those `among`: none of its space is taken.
    pub fn place_for_folder(&self, among: &[usize]) -> Option<usize> {
        match self.placement {
            Placement::InOrder => among.first().copied(),
            Placement::Emptiest | Placement::KeepTogether => self.emptiest(among),
        }
    }

    /// The largest single free space, for messages.
    pub fn largest_free(&self) -> ByteLength {
        self.free.iter().copied().max().unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn placer(placement: Placement, free: &[u64]) -> Placer {
        Placer::new(placement, free.iter().map(|f| ByteLength::new(*f)).collect())
    }

    fn place(placer: &mut Placer, path: &str, size: u64) -> Option<usize> {
        placer.place(&RelPath::new(path).unwrap(), ByteLength::new(size))
    }

    #[test]
    fn the_emptiest_disk_is_chosen_and_counted_down() {
        let mut placer = placer(Placement::Emptiest, &[9000, 20_000, 9000]);
        assert_eq!(place(&mut placer, "a", 16_000), Some(1));
        assert_eq!(place(&mut placer, "b", 1), Some(0));
        assert_eq!(place(&mut placer, "c", 8192), Some(2));
        assert_eq!(place(&mut placer, "d", 8192), None);
        assert_eq!(place(&mut placer, "e", 0), Some(0));
    }

    #[test]
    fn in_order_fills_the_first_disk_with_room() {
        let mut placer = placer(Placement::InOrder, &[9000, 20_000]);
        assert_eq!(place(&mut placer, "a", 8000), Some(0));
        assert_eq!(place(&mut placer, "b", 8000), Some(1));
        assert_eq!(place(&mut placer, "c", 1), Some(1), "808 bytes are no granule");
        assert_eq!(place(&mut placer, "d", 20_000), None);
    }

    #[test]
    fn a_folder_stays_on_one_disk_while_there_is_room() {
        let mut placer = placer(Placement::KeepTogether, &[40_960, 81_920]);
        assert_eq!(place(&mut placer, "dawn/a", 4096), Some(1));
        assert_eq!(place(&mut placer, "nest/a", 4096), Some(1), "still the emptiest");
        placer.settle_home(&RelPath::new("notes").unwrap(), 0);
        assert_eq!(place(&mut placer, "notes/a", 4096), Some(0));
        assert_eq!(place(&mut placer, "dawn/b", 70_000), Some(1));
        assert_eq!(place(&mut placer, "dawn/c", 8192), Some(0), "its disk is full");
        assert_eq!(place(&mut placer, "dawn/d", 1), Some(0), "and it goes on there");
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn no_placement_gives_more_than_there_is(
            free in prop::collection::vec(0..100_000u64, 1..5),
            sizes in prop::collection::vec(0..40_000u64, 0..40),
            which in 0..3usize,
        ) {
            let mut placer = placer(Placement::ALL[which], &free);
            let mut left = free.clone();
            for (number, size) in sizes.into_iter().enumerate() {
                let needed = size.div_ceil(4096) * 4096;
                match place(&mut placer, &format!("folder-{}/{number}", number % 3), size) {
                    Some(disk) => {
                        prop_assert!(left[disk] >= needed);
                        left[disk] -= needed;
                    }
                    None => prop_assert!(left.iter().all(|l| *l < needed), "it would have fitted"),
                }
            }
        }
    }

    #[rstest]
    #[case(Placement::Emptiest, "emptiest")]
    #[case(Placement::InOrder, "in-order")]
    #[case(Placement::KeepTogether, "keep-together")]
    fn words_are_those_of_the_pool_file(#[case] placement: Placement, #[case] word: &str) {
        assert_eq!(placement.word(), word);
    }
}
