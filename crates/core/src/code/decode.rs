//! Solving for the lanes that are missing.

use super::coefficient;
use crate::gf256::{Kernel, Start, inverse, mul, mul_add};
use crate::units::{ParityIndex, Slot};

/// There are fewer parities than missing lanes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{missing} lanes are missing and only {parities} parities are valid")]
pub struct Unsolvable {
    /// How many lanes are missing.
    pub missing: usize,
    /// How many parities can be used.
    pub parities: usize,
}

/// Brings missing lanes back from parities and the lanes that are known: one sum of products for each, solved for
/// once and used over many rows.
#[derive(Clone, Debug)]
pub struct Decoder {
    kernel: Kernel,
    /// One row a missing lane; a column for each parity that is used, then one for each known lane.
    factors: Vec<Vec<u8>>,
    used: usize,
}

impl Decoder {
    /// Solves for `missing` from as many of `parities` as are needed, the first ones, and all `known` lanes.
    ///
    /// # Errors
    /// [`Unsolvable`] when there are fewer parities than missing lanes.
    pub fn new(
        kernel: Kernel,
        missing: &[Slot],
        parities: &[ParityIndex],
        known: &[Slot],
    ) -> Result<Self, Unsolvable> {
        let used = missing.len();
        if parities.len() < used {
            return Err(Unsolvable { missing: used, parities: parities.len() });
        }
        let parities = &parities[..used];
        let square = parities.iter().map(|j| missing.iter().map(|i| coefficient(*j, *i)).collect()).collect();
        let factors = invert(square)
            .into_iter()
            .map(|mut row| {
                // A parity less what the known lanes give to it; taking away is adding.
                let of = |slot: &Slot| {
                    let products = parities.iter().zip(&row).map(|(j, f)| mul(*f, coefficient(*j, *slot)));
                    products.fold(0, |sum, product| sum ^ product)
                };
                let of_known: Vec<u8> = known.iter().map(of).collect();
                row.extend(of_known);
                row
            })
            .collect();
        Ok(Self { kernel, factors, used })
    }

    /// How many parities take part: the first ones of those given to [`Self::new`].
    pub const fn parities_used(&self) -> usize {
        self.used
    }

    /// Computes the missing lanes over some rows. All buffers have one length.
    ///
    /// # Panics
    /// When there are other numbers of buffers than were prepared for, or their lengths differ.
    pub fn decode(&self, missing: &mut [&mut [u8]], parities: &[&[u8]], known: &[&[u8]]) {
        let sources: Vec<&[u8]> = parities[..self.used].iter().chain(known).copied().collect();
        let factors: Vec<&[u8]> = self.factors.iter().map(Vec::as_slice).collect();
        self.kernel.combine(missing, &sources, &factors, Start::Zero);
    }
}

/// Gauss-Jordan elimination. Every square submatrix of the code is invertible, so a pivot is always found.
fn invert(mut matrix: Vec<Vec<u8>>) -> Vec<Vec<u8>> {
    let size = matrix.len();
    let mut result: Vec<Vec<u8>> =
        (0..size).map(|row| (0..size).map(|column| u8::from(row == column)).collect()).collect();
    for column in 0..size {
        let pivot = (column..size)
            .find(|row| matrix[*row][column] != 0)
            .expect("every square submatrix of a Cauchy matrix is invertible");
        matrix.swap(column, pivot);
        result.swap(column, pivot);
        let scale = inverse(matrix[column][column]).expect("the pivot is not zero");
        for value in matrix[column].iter_mut().chain(result[column].iter_mut()) {
            *value = mul(*value, scale);
        }
        let (pivot_row, pivot_result) = (matrix[column].clone(), result[column].clone());
        for row in (0..size).filter(|row| *row != column) {
            let factor = matrix[row][column];
            mul_add(&mut matrix[row], &pivot_row, factor);
            mul_add(&mut result[row], &pivot_result, factor);
        }
    }
    result
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::code::Encoder;
    use rstest::rstest;

    const LENGTH: usize = 137;

    fn lane(slot: u8) -> Vec<u8> {
        (0..LENGTH as u8).map(|i| i.wrapping_mul(slot.wrapping_mul(7).wrapping_add(3)) ^ slot).collect()
    }

    /// Encodes lanes in `slots`, loses some lanes and parities, and expects back what the theorem says.
    fn lose(kernel: Kernel, slots: &[u8], lost: impl Fn(usize) -> bool, parities: &[u8]) {
        let slots: Vec<Slot> = slots.iter().copied().map(Slot::new).collect();
        let parities: Vec<ParityIndex> = parities.iter().copied().map(ParityIndex::new).collect();
        let lanes: Vec<Vec<u8>> = slots.iter().map(|slot| lane(slot.get())).collect();
        let views = |is_wanted: &dyn Fn(usize) -> bool| -> Vec<&[u8]> {
            (0..slots.len()).filter(|i| is_wanted(*i)).map(|i| lanes[i].as_slice()).collect()
        };
        let mut computed = vec![vec![0; LENGTH]; parities.len()];
        Encoder::new(kernel, &parities, &slots)
            .encode(&mut computed.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(), &views(&|_| true));
        let of = |is_wanted: &dyn Fn(usize) -> bool| -> Vec<Slot> {
            (0..slots.len()).filter(|i| is_wanted(*i)).map(|i| slots[i]).collect()
        };
        let (missing, known) = (of(&lost), of(&|i| !lost(i)));
        match Decoder::new(kernel, &missing, &parities, &known) {
            Ok(decoder) => {
                let mut found = vec![vec![0xAA; LENGTH]; missing.len()];
                decoder.decode(
                    &mut found.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(),
                    &computed.iter().map(Vec::as_slice).collect::<Vec<_>>(),
                    &views(&|i| !lost(i)),
                );
                assert_eq!(found, views(&lost));
            }
            Err(_) => assert!(parities.len() < missing.len()),
        }
    }

    #[rstest]
    fn every_erasure_pattern_of_small_shapes_comes_back(
        #[values(1, 2, 3, 5, 6)] lanes: u8,
        #[values(1, 2, 3, 8)] parities: u8,
    ) {
        let slots: Vec<u8> = (0..lanes).collect();
        for lost_lanes in 0u32..1 << lanes {
            for lost_parities in 0u32..1 << parities {
                let valid: Vec<u8> = (0..parities).filter(|j| lost_parities >> j & 1 == 0).collect();
                lose(Kernel::best(), &slots, |i| lost_lanes >> i & 1 == 1, &valid);
            }
        }
    }

    #[test]
    fn distant_slots_and_late_parities_come_back_with_every_kernel() {
        for kernel in Kernel::available() {
            lose(kernel, &[0, 100, 200, 247], |_| true, &[4, 5, 6, 7]);
            lose(
                kernel,
                &(0..248).map(|slot| slot as u8).collect::<Vec<_>>(),
                |i| i % 31 == 3,
                &[0, 1, 2, 3, 4, 5, 6, 7],
            );
        }
    }
}
