//! The plans that are worth a look: those that no other one beats in everything.

use std::cmp::Reverse;
use std::collections::BTreeSet;

use super::Figures;

/// So many plans are worth a look at most.
const MOST: usize = 10;

/// The positions of the plans that no other plan that can be built is at least as good as in everything, and better in
/// something; of plans that are alike the first. Where there are too many, those stay that store the most of all that
/// survive as many disks, and then the most spacious.
pub fn front(all: &[Figures]) -> Vec<usize> {
    let can_be_built = |position: &usize| !all[*position].is_for_comparison;
    let mut kept: Vec<usize> = (0..all.len()).filter(can_be_built).collect();
    let everyone = kept.clone();
    kept.retain(|one| !everyone.iter().any(|other| other != one && beats(all, *other, *one)));
    if kept.len() > MOST {
        kept.sort_by_key(|position| Reverse(all[*position].plan.usable));
        let mut levels = BTreeSet::new();
        let (first, further): (Vec<usize>, Vec<usize>) =
            kept.iter().partition(|position| levels.insert(all[**position].survives));
        kept = first.into_iter().chain(further).take(MOST).collect();
        kept.sort_unstable();
    }
    kept
}

/// Whether one plan is at least as good as another in everything, and better in something or named before it.
fn beats(all: &[Figures], one: usize, other: usize) -> bool {
    let (a, b) = (merits(&all[one]), merits(&all[other]));
    let at_least = a.iter().zip(&b).all(|(a, b)| a >= b);
    at_least && (a != b || one < other)
}

/// What more is better of.
fn merits(figures: &Figures) -> [f64; 6] {
    [
        figures.plan.usable.exact() as f64,
        figures.survives as f64,
        -figures.risk.bytes,
        figures.write.rate.per_second(),
        figures.read.rate.per_second(),
        figures.price_per_tb.as_ref().map_or(0.0, |price| -price.amount()),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{Layout, Wishes, figures, parse_disks, plans, recommend};
    use crate::ingest::Network;
    use crate::pool::Media;
    use crate::units::Rate;
    use proptest::prelude::*;

    fn compared(hdd: &str, ssd: &str) -> Vec<Figures> {
        let mut disks = parse_disks(hdd, Media::Hdd).unwrap();
        if !ssd.is_empty() {
            disks.extend(parse_disks(ssd, Media::Ssd).unwrap());
        }
        let network = Network { name: "the network".into(), rate: Rate::from_per_second(1e9) };
        figures(&plans(&disks), &disks, &network, &[])
    }

    #[test]
    fn what_another_plan_beats_in_everything_is_left_out() {
        let all = compared("4x4TB", "");
        let front = front(&all);
        let layouts: Vec<Layout> =
            front.iter().map(|i| all[*i].plan.layout().unwrap_or(Layout::Spanned)).collect();
        // The same disks as pairs store half, and survive any one; one parity stores three quarters and survives any one;
        // pairs lose less when it comes to it.
        assert!(layouts.contains(&Layout::Unstriped { parities: 1 }) && layouts.contains(&Layout::Spanned));
        assert!(layouts.iter().all(|layout| !layout.is_for_comparison()));
        let spanned =
            layouts.iter().filter(|l| matches!(l, Layout::Spanned | Layout::Unstriped { parities: 0 }));
        assert_eq!(spanned.count(), 1, "plans that are alike are told once: {layouts:?}");
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn nothing_on_the_front_is_beaten_and_the_rest_is(
            hdds in prop::collection::vec(1..20u8, 2..9), ssds in 0..3usize, survive in 0..3usize,
        ) {
            let list = hdds.iter().map(|n| format!("{n}TB")).collect::<Vec<_>>().join(",");
            let ssd = if ssds > 0 { format!("{ssds}x1TB") } else { String::new() };
            let all = compared(&list, &ssd);
            let front = front(&all);
            let better = |a: usize, b: usize| {
                let (a, b) = (merits(&all[a]), merits(&all[b]));
                (0..a.len()).all(|i| a[i] >= b[i]) && (0..a.len()).any(|i| a[i] > b[i])
            };
            let built: Vec<usize> = (0..all.len()).filter(|i| !all[*i].is_for_comparison).collect();
            prop_assert!(!front.is_empty() && front.len() <= MOST);
            for one in &front {
                prop_assert!(!built.iter().any(|other| better(*other, *one)));
            }
            if front.len() < MOST {
                for one in built.iter().filter(|one| !front.contains(one)) {
                    prop_assert!(front.iter().any(|other| better(*other, *one) || merits(&all[*other]) == merits(&all[*one])));
                }
            }
            // What is recommended is among them, or as good as one of them in what was asked for.
            if let Some(found) = recommend(&all, Wishes { want: None, survive: Some(survive) }) {
                let chosen = &all[found.position];
                prop_assert!(front.iter().any(|i| all[*i].plan.usable >= chosen.plan.usable && all[*i].survives >= survive));
            }
        }
    }
}
