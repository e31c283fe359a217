//! Quantities that must not be mixed up: each is a type of its own, with checked arithmetic.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Bytes in one granule, the smallest unit of a lane.
pub const GRANULE: u64 = 4096;

/// A length in bytes.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema,
)]
#[serde(transparent)]
#[schemars(
    description = "A length in bytes: a whole number; beyond 2^53 the same in text.",
    extend("type" = ["integer", "string"], "pattern" = "^[0-9]+$")
)]
pub struct ByteLength(u64);

/// Why a size could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SizeError {
    /// The text has no number in front.
    #[error("`{0}` is not a size: write a number and a unit, such as \"12 TB\" or \"465.7 GiB\"")]
    NotASize(String),
    /// The unit is none of the known ones.
    #[error("unknown unit `{0}`: use B, kB, MB, GB, TB, PB (decimal) or KiB, MiB, GiB, TiB, PiB (binary)")]
    UnknownUnit(String),
    /// There is no unit.
    #[error("`{0}` has no unit: write \"{0} GB\" or \"{0} TB\", or \"{0} B\" for so many bytes")]
    NoUnit(String),
    /// A small b is a bit, and sizes are bytes.
    #[error("`{0}` are bits: write a large B for bytes, such as \"12 GB\"")]
    Bits(String),
    /// It is no rate.
    #[error("`{0}` is not a rate: write a number and a unit, such as \"180 MB/s\" or \"2.5 Gb/s\"")]
    NotARate(String),
    /// It could be bits or bytes.
    #[error("`{0}` can mean bits or bytes: write \"{1}b/s\" for bits, or \"{1}B/s\" for bytes")]
    BitsOrBytes(String, String),
    /// The size does not fit into 63 bits.
    #[error("`{0}` is too large")]
    TooLarge(String),
}

const UNITS: [(&str, u64); 15] = [
    ("b", 1),
    ("kb", 1_000),
    ("mb", 1_000_000),
    ("gb", 1_000_000_000),
    ("tb", 1_000_000_000_000),
    ("pb", 1_000_000_000_000_000),
    ("kib", 1 << 10),
    ("mib", 1 << 20),
    ("gib", 1 << 30),
    ("tib", 1 << 40),
    ("pib", 1 << 50),
    ("k", 1_000),
    ("m", 1_000_000),
    ("g", 1_000_000_000),
    ("t", 1_000_000_000_000),
];

impl ByteLength {
    /// No bytes.
    pub const ZERO: Self = Self(0);

    /// A length of `bytes`.
    pub const fn new(bytes: u64) -> Self {
        Self(bytes)
    }

    /// The exact number of bytes.
    pub const fn exact(self) -> u64 {
        self.0
    }

    /// The sum, or the largest length where it would not fit.
    #[must_use]
    pub const fn plus(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }

    /// The difference, or nothing where `other` is larger.
    #[must_use]
    pub const fn minus(self, other: Self) -> Self {
        Self(self.0.saturating_sub(other.0))
    }

    /// The granules that hold this many bytes, rounded up.
    pub const fn granules(self) -> u64 {
        self.0.div_ceil(GRANULE)
    }

    /// Reads "12 TB" or "1.5GiB"; decimal units are powers of 1000. A small b after a large letter is a bit, and refused.
    ///
    /// # Errors
    /// When there is no number or no unit, the unit is unknown, or the size is over 2^63 bytes.
    pub fn parse(text: &str) -> Result<Self, SizeError> {
        let text = text.trim();
        let digits = text.find(|c: char| !(c.is_ascii_digit() || c == '.' || c == '_')).unwrap_or(text.len());
        let number = text[..digits].replace('_', "");
        let unit = text[digits..].trim().to_ascii_lowercase();
        if !number.starts_with(|c: char| c.is_ascii_digit()) {
            return Err(SizeError::NotASize(text.into()));
        }
        if unit.is_empty() {
            return Err(SizeError::NoUnit(text.into()));
        }
        if let [prefix, b'b'] = text[digits..].trim().as_bytes()
            && prefix.is_ascii_uppercase()
        {
            return Err(SizeError::Bits(text.into()));
        }
        let factor = UNITS
            .iter()
            .find(|(name, _)| *name == unit)
            .map(|(_, factor)| *factor)
            .ok_or_else(|| SizeError::UnknownUnit(text[digits..].trim().into()))?;
        exact_product(&number, factor).ok_or_else(|| SizeError::NotASize(text.into())).and_then(|bytes| {
            u64::try_from(bytes)
                .ok()
                .filter(|b| i64::try_from(*b).is_ok())
                .map(Self)
                .ok_or_else(|| SizeError::TooLarge(text.into()))
        })
    }

