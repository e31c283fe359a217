//! Choosing the widest instructions there are, once, at run time.

use super::columns::Work;
use super::portable;
use super::start::Start;

/// The most targets that one call computes: the most parities of a volume.
pub const MOST_TARGETS: usize = crate::units::MAX_PARITIES;

/// Buffers that exceed this are fetched ahead: the second-level cache of common processors.
const SECOND_LEVEL_CACHE: usize = 1 << 20;

/// A set of instructions that this processor was found to have: only [`Kernel::available`] makes one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Kernel(Level);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Level {
    Portable,
    #[cfg(target_arch = "x86_64")]
    Ssse3,
    #[cfg(target_arch = "x86_64")]
    Avx2,
    #[cfg(target_arch = "x86_64")]
    Avx512,
    #[cfg(target_arch = "x86_64")]
    Gfni256,
    #[cfg(target_arch = "x86_64")]
    Gfni512,
    #[cfg(target_arch = "aarch64")]
    Neon,
}

impl Kernel {
    /// All that this processor has, the slowest first.
    pub fn available() -> Vec<Self> {
        let mut levels = vec![Level::Portable];
        #[cfg(target_arch = "x86_64")]
        {
            let (ssse3, avx2) = (is_x86_feature_detected!("ssse3"), is_x86_feature_detected!("avx2"));
            let avx512 = is_x86_feature_detected!("avx512f") && is_x86_feature_detected!("avx512bw");
            let gfni = is_x86_feature_detected!("gfni");
            let found = [
                (ssse3, Level::Ssse3),
                (avx2, Level::Avx2),
                (avx2 && gfni, Level::Gfni256),
                (avx512, Level::Avx512),
                (avx512 && gfni, Level::Gfni512),
            ];
            levels.extend(found.into_iter().filter(|(is_there, _)| *is_there).map(|(_, level)| level));
        }
        #[cfg(target_arch = "aarch64")]
        if std::arch::is_aarch64_feature_detected!("neon") {
            levels.push(Level::Neon);
        }
        levels.into_iter().map(Self).collect()
    }

    /// The fastest that this processor has.
    pub fn best() -> Self {
        static BEST: std::sync::OnceLock<Kernel> = std::sync::OnceLock::new();
        *BEST.get_or_init(|| Self::available().pop().unwrap_or(Self(Level::Portable)))
    }

    /// The kernel of that name, where this processor has it.
    pub fn named(name: &str) -> Option<Self> {
        Self::available().into_iter().find(|kernel| kernel.name() == name)
    }

