//! What multiplication by a constant is made of, for every constant.

use super::reference::mul;

/// The products of one factor with the sixteen low nibbles, and with the sixteen high ones.
#[repr(align(32))]
pub(super) struct Nibbles(pub(super) [u8; 32]);

/// c·x = c·(x & 15) + c·(x & 240): two lookups of sixteen bytes each.
///
/// # Source
/// J. S. Plank, K. M. Greenan, E. L. Miller, "Screaming Fast Galois Field Arithmetic Using Intel SIMD Instructions".
pub(super) static NIBBLES: [Nibbles; 256] = nibbles();

const fn nibbles() -> [Nibbles; 256] {
    let mut tables = [const { Nibbles([0; 32]) }; 256];
    let mut factor = 0;
    while factor < 256 {
        let mut nibble = 0;
        while nibble < 16 {
            tables[factor].0[nibble] = mul(factor as u8, nibble as u8);
            tables[factor].0[16 + nibble] = mul(factor as u8, (nibble << 4) as u8);
            nibble += 1;
        }
        factor += 1;
    }
    tables
}

/// Multiplication by a factor as a matrix of 8 × 8 bits, in the order that the affine instructions take: the row
/// for bit i of the result is byte 7 - i, and within it bit k says whether bit k of the input takes part.
pub(super) static AFFINE: [u64; 256] = affine();

const fn affine() -> [u64; 256] {
    let mut matrices = [0; 256];
    let mut factor = 0;
    while factor < 256 {
        let mut input = 0;
        while input < 8 {
            let product = mul(factor as u8, 1 << input);
            let mut output = 0;
            while output < 8 {
                if product >> output & 1 == 1 {
                    matrices[factor] |= 1 << ((7 - output) * 8 + input);
                }
                output += 1;
            }
            input += 1;
        }
        factor += 1;
    }
    matrices
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_lookups_give_the_product_for_all_pairs() {
        for (factor, tables) in (0..=255u8).zip(&NIBBLES) {
            for value in 0..=255u8 {
                let [low, high] = [value & 15, value >> 4].map(usize::from);
                assert_eq!(tables.0[low] ^ tables.0[16 + high], mul(factor, value));
            }
        }
    }

    /// What the affine instruction is defined to do, bit by bit, since not every processor has it.
    #[test]
    fn the_bit_matrices_give_the_product_for_all_pairs() {
        for (factor, matrix) in (0..=255u8).zip(AFFINE) {
            for value in 0..=255u8 {
                let bit = |i: usize| (matrix.to_le_bytes()[7 - i] & value).count_ones() as u8 & 1;
                let product = (0..8).fold(0, |sum, i| sum | bit(i) << i);
                assert_eq!(product, mul(factor, value));
            }
        }
    }
}
