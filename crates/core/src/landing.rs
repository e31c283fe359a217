//! Where new data goes first: on the cache, on a tier, on so many disks.

use crate::path::RelPath;
use crate::placement::{Piece, Placer};
use crate::pool::{Landing, SizeLimit, Tier, VolumeKind, VolumeSpec};
use crate::units::ByteLength;

/// A disk that takes files, as far as it matters for where they go.
#[derive(Clone, Debug)]
pub struct Ground {
    /// Its name.
    pub name: String,
    /// It is a cache.
    pub is_cache: bool,
    /// All its space.
    pub total: ByteLength,
    /// What is free on it.
    pub free: ByteLength,
}

/// Where one file goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Spot {
    /// Whole on each of these disks (positions in the list of grounds): copies of each other.
    Whole(Vec<usize>),
    /// In pieces, in this order.
    Pieces(Vec<Piece>),
}

/// Finds the places of a batch of files, counting what it has given away already.
#[derive(Clone, Debug)]
pub struct Lander {
    volume: VolumeSpec,
    placer: Placer,
    fast: Vec<usize>,
    slow: Vec<usize>,
    disks: Vec<usize>,
    caches: Vec<usize>,
    cache_reserve: ByteLength,
    fast_reserve: ByteLength,
}

/// What is to stay free of `space`, with `largest` the largest file that is likely to come.
///
/// What its owner says holds; else there is to be room for the largest file, but not for more than a quarter of all.
pub fn reserve_of(said: Option<SizeLimit>, space: ByteLength, largest: ByteLength) -> ByteLength {
    let quarter = ByteLength::new(space.exact() / 4);
    said.map_or_else(|| largest.min(quarter), |limit| limit.of(space))
}

impl Lander {
    /// Starts from the disks that take files now; `largest` is the largest file that is likely to come.
    pub fn new(volume: &VolumeSpec, grounds: &[Ground], largest: ByteLength) -> Self {
        let free = grounds.iter().map(|ground| ground.free).collect();
        let all = 0..grounds.len();
        let (caches, disks): (Vec<usize>, Vec<usize>) = all.partition(|g| grounds[*g].is_cache);
        let is_fast = |ground: &usize| volume.tier_of(&grounds[*ground].name) == Tier::Fast;
        let (fast, slow): (Vec<usize>, Vec<usize>) = disks.iter().copied().partition(is_fast);
        let smallest = |of: &[usize]| of.iter().map(|g| grounds[*g].total).min().unwrap_or_default();
        let reserve = |of: &[usize]| reserve_of(volume.reserve, smallest(of), largest);
        Self {
            cache_reserve: reserve(&caches),
            fast_reserve: reserve(&fast),
            volume: volume.clone(),
            placer: Placer::new(volume.placement, free),
            fast,
            slow,
            disks,
            caches,
        }
    }

    /// The placer behind it.
    pub const fn placer(&mut self) -> &mut Placer {
        &mut self.placer
    }

    /// What stays free on each cache.
    pub const fn cache_reserve(&self) -> ByteLength {
        self.cache_reserve
    }

    /// What stays free of the fast disks in all.
    pub const fn fast_reserve(&self) -> ByteLength {
        self.fast_reserve
    }

    /// The places for a new file; none when it fits nowhere.
    pub fn land(&mut self, path: &RelPath, size: ByteLength) -> Option<Spot> {
        self.on_cache(path, size).or_else(|| self.on_disks(path, size))
    }

    /// As [`Self::land`], in no pieces.
    pub fn land_whole(&mut self, path: &RelPath, size: ByteLength) -> Option<Spot> {
        self.on_cache(path, size).or_else(|| self.whole_on_disks(path, size))
    }

    /// As [`Self::on_disks`], in no pieces: in a spanned volume on the first disk with room for all of it.
    pub fn whole_on_disks(&mut self, path: &RelPath, size: ByteLength) -> Option<Spot> {
        match self.volume.kind {
            VolumeKind::Spanned => self.whole(path, size, Among::All),
            _ => self.on_disks(path, size),
        }
    }

