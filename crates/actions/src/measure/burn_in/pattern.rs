//! The pattern: bytes that no compression shortens and that differ at every place, so that a block that lands
//! elsewhere is noticed.

/// The pattern of one burn-in.
pub(super) struct Pattern {
    key: [u8; 32],
}

impl Pattern {
    /// The pattern of a seed.
    pub(super) fn new(seed: u64) -> Self {
        Self { key: *blake3::hash(&seed.to_le_bytes()).as_bytes() }
    }

    /// The bytes from `offset` on.
    pub(super) fn fill(&self, offset: u64, bytes: &mut [u8]) {
        let mut reader = blake3::Hasher::new_keyed(&self.key).finalize_xof();
        reader.set_position(offset);
        reader.fill(bytes);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_place_has_its_own_bytes() {
        let mut whole = vec![0; 4096];
        Pattern::new(1).fill(0, &mut whole);
        let mut part = vec![0; 100];
        Pattern::new(1).fill(1000, &mut part);
        assert_eq!(part, whole[1000..1100]);
        Pattern::new(2).fill(1000, &mut part);
        assert_ne!(part, whole[1000..1100]);
    }
}
