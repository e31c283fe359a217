//! The coefficients of the code.
//!
//! # Source
//! J. Blömer et al., "An XOR-Based Erasure-Resilient Coding Scheme": every square submatrix of the Cauchy
//! matrix 1/(x_j + y_i) is invertible. Scaling a column by a constant other than zero keeps that.

use crate::gf256::{inverse, mul};
use crate::units::{MAX_PARITIES, ParityIndex, Slot};

/// c(j, i) = (x_0 + y_i) / (x_j + y_i) with x_j = j and y_i = 8 + i, so that the first parity is plain XOR.
pub fn coefficient(parity: ParityIndex, slot: Slot) -> u8 {
    let x = parity.get();
    let y = u8::try_from(MAX_PARITIES + usize::from(slot.get())).expect("slots end at 247");
    mul(y, inverse(x ^ y).expect("parities are 0 to 7 and slots begin at 8, so the two differ"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::MAX_SLOTS;

    #[test]
    fn the_first_parity_is_plain_xor_and_no_coefficient_is_zero() {
        for slot in 0..MAX_SLOTS as u8 {
            assert_eq!(coefficient(ParityIndex::new(0), Slot::new(slot)), 1);
            for parity in 1..8 {
                assert_ne!(coefficient(ParityIndex::new(parity), Slot::new(slot)), 0);
            }
        }
    }

    /// docs/formats.md has these numbers; they were computed by another program, bit by bit.
    #[test]
    fn fixed_vectors_of_the_format() {
        let row = |j| (0..4).map(|i| coefficient(ParityIndex::new(j), Slot::new(i))).collect::<Vec<_>>();
        assert_eq!(row(1), [156, 172, 153, 220]);
        assert_eq!(row(2), [166, 44, 70, 38]);
        assert_eq!(row(3), [180, 123, 187, 235]);
        assert_eq!(row(4), [245, 147, 104, 99]);
        assert_eq!(row(5), [57, 200, 245, 53]);
        assert_eq!(row(6), [210, 82, 143, 218]);
        assert_eq!(row(7), [196, 143, 112, 178]);
        assert_eq!(coefficient(ParityIndex::new(7), Slot::new(247)), 210);
        assert_eq!(coefficient(ParityIndex::new(3), Slot::new(100)), 87);
    }
}