    /// The size in binary units, "465.7 GiB".
    pub fn binary(self) -> String {
        scaled(self.0, 1024, &["B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"], 1)
    }
}

/// `number` (decimal digits, at most one point) times `factor`, without going through floating point.
fn exact_product(number: &str, factor: u64) -> Option<u128> {
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    if fraction.contains('.') || whole.len() > 19 || fraction.len() > 15 {
        return None;
    }
    let whole: u128 = whole.parse().ok()?;
    let scale = 10u128.pow(u32::try_from(fraction.len()).ok()?);
    let fraction: u128 = if fraction.is_empty() { 0 } else { fraction.parse().ok()? };
    Some(whole * u128::from(factor) + fraction * u128::from(factor) / scale)
}

/// Bytes in the largest unit that fits; of 100 units and more only so many digits behind the point.
fn scaled(bytes: u64, base: u64, names: &[&str], digits_of_hundreds: usize) -> String {
    if bytes < base {
        return format!("{bytes} {}", names[0]);
    }
    let mut value = bytes as f64;
    let mut step = 0;
    // 999.95 would print as "1000.0": the next unit is due a little before the power itself.
    while value >= base as f64 * 0.99995 && step + 1 < names.len() {
        value /= base as f64;
        step += 1;
    }
    let digits = if value >= 100.0 { digits_of_hundreds } else { 1 };
    format!("{value:.digits$} {}", names[step])
}

impl fmt::Display for ByteLength {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&scaled(self.0, 1000, &["B", "kB", "MB", "GB", "TB", "PB", "EB"], 0))
    }
}

impl std::iter::Sum for ByteLength {
    fn sum<I: Iterator<Item = Self>>(lengths: I) -> Self {
        lengths.fold(Self::ZERO, Self::plus)
    }
}

/// An estimated rate, in bytes per second.
#[derive(Clone, Copy, Debug, Default, PartialEq, PartialOrd, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct Rate(f64);

impl Rate {
    /// A rate of so many bytes per second; what is no positive number counts as zero.
    pub fn from_per_second(bytes: f64) -> Self {
        Self(if bytes.is_finite() { bytes.max(0.0) } else { 0.0 })
    }

    /// Bytes per second.
    pub const fn per_second(self) -> f64 {
        self.0
    }

    /// Reads "180 MB/s" and "1.2 GB/s" (bytes), "2.5 Gb/s" and "2.5 Gbit/s" (bits).
    ///
    /// # Errors
    /// When it is no number with one of these units.
    pub fn parse(text: &str) -> Result<Self, SizeError> {
        let not_a_rate = || SizeError::NotARate(text.into());
        let amount = text.trim().strip_suffix("/s").ok_or_else(not_a_rate)?.trim_end();
        let end =
            amount.find(|c: char| !(c.is_ascii_digit() || c == '.' || c == '_')).ok_or_else(not_a_rate)?;
        let (number, unit) = (&amount[..end], amount[end..].trim());
        let bits = match unit {
            "Gb" | "Gbit" => Some(1e9),
            "Mb" | "Mbit" => Some(1e6),
            "kb" | "kbit" => Some(1e3),
            _ => None,
        };
        if let Some(bits) = bits {
            let number: f64 = number.trim().parse().map_err(|_| not_a_rate())?;
            return Self::from_per_second(number * bits / 8.0).positive(text);
        }
        if let "gb" | "mb" | "tb" | "Kb" | "Tb" | "b" = unit {
            let number = format!("{number} {}", unit[..unit.len() - 1].to_ascii_uppercase());
            return Err(SizeError::BitsOrBytes(text.into(), number));
        }
        ByteLength::parse(amount).and_then(|bytes| Self::from_per_second(bytes.exact() as f64).positive(text))
    }