    /// The places on the cache, where it is to go there and there is room beside the reserve.
    fn on_cache(&mut self, path: &RelPath, size: ByteLength) -> Option<Spot> {
        if self.volume.landing_of(path) == Landing::Disks || self.caches.is_empty() {
            return None;
        }
        let copies = self.volume.cache.copies.min(self.caches.len());
        let spot = self.placer.place_copies(path, size, &self.caches, copies, self.cache_reserve);
        spot.map(Spot::Whole)
    }

    /// The places on the disks; none when it does not fit there.
    pub fn on_disks(&mut self, path: &RelPath, size: ByteLength) -> Option<Spot> {
        match self.volume.kind {
            VolumeKind::Unstriped => self.whole(path, size, Among::All),
            VolumeKind::Mirrored => {
                // With a disk missing, fewer copies have to do; the next sync makes those that are owed.
                let copies = self.volume.copies.min(self.disks.len());
                let spot = self.placer.place_copies(path, size, &self.disks, copies, ByteLength::ZERO);
                spot.filter(|disks| !disks.is_empty()).map(Spot::Whole)
            }
            VolumeKind::Tiered => match self.volume.pin_of(path) {
                Some(Tier::Slow) => self.whole(path, size, Among::Slow),
                _ => self.whole(path, size, Among::Fast),
            }
            .or_else(|| self.whole(path, size, Among::Slow))
            .or_else(|| self.whole(path, size, Among::All)),
            VolumeKind::Spanned => {
                let pieces = self.placer.span(&self.disks, size)?;
                match pieces.as_slice() {
                    [one] => Some(Spot::Whole(vec![one.disk])),
                    _ => Some(Spot::Pieces(pieces)),
                }
            }
        }
    }

    /// One place in a tier; the reserve of the fast one stays free.
    pub fn on_tier(&mut self, path: &RelPath, size: ByteLength, tier: Tier) -> Option<usize> {
        let (among, keep) = match tier {
            Tier::Fast => (&self.fast, self.fast_reserve),
            Tier::Slow => (&self.slow, ByteLength::ZERO),
        };
        self.placer.place_among(path, size, among, keep)
    }

    fn whole(&mut self, path: &RelPath, size: ByteLength, among: Among) -> Option<Spot> {
        let place = match among {
            Among::Fast => self.on_tier(path, size, Tier::Fast),
            Among::Slow => self.on_tier(path, size, Tier::Slow),
            Among::All => self.placer.place_among(path, size, &self.disks, ByteLength::ZERO),
        };
        place.map(|disk| Spot::Whole(vec![disk]))
    }

    /// The disk for an empty folder.
    pub fn for_folder(&self, path: &RelPath) -> Option<usize> {
        let on_cache = self.volume.landing_of(path) != Landing::Disks && !self.caches.is_empty();
        self.placer.place_for_folder(if on_cache { &self.caches } else { &self.disks })
    }
}

/// Which disks of a volume are asked.
#[derive(Clone, Copy)]
enum Among {
    Fast,
    Slow,
    All,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pool::parse;
    use rstest::rstest;

    fn volume(words: &str) -> VolumeSpec {
        let disks = ["alder", "beech", "cedar", "flint", "jasper"];
        let disks: String = disks.iter().map(|d| format!("[[disk]]\nname = \"{d}\"\n")).collect();
        let text = format!("[pool]\nname = \"p\"\n{disks}[[volume]]\nname = \"v\"\n{words}");
        let parsed = parse(&text);
        assert_eq!(parsed.mistakes, []);
        parsed.spec.unwrap().volumes.remove(0)
    }

    fn ground(name: &str, free: u64) -> Ground {
        let bytes = ByteLength::new(free << 20);
        Ground { name: name.into(), is_cache: ["flint", "jasper"].contains(&name), total: bytes, free: bytes }
    }

    fn land(lander: &mut Lander, path: &str, mib: u64) -> Option<Vec<usize>> {
        match lander.land(&RelPath::new(path).unwrap(), ByteLength::new(mib << 20))? {
            Spot::Whole(disks) => Some(disks),
            Spot::Pieces(pieces) => panic!("{pieces:?}"),
        }
    }

