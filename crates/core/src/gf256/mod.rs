//! Arithmetic in GF(2^8) with the polynomial x^8 + x^4 + x^3 + x^2 + 1 (0x11D).
//!
//! [`mod@reference`] is the readable definition. A [`Kernel`] computes sums of products over whole buffers with
//! the widest instructions that the processor has; each is tested against the reference.

mod columns;
mod kernel;
mod portable;
mod reference;
mod start;
mod tables;

#[cfg(target_arch = "x86_64")]
mod avx2;
#[cfg(target_arch = "x86_64")]
mod avx512;
#[cfg(target_arch = "x86_64")]
mod gfni;
#[cfg(target_arch = "aarch64")]
mod neon;
#[cfg(target_arch = "x86_64")]
mod ssse3;

pub use kernel::{Kernel, MOST_TARGETS};
pub use reference::{inverse, mul, mul_add};
pub use start::Start;