    /// Its name.
    pub const fn name(self) -> &'static str {
        match self.0 {
            Level::Portable => "portable",
            #[cfg(target_arch = "x86_64")]
            Level::Ssse3 => "ssse3",
            #[cfg(target_arch = "x86_64")]
            Level::Avx2 => "avx2",
            #[cfg(target_arch = "x86_64")]
            Level::Avx512 => "avx512",
            #[cfg(target_arch = "x86_64")]
            Level::Gfni256 => "gfni-256",
            #[cfg(target_arch = "x86_64")]
            Level::Gfni512 => "gfni-512",
            #[cfg(target_arch = "aarch64")]
            Level::Neon => "neon",
        }
    }

    /// Sums of products: target t becomes (or gains, with [`Start::Present`]) the sum over all sources s of
    /// `factors[t][s]` times source s.
    ///
    /// Every byte of a source is loaded once for all targets (of which there are at most [`MOST_TARGETS`]).
    ///
    /// # Panics
    /// When the buffers do not all have one length, or the factors do not fit them.
    pub fn combine(self, targets: &mut [&mut [u8]], sources: &[&[u8]], factors: &[&[u8]], start: Start) {
        let Some(length) = targets.first().map(|target| target.len()) else { return };
        assert!(targets.len() <= MOST_TARGETS, "there are at most eight targets");
        assert!(targets.iter().all(|t| t.len() == length), "all targets have one length");
        assert!(sources.iter().all(|s| s.len() == length), "sources are as long as targets");
        assert_eq!(factors.len(), targets.len(), "each target has its factors");
        assert!(factors.iter().all(|row| row.len() == sources.len()), "each source has its factor");
        let done = self.vectors(targets, sources, factors, start);
        portable::combine(targets, sources, factors, start, done);
    }

    /// As much as fits whole vectors; returns how many bytes that was.
    #[cfg_attr(
        any(target_arch = "x86_64", target_arch = "aarch64"),
        expect(unsafe_code, reason = "calls functions that need the instructions that were detected")
    )]
    fn vectors(self, targets: &mut [&mut [u8]], sources: &[&[u8]], factors: &[&[u8]], start: Start) -> usize {
        let length = targets[0].len();
        let targets: Vec<*mut u8> = targets.iter_mut().map(|t| t.as_mut_ptr()).collect();
        let sources: Vec<*const u8> = sources.iter().map(|s| s.as_ptr()).collect();
        let work = Work {
            length,
            add: start == Start::Present,
            plain_first: factors[0].iter().all(|factor| *factor == 1),
            is_large: (targets.len() + sources.len()) * length > SECOND_LEVEL_CACHE,
            targets: &targets,
            sources: &sources,
            factors,
        };
        // SAFETY: a level is only made where its instructions were detected; the slices all have `length`, and the
        // targets were borrowed mutably, so that they overlap nothing.
        #[cfg(target_arch = "x86_64")]
        unsafe {
            match self.0 {
                Level::Portable => 0,
                Level::Ssse3 => super::ssse3::combine(&work),
                Level::Avx2 => super::avx2::combine(&work),
                Level::Avx512 => super::avx512::combine(&work),
                Level::Gfni256 => super::gfni::combine_256(&work),
                Level::Gfni512 => super::gfni::combine_512(&work),
            }
        }
        // SAFETY: as above.
        #[cfg(target_arch = "aarch64")]
        unsafe {
            match self.0 {
                Level::Portable => 0,
                Level::Neon => super::neon::combine(&work),
            }
        }
        #[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
        {
            let _ = work;
            0
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::gf256::mul_add;
    use proptest::prelude::*;

    fn bytes(seed: usize, length: usize) -> Vec<u8> {
        (0..length)
            .map(|i| ((i.wrapping_mul(2_654_435_761) >> 7) ^ seed.wrapping_mul(97) ^ (i >> 3)) as u8)
            .collect()
    }

    /// Every kernel against the reference: any shape, any factors, buffers that begin and end anywhere.
    fn check(targets: usize, sources: usize, length: usize, offset: usize, start: Start, plain: bool) {
        let sources: Vec<Vec<u8>> = (0..sources).map(|s| bytes(s, length + offset)).collect();
        let sources: Vec<&[u8]> = sources.iter().map(|s| &s[offset..]).collect();
        let factors: Vec<Vec<u8>> = (0..targets)
            .map(|t| {
                let factor = |s: usize| if plain && t == 0 { 1 } else { (t * 61 + s * 37) as u8 };
                (0..sources.len()).map(factor).collect()
            })
            .collect();
        let factors: Vec<&[u8]> = factors.iter().map(Vec::as_slice).collect();
        let before: Vec<Vec<u8>> = (0..targets).map(|t| bytes(t + 100, length + offset)).collect();
        let mut expected = before.clone();
        for (target, row) in expected.iter_mut().zip(&factors) {
            if start == Start::Zero {
                target[offset..].fill(0);
            }
            for (source, factor) in sources.iter().zip(*row) {
                mul_add(&mut target[offset..], source, *factor);
            }
        }
        for kernel in Kernel::available() {
            let mut found = before.clone();
            let mut slices: Vec<&mut [u8]> = found.iter_mut().map(|t| &mut t[offset..]).collect();
            kernel.combine(&mut slices, &sources, &factors, start);
            assert_eq!(found, expected, "{}: {targets} of {length} bytes at {offset}", kernel.name());
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]
        #[test]
        fn every_kernel_agrees_with_the_reference(
            targets in 1..=MOST_TARGETS, sources in 0..12usize, length in 0..1200usize, offset in 0..70usize,
            add in any::<bool>(), plain in any::<bool>(),
        ) {
            let start = if add { Start::Present } else { Start::Zero };
            check(targets, sources, length, offset, start, plain);
        }
    }

    #[test]
    fn large_buffers_that_are_fetched_ahead_agree_too() {
        for targets in 1..=MOST_TARGETS {
            check(targets, 9, 150_001, 1, Start::Zero, true);
            check(targets, 9, 150_001, 1, Start::Present, false);
        }
    }

    #[test]
    fn all_factors_are_multiplied_rightly_by_every_kernel() {
        let source: Vec<u8> = (0..=255).collect();
        for kernel in Kernel::available() {
            for factor in 0..=255u8 {
                let (mut found, mut expected) = (vec![0; 256], vec![0; 256]);
                kernel.combine(&mut [&mut found], &[&source], &[&[factor]], Start::Zero);
                mul_add(&mut expected, &source, factor);
                assert_eq!(found, expected, "{} times {factor}", kernel.name());
            }
        }
    }

    #[test]
    fn a_kernel_is_had_by_its_name() {
        assert_eq!(Kernel::named("portable").map(Kernel::name), Some("portable"));
        assert_eq!(Kernel::named(Kernel::best().name()), Some(Kernel::best()));
        assert_eq!(Kernel::named("abacus"), None);
    }
}
