//! How often disks fail.

use serde::Serialize;

use crate::health::Verdict;
use crate::pool::{DiskSpec, Media};

/// Where a rate comes from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum RateSource {
    /// The pool file.
    Given,
    /// A publication, by its title.
    Published(&'static str),
}

/// How likely a disk is to fail within a year.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct YearlyRate {
    /// The share of such disks that fail within a year, from 0 to 1.
    pub share: f64,
    /// Where the share comes from.
    pub source: RateSource,
    /// So many times it was raised because of what the disk reports of itself.
    pub raised: f64,
}

impl YearlyRate {
    /// Failures per year while it runs: the rate of an exponential distribution with that share.
    pub fn per_year(&self) -> f64 {
        -(1.0 - self.share).ln()
    }
}

const SPINNING: &str = "Failure Trends in a Large Disk Drive Population (2007), rounded";
const FLASH: &str = "Flash Reliability in Production: The Expected and the Unexpected (2016), rounded";

/// No disk is taken to be surer to die than this.
const MOST: f64 = 0.9;

/// The rate of a disk: the owner's figure as it is; else by media and age, raised by what its health tells.
///
/// # Source
/// By age, and by findings: E. Pinheiro, W.-D. Weber, L. A. Barroso, "Failure Trends in a Large Disk Drive Population".
/// Flash: B. Schroeder, R. Lagisetty, A. Merchant, "Flash Reliability in Production: The Expected and the
/// Unexpected". The factors for findings are those of the 60 days after the first reallocation and after the first
/// unreadable sector, held for the whole year: in doubt more.
pub fn yearly_rate(spec: &DiskSpec, age_years: Option<f64>, verdict: Option<Verdict>) -> YearlyRate {
    if let Some(share) = spec.yearly_failure {
        return YearlyRate { share: share.fraction().min(MOST), source: RateSource::Given, raised: 1.0 };
    }
    let (share, source) = match spec.media {
        Some(Media::Ssd | Media::Nvme) => (0.02, FLASH),
        Some(Media::Hdd) | None => (spinning(age_years), SPINNING),
    };
    let raised = match verdict {
        None | Some(Verdict::Fine) => 1.0,
        Some(Verdict::Watch) => 2.0,
        Some(Verdict::ReplaceSoon) => 14.0,
        Some(Verdict::DoNotUse) => 39.0,
    };
    YearlyRate { share: (share * raised).min(MOST), source: RateSource::Published(source), raised }
}

/// By years of age; where the age is not known, the middle of all.
fn spinning(age_years: Option<f64>) -> f64 {
    match age_years {
        None => 0.06,
        Some(age) if age < 1.0 => 0.02,
        Some(age) if age < 4.0 => 0.08,
        Some(_) => 0.07,
    }
}

/// The share of bits that cannot be read, as data sheets promise it.
pub const fn default_unreadable_per_bit(media: Option<Media>) -> f64 {
    match media {
        Some(Media::Ssd | Media::Nvme) => 1e-16,
        Some(Media::Hdd) | None => 1e-15,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pool::Share;

    #[test]
    fn the_owners_figure_wins_and_findings_raise_the_others() {
        let mut spec = DiskSpec { media: Some(Media::Hdd), ..DiskSpec::default() };
        let young = yearly_rate(&spec, Some(0.5), None);
        let worn = yearly_rate(&spec, Some(0.5), Some(Verdict::ReplaceSoon));
        assert!((worn.share - 14.0 * young.share).abs() < 1e-12);
        assert!(yearly_rate(&spec, Some(9.0), Some(Verdict::DoNotUse)).share <= MOST);
        spec.yearly_failure = Share::parse("1.5 %");
        let given = yearly_rate(&spec, Some(9.0), Some(Verdict::DoNotUse));
        assert_eq!((given.share, given.source), (0.015, RateSource::Given));
        let share = 1.0 - (-worn.per_year()).exp();
        assert!((share - worn.share).abs() < 1e-12, "a year at that rate kills that share");
    }
}
