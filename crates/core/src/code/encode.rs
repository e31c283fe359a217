//! Computing parity, from all lanes or from what changed in some.

use std::collections::HashMap;

use super::coefficient;
use crate::gf256::{Kernel, Start};
use crate::units::{ParityIndex, Slot};

/// The coefficients between some parities and some lanes, ready for use over many rows.
#[derive(Clone, Debug)]
pub struct Encoder {
    kernel: Kernel,
    /// One row a parity, one column a lane.
    factors: Vec<Vec<u8>>,
}

impl Encoder {
    /// Prepares to compute `parities` from lanes in `slots`; a slot may come twice (old and new content).
    pub fn new(kernel: Kernel, parities: &[ParityIndex], slots: &[Slot]) -> Self {
        let row = |j: &ParityIndex| slots.iter().map(|i| coefficient(*j, *i)).collect();
        Self { kernel, factors: parities.iter().map(row).collect() }
    }

    /// Computes the parities of some rows from all their lanes.
    ///
    /// # Panics
    /// When there are other numbers of buffers than were prepared for, or their lengths differ.
    pub fn encode(&self, parities: &mut [&mut [u8]], lanes: &[&[u8]]) {
        self.run(parities, lanes, Start::Zero);
    }

    /// Brings present parities up to date: `parity ^= c · (old ^ new)` for the contents given, old ones and new ones.
    ///
    /// # Panics
    /// As [`Self::encode`].
    pub fn update(&self, parities: &mut [&mut [u8]], contents: &[&[u8]]) {
        self.run(parities, contents, Start::Present);
    }

    fn run(&self, parities: &mut [&mut [u8]], lanes: &[&[u8]], start: Start) {
        let factors: Vec<&[u8]> = self.factors.iter().map(Vec::as_slice).collect();
        self.kernel.combine(parities, lanes, &factors, start);
    }
}

/// Encoders of some parities, made when a set of lanes first comes up: over many rows it is mostly the same few.
#[derive(Clone, Debug)]
pub struct Encoders {
    kernel: Kernel,
    parities: Vec<ParityIndex>,
    by_slots: HashMap<Vec<Slot>, Encoder>,
}

impl Encoders {
    /// Encoders of these parities.
    pub fn new(kernel: Kernel, parities: Vec<ParityIndex>) -> Self {
        Self { kernel, parities, by_slots: HashMap::new() }
    }

    /// The encoder for lanes in these slots.
    pub fn of(&mut self, slots: Vec<Slot>) -> &Encoder {
        let (kernel, parities) = (self.kernel, &self.parities);
        self.by_slots.entry(slots).or_insert_with_key(|slots| Encoder::new(kernel, parities, slots))
    }

    /// Whether there are no parities to compute.
    pub const fn is_empty(&self) -> bool {
        self.parities.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::gf256::mul;

    const PARITIES: [u8; 8] = [0, 1, 2, 3, 4, 5, 6, 7];

    fn lane(slot: u8, version: u8) -> Vec<u8> {
        (0..513u32).map(|i| (i as u8).wrapping_mul(slot | 1).wrapping_add(version) ^ slot).collect()
    }

    fn encode(lanes: &[(u8, Vec<u8>)]) -> Vec<Vec<u8>> {
        let slots: Vec<Slot> = lanes.iter().map(|(slot, _)| Slot::new(*slot)).collect();
        let encoder = Encoder::new(Kernel::best(), &PARITIES.map(ParityIndex::new), &slots);
        let mut parities = vec![vec![0xEE; 513]; 8];
        let lanes: Vec<&[u8]> = lanes.iter().map(|(_, bytes)| bytes.as_slice()).collect();
        encoder.encode(&mut parities.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(), &lanes);
        parities
    }

    #[test]
    fn parity_is_the_sum_of_the_products() {
        let lanes = [(0, lane(0, 1)), (5, lane(5, 1)), (247, lane(247, 1))];
        for (j, parity) in PARITIES.into_iter().zip(encode(&lanes)) {
            for (i, byte) in parity.iter().enumerate() {
                let expected = lanes.iter().fold(0, |sum, (slot, bytes)| {
                    sum ^ mul(coefficient(ParityIndex::new(j), Slot::new(*slot)), bytes[i])
                });
                assert_eq!(*byte, expected);
            }
        }
    }

    #[test]
    fn an_update_gives_what_encoding_anew_gives() {
        let before = [(2, lane(2, 1)), (9, lane(9, 1)), (11, lane(11, 1))];
        let after = [(2, lane(2, 1)), (9, lane(9, 2)), (11, vec![0; 513])];
        let mut parities = encode(&before);
        // Slot 9 changed, slot 11 was removed: its old content alone takes part.
        let slots = [9, 9, 11].map(Slot::new);
        let encoder = Encoder::new(Kernel::best(), &PARITIES.map(ParityIndex::new), &slots);
        encoder.update(
            &mut parities.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(),
            &[&before[1].1, &after[1].1, &before[2].1],
        );
        assert_eq!(parities, encode(&after));
    }
}
