//! The erasure code: parity j of a row is the sum over the lanes i of c(j, i) · lane(i) over GF(2^8).

mod decode;
mod matrix;

pub use decode::{Unsolvable, solve};
pub use matrix::coefficient;

use crate::gf256;
use crate::units::{ParityIndex, Slot};

/// Adds the contribution of one lane to one parity. Both slices cover the same rows.
pub fn accumulate(parity: &mut [u8], index: ParityIndex, lane: &[u8], slot: Slot) {
    gf256::mul_add(parity, lane, coefficient(index, slot));
}
