//! Thirty-two bytes at once, by byte shuffles.

use std::arch::x86_64::{
    __m256i, _MM_HINT_T0, _mm_load_si128, _mm_prefetch, _mm256_and_si256, _mm256_broadcastsi128_si256,
    _mm256_loadu_si256, _mm256_set1_epi8, _mm256_setzero_si256, _mm256_shuffle_epi8, _mm256_srli_epi64,
    _mm256_storeu_si256, _mm256_xor_si256,
};

use super::columns::{Vector, Work, run};
use super::tables::NIBBLES;

/// # Safety
/// The processor has AVX2, and the pointers are as [`run`] wants them.
#[expect(unsafe_code, reason = "vector instructions")]
#[target_feature(enable = "avx2")]
pub(super) unsafe fn combine(work: &Work<'_>) -> usize {
    // SAFETY: the instructions are enabled here; the pointers are the caller's.
    unsafe { run::<__m256i, 2, 2, 1>(work) }
}

#[expect(unsafe_code, reason = "vector instructions")]
// SAFETY: only `combine` uses it, which has the instructions.
unsafe impl Vector for __m256i {
    const BYTES: usize = 32;
    type Factor = (Self, Self);
    type Source = (Self, Self);

    #[inline(always)]
    unsafe fn zero() -> Self {
        unsafe { _mm256_setzero_si256() }
    }
    #[inline(always)]
    unsafe fn load(from: *const u8) -> Self {
        unsafe { _mm256_loadu_si256(from.cast()) }
    }
    #[inline(always)]
    unsafe fn store(self, to: *mut u8) {
        unsafe { _mm256_storeu_si256(to.cast(), self) }
    }
    #[inline(always)]
    unsafe fn xor(self, other: Self) -> Self {
        unsafe { _mm256_xor_si256(self, other) }
    }
    #[inline(always)]
    unsafe fn factor(factor: u8) -> Self::Factor {
        let table = NIBBLES[usize::from(factor)].0.as_ptr();
        unsafe {
            let (low, high) = (_mm_load_si128(table.cast()), _mm_load_si128(table.add(16).cast()));
            (_mm256_broadcastsi128_si256(low), _mm256_broadcastsi128_si256(high))
        }
    }
    #[inline(always)]
    unsafe fn source(self) -> Self::Source {
        unsafe {
            let mask = _mm256_set1_epi8(15);
            (_mm256_and_si256(self, mask), _mm256_and_si256(_mm256_srli_epi64::<4>(self), mask))
        }
    }
    #[inline(always)]
    unsafe fn add_product(self, (low, high): Self::Source, factor: Self::Factor) -> Self {
        unsafe {
            let product =
                _mm256_xor_si256(_mm256_shuffle_epi8(factor.0, low), _mm256_shuffle_epi8(factor.1, high));
            _mm256_xor_si256(self, product)
        }
    }
    #[inline(always)]
    unsafe fn prefetch(from: *const u8) {
        unsafe { _mm_prefetch::<_MM_HINT_T0>(from.cast()) }
    }
}