    fn positive(self, text: &str) -> Result<Self, SizeError> {
        if self.0 > 0.0 { Ok(self) } else { Err(SizeError::NotARate(text.into())) }
    }

    /// The time in seconds for so many bytes.
    pub fn seconds_for(self, bytes: ByteLength) -> f64 {
        bytes.exact() as f64 / self.0
    }
}

impl fmt::Display for Rate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{}/s", ByteLength::new(self.0 as u64)))
    }
}

macro_rules! identifier {
    ($(#[$doc:meta])* $name:ident($inner:ty)) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
        #[serde(transparent)]
        pub struct $name($inner);

        impl $name {
            /// Wraps the raw number.
            pub const fn new(raw: $inner) -> Self {
                Self(raw)
            }

            /// The raw number.
            pub const fn get(self) -> $inner {
                self.0
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.fmt(f)
            }
        }
    };
}

identifier! {
    /// The permanent place of a data disk in its volume: 0 to 247.
    Slot(u8)
}
identifier! {
    /// The permanent place of a parity disk in its volume: 0 to 7.
    ParityIndex(u8)
}
identifier! {
    /// The number of a disk in the catalogue.
    DiskId(i64)
}
identifier! {
    /// The number of an object in the catalogue.
    ObjectId(i64)
}
identifier! {
    /// The number of one content of an object, as checksummed.
    VersionId(i64)
}
identifier! {
    /// The number of a parity cell: which stretch of rows it covers.
    CellIndex(u32)
}
identifier! {
    /// The random id of a checkpoint.
    CheckpointId(u64)
}

/// Most data disks that one volume may have.
pub const MAX_SLOTS: usize = 248;
/// Most parity disks that one volume may have.
pub const MAX_PARITIES: usize = 8;
/// The most cache disks of a volume.
pub const MAX_CACHES: usize = 8;

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("12 TB", 12_000_000_000_000)]
    #[case("1.5GiB", 1_610_612_736)]
    #[case("500 GB", 500_000_000_000)]
    #[case("4096 B", 4096)]
    #[case("12 tb", 12_000_000_000_000)]
    #[case("0.1 kB", 100)]
    #[case("1_000 B", 1000)]
    fn sizes_are_read_exactly(#[case] text: &str, #[case] bytes: u64) {
        assert_eq!(ByteLength::parse(text), Ok(ByteLength::new(bytes)));
    }

    #[rstest]
    #[case("")]
    #[case("TB")]
    #[case("-1 GB")]
    #[case("12 parsecs")]
    #[case("4096")]
    #[case("90")]
    #[case("12 Gb")]
    #[case("1.2.3 GB")]
    #[case("99999999999999 TB")]
    fn wrong_sizes_are_refused(#[case] text: &str) {
        assert!(ByteLength::parse(text).is_err());
    }

    #[rstest]
    #[case(999, "999 B")]
    #[case(1_500_000_000_000, "1.5 TB")]
    #[case(999_990, "1.0 MB")]
    #[case(123_400_000, "123 MB")]
    fn sizes_are_shown_in_decimal_units(#[case] bytes: u64, #[case] text: &str) {
        assert_eq!(ByteLength::new(bytes).to_string(), text);
    }

    #[rstest]
    #[case("180 MB/s", Some(180e6))]
    #[case("1.2GB/s", Some(1.2e9))]
    #[case("2.5 Gbit/s", Some(312.5e6))]
    #[case("100 Mbit/s", Some(12.5e6))]
    #[case("1 Gb/s", Some(125e6))]
    #[case("1 GB/s", Some(1e9))]
    #[case("1 gb/s", None)]
    #[case("600 mb/s", None)]
    #[case("1 MiB/s", Some(1_048_576.0))]
    #[case("180", None)]
    #[case("180 MB", None)]
    #[case("0 MB/s", None)]
    #[case("-1 Gbit/s", None)]
    #[case("fast/s", None)]
    fn rates_are_read(#[case] text: &str, #[case] expected: Option<f64>) {
        assert_eq!(Rate::parse(text).ok().map(Rate::per_second), expected);
    }

    #[test]
    fn the_same_disk_in_binary_units() {
        assert_eq!(ByteLength::new(500_000_000_000).binary(), "465.7 GiB");
    }
}
