//! The loop that all vector kernels share: columns of a few vectors, every source byte loaded once for all targets,
//! all sums in registers until a column is done.

/// A vector register of bytes, and what the kernels need of it.
///
/// # Safety
/// Every method may use instructions of the level that the type stands for: call them only where the processor has
/// been found to have these, from a function compiled with them.
#[expect(unsafe_code, reason = "vector instructions and raw loads")]
pub(super) unsafe trait Vector: Copy {
    /// Bytes in it.
    const BYTES: usize;
    /// A factor, made ready for multiplication.
    type Factor: Copy;
    /// A source, made ready for multiplication.
    type Source: Copy;

    unsafe fn zero() -> Self;
    unsafe fn load(from: *const u8) -> Self;
    unsafe fn store(self, to: *mut u8);
    unsafe fn xor(self, other: Self) -> Self;
    unsafe fn factor(factor: u8) -> Self::Factor;
    unsafe fn source(self) -> Self::Source;
    /// `self` plus the product.
    unsafe fn add_product(self, source: Self::Source, factor: Self::Factor) -> Self;
    unsafe fn prefetch(from: *const u8);
}

/// What one call of a kernel works on: all slices have the length `length`, `factors` has the row of each target.
pub(super) struct Work<'a> {
    pub(super) targets: &'a [*mut u8],
    pub(super) sources: &'a [*const u8],
    pub(super) factors: &'a [&'a [u8]],
    pub(super) length: usize,
    /// The targets already hold something to add to.
    pub(super) add: bool,
    /// All factors of the first target are 1.
    pub(super) plain_first: bool,
    /// The buffers exceed the second-level cache.
    pub(super) is_large: bool,
}

/// So far ahead a source is asked for.
const AHEAD: usize = 512;

/// Works through as many whole columns as there are, and returns how many bytes that were.
///
/// # Safety
/// As [`Vector`]; the pointers of `work` are valid for its length, and no target overlaps anything else.
#[expect(unsafe_code, reason = "vector instructions and raw loads")]
#[inline(always)]
pub(super) unsafe fn run<V: Vector, const WIDE: usize, const MIDDLE: usize, const NARROW: usize>(
    work: &Work<'_>,
) -> usize {
    // SAFETY: passed on to the caller.
    unsafe {
        match work.targets.len() {
            1 => both::<V, 1, WIDE>(work),
            2 => both::<V, 2, WIDE>(work),
            3 => both::<V, 3, MIDDLE>(work),
            4 => both::<V, 4, MIDDLE>(work),
            5 => both::<V, 5, NARROW>(work),
            6 => both::<V, 6, NARROW>(work),
            7 => both::<V, 7, NARROW>(work),
            8 => both::<V, 8, NARROW>(work),
            _ => 0,
        }
    }
}

/// Wide columns first, then what is left in columns of one vector.
#[expect(unsafe_code, reason = "vector instructions and raw loads")]
#[inline(always)]
unsafe fn both<V: Vector, const T: usize, const C: usize>(work: &Work<'_>) -> usize {
    // SAFETY: passed on to the caller.
    unsafe {
        let done = match (work.plain_first, work.is_large) {
            (true, true) => columns::<V, T, C, true, true>(work, 0),
            (true, false) => columns::<V, T, C, true, false>(work, 0),
            (false, true) => columns::<V, T, C, false, true>(work, 0),
            (false, false) => columns::<V, T, C, false, false>(work, 0),
        };
        columns::<V, T, 1, false, false>(work, done)
    }
}

#[expect(unsafe_code, reason = "vector instructions and raw loads")]
#[expect(clippy::needless_range_loop, reason = "plain indices unroll into registers")]
#[inline(always)]
unsafe fn columns<V: Vector, const T: usize, const C: usize, const PLAIN: bool, const FETCH: bool>(
    work: &Work<'_>,
    from: usize,
) -> usize {
    let step = C * V::BYTES;
    let mut at = from;
    // SAFETY: every access lies within `length`, of which the caller says that it is valid.
    unsafe {
        while at + step <= work.length {
            if FETCH {
                for target in work.targets {
                    for line in (0..step).step_by(64) {
                        V::prefetch(target.wrapping_add(at + AHEAD + line));
                    }
                }
            }
            let mut sums = [[V::zero(); C]; T];
            if work.add {
                for (sums, target) in sums.iter_mut().zip(work.targets) {
                    for (c, sum) in sums.iter_mut().enumerate() {
                        *sum = V::load(target.add(at + c * V::BYTES));
                    }
                }
            }
            for (position, source) in work.sources.iter().enumerate() {
                let source = source.add(at);
                if FETCH {
                    for line in (0..step).step_by(64) {
                        V::prefetch(source.wrapping_add(AHEAD + line));
                    }
                }
                let mut factors = [V::factor(0); T];
                for t in usize::from(PLAIN)..T {
                    factors[t] = V::factor(*work.factors.get_unchecked(t).get_unchecked(position));
                }
                for c in 0..C {
                    let loaded = V::load(source.add(c * V::BYTES));
                    if PLAIN {
                        sums[0][c] = sums[0][c].xor(loaded);
                    }
                    if !PLAIN || T > 1 {
                        let ready = loaded.source();
                        for t in usize::from(PLAIN)..T {
                            sums[t][c] = sums[t][c].add_product(ready, factors[t]);
                        }
                    }
                }
            }
            for (sums, target) in sums.iter().zip(work.targets) {
                for (c, sum) in sums.iter().enumerate() {
                    sum.store(target.add(at + c * V::BYTES));
                }
            }
            at += step;
        }
    }
    at
}
