//! What a file carries besides its content, and how the catalogue keeps it.

use crate::Stat;

/// Mode, owner, times and extended attributes of a file or folder.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Attributes {
    /// Permission bits.
    pub mode: u32,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Modification time, nanoseconds since 1970.
    pub mtime: i64,
    /// Extended attributes: name and value.
    pub extended: Vec<(Vec<u8>, Vec<u8>)>,
}

impl Attributes {
    /// The attributes in a stat, with the extended ones read besides.
    pub fn of(stat: &Stat, extended: Vec<(Vec<u8>, Vec<u8>)>) -> Self {
        Self { mode: stat.mode, uid: stat.uid, gid: stat.gid, mtime: stat.mtime, extended }
    }

    /// The extended attributes as the catalogue keeps them: length (u32, little-endian) and bytes of each
    /// name and value in turn; nothing when there are none.
    pub fn pack_extended(&self) -> Option<Vec<u8>> {
        if self.extended.is_empty() {
            return None;
        }
        let mut packed = Vec::new();
        for part in self.extended.iter().flat_map(|(name, value)| [name, value]) {
            packed.extend_from_slice(&u32::try_from(part.len()).unwrap_or(0).to_le_bytes());
            packed.extend_from_slice(part);
        }
        Some(packed)
    }

    /// Reads what [`Self::pack_extended`] wrote; what is cut short is left out.
    pub fn unpack_extended(mut packed: &[u8]) -> Vec<(Vec<u8>, Vec<u8>)> {
        let mut parts = Vec::new();
        while let Some((length, rest)) = packed.split_first_chunk::<4>() {
            let length = u32::from_le_bytes(*length) as usize;
            let Some((part, rest)) = rest.split_at_checked(length) else { break };
            parts.push(part.to_vec());
            packed = rest;
        }
        parts.chunks_exact(2).map(|pair| (pair[0].clone(), pair[1].clone())).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn extended_attributes_are_kept_and_hostile_bytes_do_no_harm() {
        let extended = vec![(b"user.site".to_vec(), b"hedge".to_vec()), (b"user.empty".to_vec(), vec![])];
        let packed =
            Attributes { extended: extended.clone(), ..Attributes::default() }.pack_extended().unwrap();
        assert_eq!(Attributes::unpack_extended(&packed), extended);
        for cut in 0..packed.len() {
            assert!(Attributes::unpack_extended(&packed[..cut]).len() <= 2);
        }
        assert!(Attributes::unpack_extended(&[0xFF; 9]).is_empty());
    }
}