    #[test]
    fn a_cache_takes_what_leaves_its_reserve_free_and_the_rest_goes_to_the_disks() {
        let folder = "[[volume.folder]]\npath = \"scans\"\nlanding = \"disks\"\n";
        let volume =
            volume(&format!("data = [\"alder\"]\ncache = [\"flint\"]\nreserve = \"20 %\"\n{folder}"));
        let grounds = [ground("alder", 1000), ground("flint", 100)];
        let mut lander = Lander::new(&volume, &grounds, ByteLength::ZERO);
        assert_eq!(land(&mut lander, "a", 50), Some(vec![1]));
        assert_eq!(land(&mut lander, "b", 40), Some(vec![0]), "only 10 beside the reserve would be free");
        assert_eq!(land(&mut lander, "c", 30), Some(vec![1]));
        assert_eq!(land(&mut lander, "scans/d", 1), Some(vec![0]));
        assert_eq!(land(&mut lander, "e", 2000), None);
    }

    #[test]
    fn copies_lie_on_different_disks_or_not_at_all() {
        let volume = volume("kind = \"mirrored\"\ndata = [\"alder\", \"beech\", \"cedar\"]");
        let grounds = [ground("alder", 100), ground("beech", 50), ground("cedar", 60)];
        let mut lander = Lander::new(&volume, &grounds, ByteLength::ZERO);
        assert_eq!(land(&mut lander, "a", 50), Some(vec![0, 2]));
        assert_eq!(land(&mut lander, "b", 45), Some(vec![0, 1]));
        assert_eq!(land(&mut lander, "c", 8), None, "one disk has room for it, two have not");
        assert_eq!(land(&mut lander, "d", 5), Some(vec![2, 0]));
    }

    #[rstest]
    #[case("a", 10, Some(vec![0]))]
    #[case("slow/a", 10, Some(vec![1]))]
    #[case("a", 30, Some(vec![1]))]
    fn a_tier_takes_what_it_is_for(
        #[case] path: &str,
        #[case] size: u64,
        #[case] expected: Option<Vec<usize>>,
    ) {
        let folder = "[[volume.folder]]\npath = \"slow\"\npin = \"slow\"\n";
        let volume = volume(&format!(
            "kind = \"tiered\"\ndata = [\"alder\", \"beech\"]\nfast = [\"alder\"]\nreserve = \"50 %\"\n{folder}"
        ));
        let grounds = [ground("alder", 40), ground("beech", 100)];
        assert_eq!(land(&mut Lander::new(&volume, &grounds, ByteLength::ZERO), path, size), expected);
    }

    #[test]
    fn a_span_is_filled_in_order_and_goes_on_on_the_next_disk() {
        let volume = volume("kind = \"spanned\"\ndata = [\"alder\", \"beech\"]");
        let grounds = [ground("alder", 10), ground("beech", 20)];
        let mut lander = Lander::new(&volume, &grounds, ByteLength::ZERO);
        assert_eq!(land(&mut lander, "a", 4), Some(vec![0]));
        let large = lander.land(&RelPath::fixed("b"), ByteLength::new(15 << 20)).unwrap();
        let Spot::Pieces(pieces) = large else { panic!("{large:?}") };
        let disks: Vec<_> = pieces.iter().map(|piece| piece.disk).collect();
        assert_eq!(disks, [0, 1]);
        assert_eq!(pieces.iter().map(|piece| piece.length.exact()).sum::<u64>(), 15 << 20);
        assert_eq!(pieces[0].length.exact() % 4096, 0);
        assert_eq!(land(&mut lander, "c", 5), Some(vec![1]));
        assert!(lander.land(&RelPath::fixed("d"), ByteLength::new(30 << 20)).is_none());
    }

    #[test]
    fn a_reserve_is_worked_out_from_the_largest_file() {
        let of = |said| reserve_of(said, ByteLength::new(1000), ByteLength::new(400)).exact();
        assert_eq!((of(None), of(SizeLimit::parse("10 %"))), (250, 100));
        assert_eq!(reserve_of(None, ByteLength::new(1000), ByteLength::new(30)).exact(), 30);
    }
}
