//! Sixteen bytes at once, by byte shuffles.

use std::arch::x86_64::{
    __m128i, _MM_HINT_T0, _mm_and_si128, _mm_load_si128, _mm_loadu_si128, _mm_prefetch, _mm_set1_epi8,
    _mm_setzero_si128, _mm_shuffle_epi8, _mm_srli_epi64, _mm_storeu_si128, _mm_xor_si128,
};

use super::columns::{Vector, Work, run};
use super::tables::NIBBLES;

/// # Safety
/// The processor has SSSE3, and the pointers are as [`run`] wants them.
#[expect(unsafe_code, reason = "vector instructions")]
#[target_feature(enable = "ssse3")]
pub(super) unsafe fn combine(work: &Work<'_>) -> usize {
    // SAFETY: the instructions are enabled here; the pointers are the caller's.
    unsafe { run::<__m128i, 2, 2, 1>(work) }
}

#[expect(unsafe_code, reason = "vector instructions")]
// SAFETY: only `combine` uses it, which has the instructions.
unsafe impl Vector for __m128i {
    const BYTES: usize = 16;
    type Factor = (Self, Self);
    type Source = (Self, Self);

    #[inline(always)]
    unsafe fn zero() -> Self {
        unsafe { _mm_setzero_si128() }
    }
    #[inline(always)]
    unsafe fn load(from: *const u8) -> Self {
        unsafe { _mm_loadu_si128(from.cast()) }
    }
    #[inline(always)]
    unsafe fn store(self, to: *mut u8) {
        unsafe { _mm_storeu_si128(to.cast(), self) }
    }
    #[inline(always)]
    unsafe fn xor(self, other: Self) -> Self {
        unsafe { _mm_xor_si128(self, other) }
    }
    #[inline(always)]
    unsafe fn factor(factor: u8) -> Self::Factor {
        let table = NIBBLES[usize::from(factor)].0.as_ptr();
        unsafe { (_mm_load_si128(table.cast()), _mm_load_si128(table.add(16).cast())) }
    }
    #[inline(always)]
    unsafe fn source(self) -> Self::Source {
        unsafe {
            let mask = _mm_set1_epi8(15);
            (_mm_and_si128(self, mask), _mm_and_si128(_mm_srli_epi64::<4>(self), mask))
        }
    }
    #[inline(always)]
    unsafe fn add_product(self, (low, high): Self::Source, factor: Self::Factor) -> Self {
        unsafe {
            let product = _mm_xor_si128(_mm_shuffle_epi8(factor.0, low), _mm_shuffle_epi8(factor.1, high));
            _mm_xor_si128(self, product)
        }
    }
    #[inline(always)]
    unsafe fn prefetch(from: *const u8) {
        unsafe { _mm_prefetch::<_MM_HINT_T0>(from.cast()) }
    }
}
