//! Products by one affine instruction, in registers of 32 or 64 bytes.

use std::arch::x86_64::{
    __m256i, __m512i, _mm256_gf2p8affine_epi64_epi8, _mm256_set1_epi64x, _mm512_gf2p8affine_epi64_epi8,
    _mm512_set1_epi64,
};

use super::columns::{Vector, Work, run};
use super::tables::AFFINE;

/// # Safety
/// The processor has AVX2 and GFNI, and the pointers are as [`run`] wants them.
#[expect(unsafe_code, reason = "vector instructions")]
#[target_feature(enable = "avx2,gfni")]
pub(super) unsafe fn combine_256(work: &Work<'_>) -> usize {
    // SAFETY: the instructions are enabled here; the pointers are the caller's.
    unsafe { run::<Affine<__m256i>, 2, 2, 1>(work) }
}

/// # Safety
/// The processor has AVX-512F, AVX-512BW and GFNI, and the pointers are as [`run`] wants them.
#[expect(unsafe_code, reason = "vector instructions")]
#[target_feature(enable = "avx512f,avx512bw,gfni")]
pub(super) unsafe fn combine_512(work: &Work<'_>) -> usize {
    // SAFETY: the instructions are enabled here; the pointers are the caller's.
    unsafe { run::<Affine<__m512i>, 4, 4, 2>(work) }
}

/// A vector whose factors are matrices of bits.
#[derive(Clone, Copy)]
struct Affine<V>(V);

macro_rules! affine {
    ($vector:ty, $spread:ident, $product:ident) => {
        #[expect(unsafe_code, reason = "vector instructions")]
        // SAFETY: only the functions above use it, which have the instructions.
        unsafe impl Vector for Affine<$vector> {
            const BYTES: usize = <$vector>::BYTES;
            type Factor = $vector;
            type Source = $vector;

            #[inline(always)]
            unsafe fn zero() -> Self {
                Self(unsafe { <$vector>::zero() })
            }
            #[inline(always)]
            unsafe fn load(from: *const u8) -> Self {
                Self(unsafe { <$vector>::load(from) })
            }
            #[inline(always)]
            unsafe fn store(self, to: *mut u8) {
                unsafe { self.0.store(to) }
            }
            #[inline(always)]
            unsafe fn xor(self, other: Self) -> Self {
                Self(unsafe { self.0.xor(other.0) })
            }
            #[inline(always)]
            unsafe fn factor(factor: u8) -> Self::Factor {
                unsafe { $spread(AFFINE[usize::from(factor)].cast_signed()) }
            }
            #[inline(always)]
            unsafe fn source(self) -> Self::Source {
                self.0
            }
            #[inline(always)]
            unsafe fn add_product(self, source: Self::Source, factor: Self::Factor) -> Self {
                Self(unsafe { self.0.xor($product::<0>(source, factor)) })
            }
            #[inline(always)]
            unsafe fn prefetch(from: *const u8) {
                unsafe { <$vector>::prefetch(from) }
            }
        }
    };
}

affine!(__m256i, _mm256_set1_epi64x, _mm256_gf2p8affine_epi64_epi8);
affine!(__m512i, _mm512_set1_epi64, _mm512_gf2p8affine_epi64_epi8);
