//! What the kernel says about a disk in /sys: it answers also where no report of the disk can be had.

use schemars::JsonSchema;
use serde::Serialize;

use super::link::{DiskLink, LinkSpeed};

/// What /sys tells about one disk; what it does not tell is none.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct KernelReport {
    /// The link to it.
    pub link: DiskLink,
    /// Degrees Celsius.
    pub celsius: Option<f64>,
}

/// The speed of a SATA link as the kernel writes it, "6.0 Gbps"; "<unknown>" is none.
pub fn sata_speed(words: &str) -> Option<LinkSpeed> {
    let number = words.trim().strip_suffix("Gbps")?.trim_end();
    Some(LinkSpeed { words: format!("{number} Gb/s"), bits: tenths(number)?.checked_mul(100_000_000)? })
}

/// The speed of a PCI Express link as the kernel writes it, "8.0 GT/s PCIe" and its lanes, "4".
///
/// The bits are those on the wire, the line code included: good for comparing two links.
pub fn pcie_speed(speed: &str, lanes: &str) -> Option<LinkSpeed> {
    let (number, _) = speed.trim().split_once(" GT/s")?;
    let lanes: u64 = lanes.trim().parse().ok().filter(|lanes| (1..=64).contains(lanes))?;
    let bits = tenths(number)?.checked_mul(100_000_000)?.checked_mul(lanes)?;
    Some(LinkSpeed { words: format!("{number} GT/s x{lanes}"), bits })
}

/// A temperature as the kernel writes it, in thousandths of a degree Celsius.
pub fn millidegrees(words: &str) -> Option<f64> {
    let thousandths: i32 = words.trim().parse().ok()?;
    Some(f64::from(thousandths) / 1000.0).filter(|celsius| (-60.0..=200.0).contains(celsius))
}

/// "2.5" as 25.
fn tenths(number: &str) -> Option<u64> {
    let (whole, tenth) = number.split_once('.').unwrap_or((number, "0"));
    let tenth: u64 = tenth.parse().ok().filter(|digit| *digit < 10)?;
    whole.parse::<u64>().ok()?.checked_mul(10)?.checked_add(tenth)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("6.0 Gbps\n", Some(("6.0 Gb/s", 6_000_000_000)))]
    #[case("1.5 Gbps", Some(("1.5 Gb/s", 1_500_000_000)))]
    #[case("<unknown>", None)]
    #[case("", None)]
    #[case("99999999999999999999 Gbps", None)]
    fn a_sata_link(#[case] words: &str, #[case] expected: Option<(&str, u64)>) {
        let read = sata_speed(words);
        assert_eq!(read.as_ref().map(|l| (l.words.as_str(), l.bits)), expected);
    }

    #[rstest]
    #[case("8.0 GT/s PCIe", "4", Some(("8.0 GT/s x4", 32_000_000_000)))]
    #[case("2.5 GT/s PCIe", "1\n", Some(("2.5 GT/s x1", 2_500_000_000)))]
    #[case("16 GT/s", "4", Some(("16 GT/s x4", 64_000_000_000)))]
    #[case("Unknown", "4", None)]
    #[case("8.0 GT/s PCIe", "0", None)]
    fn a_pcie_link(#[case] speed: &str, #[case] lanes: &str, #[case] expected: Option<(&str, u64)>) {
        let read = pcie_speed(speed, lanes);
        assert_eq!(read.as_ref().map(|l| (l.words.as_str(), l.bits)), expected);
    }

    #[rstest]
    #[case("38000\n", Some(38.0))]
    #[case("-5500", Some(-5.5))]
    #[case("999000", None)]
    #[case("warm", None)]
    fn a_temperature(#[case] words: &str, #[case] expected: Option<f64>) {
        assert_eq!(millidegrees(words), expected);
    }

    proptest! {
        #[test]
        fn no_words_make_it_panic(words in ".{0,40}", lanes in ".{0,6}") {
            let _ = (sata_speed(&words), pcie_speed(&words, &lanes), millidegrees(&words));
        }
    }
}
