//! Shares, as they are written in a pool file.

use schemars::JsonSchema;
use serde::Serialize;

/// A share of something, in thousandths.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(transparent)]
pub struct Share(u16);

impl Share {
    /// A share of `percent` per cent.
    pub const fn percent(percent: u16) -> Self {
        Self(percent * 10)
    }

    /// Reads "30 %" or "12.5%"; where only a share can be meant also "30". What is below 1 without a sign could be a fraction.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let percent: f64 = text.strip_suffix('%').unwrap_or(text).trim().parse().ok()?;
        if !text.ends_with('%') && percent < 1.0 {
            return None;
        }
        (0.0..=100.0).contains(&percent).then(|| Self((percent * 10.0).round() as u16))
    }

    /// From 0 to 1.
    pub fn fraction(self) -> f64 {
        f64::from(self.0) / 1000.0
    }

    /// Whether `part` of `whole` is more than this share.
    pub fn exceeded_by(self, part: u64, whole: u64) -> bool {
        u128::from(part) * 1000 > u128::from(whole) * u128::from(self.0)
    }
}

pub(super) fn read_share(text: &str) -> Result<Share, String> {
    Share::parse(text).ok_or_else(|| format!("`{text}` is not a share: write \"50 %\""))
}
