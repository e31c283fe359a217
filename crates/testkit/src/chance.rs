//! Random numbers that repeat for the same seed (SplitMix64).

/// A source of chance.
pub struct Chance(u64);

impl Chance {
    /// Starts from a seed.
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    /// The next number.
    pub fn number(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// A number below `end`.
    pub fn below(&mut self, end: usize) -> usize {
        (self.number() % end.max(1) as u64) as usize
    }

    /// True once in `n` times.
    pub fn once_in(&mut self, n: usize) -> bool {
        self.below(n) == 0
    }

    /// One of several things.
    pub fn pick<'a, T>(&mut self, from: &'a [T]) -> &'a T {
        &from[self.below(from.len())]
    }

    /// Bytes that no other call yields.
    pub fn bytes(&mut self, length: usize) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(length + 8);
        while bytes.len() < length {
            bytes.extend_from_slice(&self.number().to_le_bytes());
        }
        bytes.truncate(length);
        bytes
    }
}
