//! How often disks fail.

use schemars::JsonSchema;
use serde::Serialize;

use crate::pool::{DiskSpec, Media};

/// Where a rate comes from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RateSource {
    /// The pool file.
    Given,
    /// A publication, by its title.
    Published(&'static str),
}

/// How likely a disk is to fail within a year.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct YearlyRate {
    /// The share of such disks that fail within a year, from 0 to 1.
    pub share: f64,
    /// That of the best populations that were published; the owner's own figure is all three.
    pub low: f64,
    /// That of the worst.
    pub high: f64,
    /// Where the share comes from.
    pub source: RateSource,
    /// So many times it was raised because of what the disk reports of itself.
    pub raised: f64,
}

impl YearlyRate {
    /// Failures per year while it runs: the rate of an exponential distribution with that share.
    pub fn per_year(&self) -> f64 {
        per_year(self.share)
    }

    /// The same at the end of the range that is named.
    pub fn per_year_at(&self, end: RateEnd) -> f64 {
        per_year(match end {
            RateEnd::Low => self.low,
            RateEnd::High => self.high,
        })
    }
}

/// An end of the range of published rates.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RateEnd {
    /// The best populations.
    Low,
    /// The worst.
    High,
}

fn per_year(share: f64) -> f64 {
    -(1.0 - share).ln()
}

const SPINNING: &str = "published statistics of large fleets of recent years, by age, with the study of 2007 as the upper end; rounded";
const FLASH: &str = "published studies of flash in data centres (2016 and 2020), rounded";

/// No disk is taken to be surer to die than this.
const MOST: f64 = 0.9;

/// The rate of a disk: the owner's figure as it is; else by media and age, raised by what its health tells.
///
/// `raised` is how many times as likely its findings make a failure over a year
/// ([`raised_over_a_year`](crate::health::raised_over_a_year)).
///
/// # Source
/// Fleets of tens and hundreds of thousands of hard disks whose failures have been published every few months since
/// 2013 lose 1 to 2 % a year in their first years, the best models half of that, and more with age. E. Pinheiro,
/// W.-D. Weber, L. A. Barroso, "Failure Trends in a Large Disk Drive Population" (2007), is the upper end. Flash:
/// B. Schroeder, R. Lagisetty, A. Merchant, "Flash Reliability in Production: The Expected and the Unexpected" (2016),
/// and S. Maneas and others, "A Study of SSD Reliability in Large Scale Enterprise Storage Deployments" (2020). The
/// figures are rounded by hand: they are orders of magnitude, which is why there is a range.
pub fn yearly_rate(spec: &DiskSpec, age_years: Option<f64>, raised: f64) -> YearlyRate {
    if let Some(share) = spec.yearly_failure {
        let share = share.fraction().min(MOST);
        return YearlyRate { share, low: share, high: share, source: RateSource::Given, raised: 1.0 };
    }
    let ([low, share, high], source) = match spec.media {
        Some(Media::Ssd | Media::Nvme) => ([0.002, 0.01, 0.025], FLASH),
        Some(Media::Hdd) | None => (spinning(age_years), SPINNING),
    };
    let of = |share: f64| (share * raised).min(MOST);
    YearlyRate {
        share: of(share),
        low: of(low),
        high: of(high),
        source: RateSource::Published(source),
        raised,
    }
}

/// The low end, the usual, and the high end, by years of age; where the age is not known, the middle of all.
fn spinning(age_years: Option<f64>) -> [f64; 3] {
    match age_years {
        None => [0.008, 0.016, 0.08],
        Some(age) if age < 1.0 => [0.006, 0.012, 0.03],
        Some(age) if age < 4.0 => [0.008, 0.014, 0.08],
        Some(age) if age < 6.0 => [0.012, 0.022, 0.08],
        Some(_) => [0.02, 0.045, 0.1],
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
        let young = yearly_rate(&spec, Some(0.5), 1.0);
        let worn = yearly_rate(&spec, Some(0.5), 3.0);
        assert!((worn.share - 3.0 * young.share).abs() < 1e-12);
        assert!((worn.high - 3.0 * young.high).abs() < 1e-12);
        assert!(yearly_rate(&spec, Some(9.0), 39.0).share <= MOST);
        spec.yearly_failure = Share::parse("1.5 %");
        let given = yearly_rate(&spec, Some(9.0), 39.0);
        assert_eq!(
            (given.share, given.low, given.high, given.source),
            (0.015, 0.015, 0.015, RateSource::Given)
        );
        let share = 1.0 - (-worn.per_year()).exp();
        assert!((share - worn.share).abs() < 1e-12, "a year at that rate kills that share");
    }

    #[test]
    fn rates_lie_within_their_range_and_rise_with_age() {
        let of = |media, age| yearly_rate(&DiskSpec { media: Some(media), ..DiskSpec::default() }, age, 1.0);
        let mut last = 0.0;
        for age in [0.5, 2.0, 5.0, 8.0] {
            let rate = of(Media::Hdd, Some(age));
            assert!(rate.low < rate.share && rate.share < rate.high && rate.share > last, "{rate:?}");
            assert!(
                rate.per_year_at(RateEnd::Low) < rate.per_year()
                    && rate.per_year() < rate.per_year_at(RateEnd::High)
            );
            last = rate.share;
        }
        let flash = of(Media::Nvme, Some(2.0));
        assert!(flash.low < flash.share && flash.share < flash.high);
    }
}
