//! What safety costs: the price of each terabyte that a plan keeps from being lost.

use crate::pool::Price;
use crate::units::ByteLength;

/// For so many years disks are used before others take their place: what their space costs is spread over these.
pub const YEARS_OF_USE: f64 = 5.0;

const TB: f64 = 1e12;

/// What of a plan decides what its safety costs.
pub(super) struct Weighed {
    pub(super) is_for_comparison: bool,
    pub(super) survives: usize,
    pub(super) usable: ByteLength,
    /// Bytes that it is expected to lose in a year.
    pub(super) lost: f64,
    pub(super) price_per_tb: Option<Price>,
}

impl Weighed {
    fn tb(&self) -> f64 {
        self.usable.exact() as f64 / TB
    }

    /// Of each byte that is stored.
    fn lost_share(&self) -> f64 {
        self.lost / TB / self.tb()
    }
}

/// The plan that a plan is safer than: of those that survive fewer disks, but most of these, the one that stores the most, and
/// of such the one that loses the least; none of a plan that survives none.
fn less_safe(all: &[Weighed], position: usize) -> Option<&Weighed> {
    let less = |other: &&Weighed| !other.is_for_comparison && other.survives < all[position].survives;
    let better = |a: &&Weighed, b: &&Weighed| {
        (a.survives, a.usable).cmp(&(b.survives, b.usable)).then(b.lost.total_cmp(&a.lost))
    };
    all.iter().filter(less).max_by(better)
}

/// What each terabyte costs that a plan keeps from being lost, against the largest that survives less: the space that it
/// stores less, at what a terabyte costs there and over the years of use, for what it loses less in a year of as much
/// content. None where prices are not known, or where it stores as much or loses no less.
pub(super) fn price_per_saved_tb(all: &[Weighed], position: usize) -> Option<Price> {
    let (safe, other) = (&all[position], less_safe(all, position)?);
    let price = other.price_per_tb.as_ref()?;
    let less_space = other.tb() - safe.tb();
    let saved = (other.lost_share() - safe.lost_share()) * safe.tb();
    let hundredths = (less_space * price.amount() / YEARS_OF_USE / saved * 100.0).round();
    (less_space > 0.0 && saved > 0.0 && hundredths < u64::MAX as f64)
        .then(|| Price { hundredths: hundredths as u64, currency: price.currency.clone() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{Figures, Layout, figures, parse_disks, plans};
    use crate::ingest::Network;
    use crate::pool::Media;
    use crate::units::Rate;

    fn priced(disks: &str, price: &str) -> Vec<Figures> {
        let mut disks = parse_disks(disks, Media::Hdd).unwrap();
        disks.iter_mut().for_each(|disk| disk.price = Price::parse(price));
        let network = Network { name: "the network".into(), rate: Rate::from_per_second(117e6) };
        figures(&plans(&disks), &disks, &network, &[])
    }

    fn of(all: &[Figures], layout: Layout) -> &Figures {
        all.iter().find(|figures| figures.plan.layout() == Some(layout)).unwrap()
    }

    #[test]
    fn the_first_parity_drive_by_hand() {
        let all = priced("4x10TB", "200 EUR");
        let (spanned, guarded) = (of(&all, Layout::Spanned), of(&all, Layout::Unstriped { parities: 1 }));
        // 10 TB less, at 20 EUR a terabyte and over five years: 40 EUR a year. Nearly all that 30 TB would lose unguarded.
        let lost_a_tb = spanned.risk.bytes / 40e12;
        let saved = 30.0 * lost_a_tb - guarded.risk.bytes / 1e12;
        let found = guarded.price_per_saved_tb.as_ref().unwrap();
        assert!((found.amount() / (40.0 / saved) - 1.0).abs() < 1e-3, "{found:?}");
        assert!((found.amount() / (40.0 / (30.0 * lost_a_tb)) - 1.0).abs() < 0.05, "{found:?}");
        assert_eq!(spanned.price_per_saved_tb, None, "it saves nothing");
    }

    #[test]
    fn each_parity_drive_more_saves_at_a_higher_price() {
        let all = priced("8x10TB", "200 EUR");
        let price = |parities| {
            of(&all, Layout::Unstriped { parities }).price_per_saved_tb.clone().unwrap().hundredths
        };
        assert!(price(1) * 10 < price(2) && price(2) * 10 < price(3));
        assert_eq!(of(&priced("8x10TB", ""), Layout::Unstriped { parities: 1 }).price_per_saved_tb, None);
    }
}
