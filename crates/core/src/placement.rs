//! On which disk a new file is placed.

use crate::units::ByteLength;

/// How a volume chooses the disk for new data.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Placement {
    /// The disk with the most free space.
    #[default]
    Emptiest,
}

/// Chooses disks for a batch of files, counting what it has given away already.
#[derive(Debug, Clone)]
pub struct Placer {
    placement: Placement,
    free: Vec<ByteLength>,
}

impl Placer {
    /// Starts from the free space of each disk.
    pub fn new(placement: Placement, free: Vec<ByteLength>) -> Self {
        Self { placement, free }
    }

    /// The disk (its position in the list) for something of `size` bytes; nothing when it fits on none.
    ///
    /// A file takes whole granules. Of equally empty disks the first one is chosen.
    pub fn place(&mut self, size: ByteLength) -> Option<usize> {
        let needed = ByteLength::new(size.granules() * crate::units::GRANULE);
        let chosen = match self.placement {
            Placement::Emptiest => {
                (0..self.free.len()).max_by_key(|disk| (self.free[*disk], usize::MAX - disk))
            }
        }?;
        if self.free[chosen] < needed {
            return None;
        }
        self.free[chosen] = self.free[chosen].minus(needed);
        Some(chosen)
    }

    /// Takes room on one disk for something that has to lie there; false when it does not fit.
    #[must_use]
    pub fn place_on(&mut self, disk: usize, size: ByteLength) -> bool {
        let needed = ByteLength::new(size.granules() * crate::units::GRANULE);
        let fits = self.free[disk] >= needed;
        if fits {
            self.free[disk] = self.free[disk].minus(needed);
        }
        fits
    }

    /// The largest single free space, for messages.
    pub fn largest_free(&self) -> ByteLength {
        self.free.iter().copied().max().unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_emptiest_disk_is_chosen_and_counted_down() {
        let mut placer = Placer::new(Placement::Emptiest, [9000, 20_000, 9000].map(ByteLength::new).into());
        assert_eq!(placer.place(ByteLength::new(16_000)), Some(1));
        assert_eq!(placer.place(ByteLength::new(1)), Some(0));
        assert_eq!(placer.place(ByteLength::new(8192)), Some(2));
        assert_eq!(placer.place(ByteLength::new(8192)), None);
        assert_eq!(placer.place(ByteLength::ZERO), Some(0));
    }
}
