//! Solving for the lanes that are missing.

use crate::gf256::{inverse, mul, mul_add};
use crate::units::{ParityIndex, Slot};

use super::coefficient;

/// There are fewer parities than missing lanes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{missing} lanes are missing and only {parities} parities are valid")]
pub struct Unsolvable {
    /// How many lanes are missing.
    pub missing: usize,
    /// How many parities can be used.
    pub parities: usize,
}

/// Brings back the `missing` lanes of some rows.
///
/// `syndromes` are the valid parities of the same rows, from which the contributions of all known lanes
/// have been taken away already (in GF(2^8) taking away is [`super::accumulate`] again). The result has
/// the missing lanes in the order given.
///
/// # Errors
/// [`Unsolvable`] when there are fewer syndromes than missing lanes.
pub fn solve(missing: &[Slot], syndromes: &[(ParityIndex, Vec<u8>)]) -> Result<Vec<Vec<u8>>, Unsolvable> {
    let count = missing.len();
    if syndromes.len() < count {
        return Err(Unsolvable { missing: count, parities: syndromes.len() });
    }
    let used = &syndromes[..count];
    let inverted =
        invert(used.iter().map(|(j, _)| missing.iter().map(|i| coefficient(*j, *i)).collect()).collect());
    let length = used.first().map_or(0, |(_, bytes)| bytes.len());
    Ok(inverted
        .iter()
        .map(|row| {
            let mut lane = vec![0; length];
            for (factor, (_, syndrome)) in row.iter().zip(used) {
                mul_add(&mut lane, syndrome, *factor);
            }
            lane
        })
        .collect())
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
    use crate::code::accumulate;
    use rstest::rstest;

    fn lane(slot: u8) -> Vec<u8> {
        (0..37u8).map(|i| i.wrapping_mul(slot.wrapping_mul(7).wrapping_add(3)) ^ slot).collect()
    }

    #[rstest]
    fn every_erasure_pattern_of_small_shapes_comes_back(
        #[values(1, 2, 3, 5, 6)] lanes: u8,
        #[values(1, 2, 3, 8)] parities: u8,
    ) {
        for lost_lanes in 0u32..1 << lanes {
            for lost_parities in 0u32..1 << parities {
                let missing: Vec<Slot> =
                    (0..lanes).filter(|i| lost_lanes >> i & 1 == 1).map(Slot::new).collect();
                let syndromes: Vec<(ParityIndex, Vec<u8>)> = (0..parities)
                    .filter(|j| lost_parities >> j & 1 == 0)
                    .map(|j| {
                        let mut bytes = vec![0; 37];
                        // Encoding all and taking away the known leaves the sum over the missing ones.
                        for slot in (0..lanes).chain((0..lanes).filter(|i| lost_lanes >> i & 1 == 0)) {
                            accumulate(&mut bytes, ParityIndex::new(j), &lane(slot), Slot::new(slot));
                        }
                        (ParityIndex::new(j), bytes)
                    })
                    .collect();
                match solve(&missing, &syndromes) {
                    Ok(found) => {
                        assert!(missing.iter().zip(found).all(|(slot, bytes)| bytes == lane(slot.get())));
                    }
                    Err(_) => assert!(syndromes.len() < missing.len()),
                }
            }
        }
    }

    #[test]
    fn distant_slots_and_late_parities_come_back() {
        let slots = [0u8, 100, 200, 247];
        let syndromes: Vec<_> = [4u8, 5, 6, 7]
            .map(|j| {
                let mut bytes = vec![0; 37];
                slots.iter().for_each(|s| {
                    accumulate(&mut bytes, ParityIndex::new(j), &lane(*s), Slot::new(*s));
                });
                (ParityIndex::new(j), bytes)
            })
            .into();
        let found = solve(&slots.map(Slot::new), &syndromes).unwrap();
        assert!(slots.iter().zip(found).all(|(s, bytes)| bytes == lane(*s)));
    }
}
