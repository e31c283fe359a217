//! The link to a disk: how fast it is, and how fast it could be.

use schemars::JsonSchema;
use serde::Serialize;

/// The speed of the link to a disk, in words and in bits per second.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LinkSpeed {
    /// In words, "6.0 Gb/s".
    pub words: String,
    /// Bits per second.
    #[serde(rename = "bits_per_second")]
    pub bits: u64,
}

/// The link to a disk; what is not told is none.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct DiskLink {
    /// As it was negotiated.
    pub now: Option<LinkSpeed>,
    /// As the disk could do it.
    pub possible: Option<LinkSpeed>,
}

impl DiskLink {
    /// The speed now and the possible one in words, where the link is slower than the disk could do.
    pub fn slow(&self) -> Option<(&str, &str)> {
        let (now, possible) = (self.now.as_ref()?, self.possible.as_ref()?);
        (0 < now.bits && now.bits < possible.bits).then_some((&now.words, &possible.words))
    }

    /// This link, with what it does not tell taken from another source.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        // Both speeds come from one source: the words of two may not compare.
        if self.now.is_some() { self } else { other }
    }
}
