//! What safety costs: the price of each terabyte that a plan keeps from being lost.

use super::Figures;
use crate::pool::Price;

/// For so many years disks are used before others take their place: what their space costs is spread over these.
pub const YEARS_OF_USE: f64 = 5.0;

const TB: f64 = 1e12;

/// The position of the plan that a plan is safer than: of those that survive fewer disks, but most of these, the one that
/// stores the most, and of such the one that loses the least; none of a plan that survives none.
pub(super) fn less_safe(all: &[Figures], position: usize) -> Option<usize> {
    let less = |i: &usize| !all[*i].is_for_comparison && all[*i].survives < all[position].survives;
    let key = |i: &usize| (all[*i].survives, all[*i].plan.usable);
    let least_lost = |a: &usize, b: &usize| all[*b].risk.bytes.total_cmp(&all[*a].risk.bytes);
    (0..all.len()).filter(less).max_by(|a, b| key(a).cmp(&key(b)).then(least_lost(a, b)))
}

/// What each terabyte costs that a plan keeps from being lost, against [`less_safe`]: the space that it stores less, at what
/// a terabyte costs there and over the years of use, for what it loses less in a year of as much content. None where prices
/// are not known, or where it stores as much or loses no less.
pub(super) fn price_per_saved_tb(all: &[Figures], position: usize) -> Option<Price> {
    let (safe, other) = (&all[position], &all[less_safe(all, position)?]);
    let price = other.price_per_tb.as_ref()?;
    let tb = |figures: &Figures| figures.plan.usable.exact() as f64 / TB;
    let less_space = tb(other) - tb(safe);
    // Bytes lost a year for each byte that is stored.
    let lost = |figures: &Figures| figures.risk.bytes / TB / tb(figures);
    let saved = (lost(other) - lost(safe)) * tb(safe);
    let costs = less_space * price.amount() / YEARS_OF_USE / saved;
    let hundredths = (costs * 100.0).round();
    (less_space > 0.0 && saved > 0.0 && hundredths < u64::MAX as f64)
        .then(|| Price { hundredths: hundredths as u64, currency: price.currency.clone() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{Layout, figures, parse_disks, plans};
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
