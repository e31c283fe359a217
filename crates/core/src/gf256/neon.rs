//! Sixteen bytes at once, by table lookups.

use std::arch::aarch64::{
    uint8x16_t, vandq_u8, vdupq_n_u8, veorq_u8, vld1q_u8, vqtbl1q_u8, vshrq_n_u8, vst1q_u8,
};

use super::columns::{Vector, Work, run};
use super::tables::NIBBLES;

/// # Safety
/// The processor has NEON, and the pointers are as [`run`] wants them.
#[expect(unsafe_code, reason = "vector instructions")]
#[target_feature(enable = "neon")]
pub(super) unsafe fn combine(work: &Work<'_>) -> usize {
    // SAFETY: the instructions are enabled here; the pointers are the caller's.
    unsafe { run::<uint8x16_t, 4, 2, 2>(work) }
}

#[expect(unsafe_code, reason = "vector instructions")]
// SAFETY: only `combine` uses it, which has the instructions.
unsafe impl Vector for uint8x16_t {
    const BYTES: usize = 16;
    type Factor = (Self, Self);
    type Source = (Self, Self);

    #[inline(always)]
    unsafe fn zero() -> Self {
        unsafe { vdupq_n_u8(0) }
    }
    #[inline(always)]
    unsafe fn load(from: *const u8) -> Self {
        unsafe { vld1q_u8(from) }
    }
    #[inline(always)]
    unsafe fn store(self, to: *mut u8) {
        unsafe { vst1q_u8(to, self) }
    }
    #[inline(always)]
    unsafe fn xor(self, other: Self) -> Self {
        unsafe { veorq_u8(self, other) }
    }
    #[inline(always)]
    unsafe fn factor(factor: u8) -> Self::Factor {
        let table = NIBBLES[usize::from(factor)].0.as_ptr();
        unsafe { (vld1q_u8(table), vld1q_u8(table.add(16))) }
    }
    #[inline(always)]
    unsafe fn source(self) -> Self::Source {
        unsafe { (vandq_u8(self, vdupq_n_u8(15)), vshrq_n_u8::<4>(self)) }
    }
    #[inline(always)]
    unsafe fn add_product(self, (low, high): Self::Source, factor: Self::Factor) -> Self {
        unsafe { veorq_u8(self, veorq_u8(vqtbl1q_u8(factor.0, low), vqtbl1q_u8(factor.1, high))) }
    }
    #[inline(always)]
    unsafe fn prefetch(_from: *const u8) {
        // There is no stable intrinsic; the processors fetch ahead by themselves.
    }
}
