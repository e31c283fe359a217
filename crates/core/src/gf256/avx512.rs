//! Sixty-four bytes at once, by byte shuffles; three-way sums in one instruction.

use std::arch::x86_64::{
    __m512i, _MM_HINT_T0, _mm_load_si128, _mm_prefetch, _mm512_and_si512, _mm512_broadcast_i32x4,
    _mm512_loadu_si512, _mm512_set1_epi8, _mm512_setzero_si512, _mm512_shuffle_epi8, _mm512_srli_epi64,
    _mm512_storeu_si512, _mm512_ternarylogic_epi64, _mm512_xor_si512,
};

use super::columns::{Vector, Work, run};
use super::tables::NIBBLES;

/// a ^ b ^ c, as the ternary logic instruction knows it.
const XOR_OF_THREE: i32 = 0x96;

/// # Safety
/// The processor has AVX-512F and AVX-512BW, and the pointers are as [`run`] wants them.
#[expect(unsafe_code, reason = "vector instructions")]
#[target_feature(enable = "avx512f,avx512bw")]
pub(super) unsafe fn combine(work: &Work<'_>) -> usize {
    // SAFETY: the instructions are enabled here; the pointers are the caller's.
    unsafe { run::<__m512i, 4, 2, 2>(work) }
}

#[expect(unsafe_code, reason = "vector instructions")]
// SAFETY: only `combine` uses it, which has the instructions.
unsafe impl Vector for __m512i {
    const BYTES: usize = 64;
    type Factor = (Self, Self);
    type Source = (Self, Self);

    #[inline(always)]
    unsafe fn zero() -> Self {
        unsafe { _mm512_setzero_si512() }
    }
    #[inline(always)]
    unsafe fn load(from: *const u8) -> Self {
        unsafe { _mm512_loadu_si512(from.cast()) }
    }
    #[inline(always)]
    unsafe fn store(self, to: *mut u8) {
        unsafe { _mm512_storeu_si512(to.cast(), self) }
    }
    #[inline(always)]
    unsafe fn xor(self, other: Self) -> Self {
        unsafe { _mm512_xor_si512(self, other) }
    }
    #[inline(always)]
    unsafe fn factor(factor: u8) -> Self::Factor {
        let table = NIBBLES[usize::from(factor)].0.as_ptr();
        unsafe {
            let (low, high) = (_mm_load_si128(table.cast()), _mm_load_si128(table.add(16).cast()));
            (_mm512_broadcast_i32x4(low), _mm512_broadcast_i32x4(high))
        }
    }
    #[inline(always)]
    unsafe fn source(self) -> Self::Source {
        unsafe {
            let mask = _mm512_set1_epi8(15);
            (_mm512_and_si512(self, mask), _mm512_and_si512(_mm512_srli_epi64::<4>(self), mask))
        }
    }
    #[inline(always)]
    unsafe fn add_product(self, (low, high): Self::Source, factor: Self::Factor) -> Self {
        unsafe {
            let (low, high) = (_mm512_shuffle_epi8(factor.0, low), _mm512_shuffle_epi8(factor.1, high));
            _mm512_ternarylogic_epi64::<XOR_OF_THREE>(self, low, high)
        }
    }
    #[inline(always)]
    unsafe fn prefetch(from: *const u8) {
        unsafe { _mm_prefetch::<_MM_HINT_T0>(from.cast()) }
    }
}
