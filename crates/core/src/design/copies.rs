//! Where the copies of a mirrored volume lie when it is full.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::path::RelPath;
use crate::placement::{Placement, Placer};
use crate::units::ByteLength;

/// So many files for each disk are placed to see which disks share them.
const FILES: usize = 100;

/// A file on two disks.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Copied {
    /// The two, the smaller number first.
    pub disks: [usize; 2],
    /// What lies before it on each, in bytes.
    pub rows: [f64; 2],
    /// Its length in bytes.
    pub bytes: f64,
}

/// Fills disks with files of mixed sizes, each placed as the program places it, which together are `usable` bytes.
///
/// Which disks share files follows from the placement: equal disks stay pairs, others meet as they become equally full.
pub(super) fn fill(sizes: &[ByteLength], usable: f64) -> Vec<Copied> {
    let mean = usable / (FILES * sizes.len().max(1)) as f64;
    let among: Vec<usize> = (0..sizes.len()).collect();
    let mut placer = Placer::new(Placement::Emptiest, sizes.to_vec());
    let mut found = Vec::new();
    // The same for the same disks: who asks twice gets the same answer.
    let mut chance = ChaCha8Rng::seed_from_u64(0);
    loop {
        // Of nothing as many fit as one likes.
        let size = ByteLength::new((mean * chance.random_range(0.1..1.9)).max(1.0) as u64);
        let free = |disk: usize| placer.free_on(disk).exact() as f64;
        let before: Vec<f64> = among.iter().map(|disk| sizes[*disk].exact() as f64 - free(*disk)).collect();
        let placed = placer.place_copies(&RelPath::ROOT, size, &among, 2, ByteLength::ZERO);
        let Some(mut disks) = placed else { break };
        disks.sort_unstable();
        let disks = [disks[0], disks[1]];
        found.push(Copied { disks, rows: disks.map(|disk| before[disk]), bytes: size.exact() as f64 });
    }
    // What no file of these fits into any more is theirs in the same parts.
    let placed: f64 = found.iter().map(|copied| copied.bytes).sum();
    found.iter_mut().for_each(|copied| copied.bytes *= usable / placed.max(1.0));
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[4_000_000_000_000; 3], 6_000_000_000_000)]
    #[case(&[10, 10], 10)]
    #[case(&[1_000_000, 3], 3)]
    fn disks_of_any_size_are_filled(#[case] sizes: &[u64], #[case] usable: u64) {
        let sizes: Vec<ByteLength> = sizes.iter().map(|size| ByteLength::new(*size)).collect();
        let placed: f64 = fill(&sizes, usable as f64).iter().map(|copied| copied.bytes).sum();
        // On what is smaller than a granule nothing can be placed.
        assert!(placed == 0.0 || (placed / usable as f64 - 1.0).abs() < 1e-9, "{placed}");
    }
}
