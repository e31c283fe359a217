//! Which plan suits stated wishes, and why.

use std::cmp::Ordering;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Figures, Layout};

/// What matters most.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Want {
    /// As much space as possible.
    #[default]
    Space,
    /// As little loss as possible.
    Safety,
    /// Copies as fast as possible.
    Speed,
    /// As little money for a terabyte as possible.
    Cheap,
}

/// The plan that suits best.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Recommendation {
    /// Its position in the list of figures.
    pub position: usize,
    /// Why, in sentences.
    pub reasons: Vec<String>,
}

/// What somebody asks for; what is left open is chosen by rule.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Wishes {
    /// What matters most; without it space.
    pub want: Option<Want>,
    /// How many disks must be allowed to die; without it one, from seven disks on two.
    pub survive: Option<usize>,
}

/// From so many disks on it is likely enough that a second one dies while the first is rebuilt.
const MANY_DISKS: usize = 7;

impl Wishes {
    /// How many disks must be allowed to die. By rule it goes by those that can hold parity or be guarded by it: SSDs beside
    /// hard disks are none of them.
    pub fn losses(self, all: &[Figures]) -> usize {
        let guarded = all.iter().filter(|f| matches!(f.plan.layout(), Some(Layout::Unstriped { .. })));
        let disks = guarded.map(|f| f.plan.members().count()).max().unwrap_or(0);
        self.survive.unwrap_or(if disks < MANY_DISKS { 1 } else { 2 })
    }
}

/// Chooses, of the plans that can be built and that survive enough losses, the one that suits best.
///
/// Nothing when there is none.
pub fn recommend(all: &[Figures], wishes: Wishes) -> Option<Recommendation> {
    let survive = wishes.losses(all);
    let want = wishes.want.unwrap_or(Want::Space);
    let candidates = candidates(all, survive);
    let position = best(all, &candidates, want)?;
    let mut reasons = reasons(all, position, &candidates, wishes, (want, survive));
    reasons.extend(steps(all, position, want));
    Some(Recommendation { position, reasons })
}

fn candidates(all: &[Figures], survive: usize) -> Vec<usize> {
    (0..all.len()).filter(|i| !all[*i].is_for_comparison && all[*i].survives >= survive).collect()
}

fn best(all: &[Figures], candidates: &[usize], want: Want) -> Option<usize> {
    candidates.iter().copied().max_by(|a, b| better(&all[*a], &all[*b], want))
}

/// What would be one step safer, and one step larger.
fn steps(all: &[Figures], chosen: usize, want: Want) -> Vec<String> {
    let survives = all[chosen].survives;
    let told = |what: &str, position: usize| {
        let f = &all[position];
        format!(
            "one step {what}: {}, {} usable, survives the loss of {}",
            f.name,
            f.plan.usable,
            any(f.survives)
        )
    };
    let safer = best(all, &candidates(all, survives + 1), want).map(|safer| told("safer", safer));
    let less: Vec<usize> = (0..all.len())
        .filter(|i| {
            let f = &all[*i];
            !f.is_for_comparison && f.survives < survives && f.plan.usable > all[chosen].plan.usable
        })
        .collect();
    let level = less.iter().map(|i| all[*i].survives).max();
    let nearest: Vec<usize> = less.into_iter().filter(|i| Some(all[*i].survives) == level).collect();
    let larger = best(all, &nearest, Want::Space).map(|larger| told("larger", larger));
    safer.into_iter().chain(larger).collect()
}

/// So many disks, in words.
fn any(disks: usize) -> String {
    match disks {
        0 => "no disk".into(),
        1 => "any 1 disk".into(),
        n => format!("any {n} disks"),
    }
}

/// Whether `a` suits better (greater) than `b`.
fn better(a: &Figures, b: &Figures, want: Want) -> Ordering {
    let space = || a.plan.usable.cmp(&b.plan.usable);
    let safety = || {
        let loss = |f: &Figures| f.one_more.average;
        a.survives.cmp(&b.survives).then(loss(b).total_cmp(&loss(a)))
    };
    let rate = |f: &Figures| f.write.rate.per_second();
    // Where the network hides it, the disks still count: it may become faster.
    let of_disks = |f: &Figures| f.write.disks.per_second();
    let speed = || rate(a).total_cmp(&rate(b)).then(of_disks(a).total_cmp(&of_disks(b)));
    let price = || match (&a.price_per_tb, &b.price_per_tb) {
        (Some(a), Some(b)) => b.hundredths.cmp(&a.hundredths),
        // Of the same disks the most space is the cheapest.
        _ => space(),
    };
    // Of what is alike otherwise, the plan that leaves fewer disks in the drawer.
    let use_of_disks = || b.plan.unused.len().cmp(&a.plan.unused.len());
    let suits = match want {
        Want::Space => space().then_with(safety),
        Want::Safety => safety().then_with(space),
        Want::Speed => speed().then_with(safety).then_with(space),
        Want::Cheap => price().then_with(safety),
    };
    suits.then_with(use_of_disks)
}

fn reasons(
    all: &[Figures],
    chosen: usize,
    candidates: &[usize],
    wishes: Wishes,
    (want, survive): (Want, usize),
) -> Vec<String> {
    let figures = &all[chosen];
    let mut reasons = Vec::new();
    if survive > 0 {
        let why = if wishes.survive.is_some() { ", as you asked" } else { ", which suits so many disks" };
        reasons.push(format!("it survives the loss of {}{why}", any(figures.survives)));
    }
    let of = candidates.len();
    reasons.push(match want {
        _ if of == 1 => "it is the only plan that does".to_string(),
        Want::Space => format!("of {of} such plans it stores the most: {}", figures.plan.usable),
        Want::Safety => {
            format!("of {of} such plans it loses the least: nothing with {}", any(figures.survives))
        }
        Want::Speed => format!("of {of} such plans none takes copies faster: {}", figures.write.rate),
        Want::Cheap => match &figures.price_per_tb {
            Some(price) => format!("of {of} such plans it costs the least: {price} a terabyte"),
            None => format!("of {of} such plans the same disks store the most: {}", figures.plan.usable),
        },
    });
    let dead = figures.one_more.disks;
    let others = figures.plan.members().count().saturating_sub(dead);
    // Of everything that is lost at worst nothing stays, whatever disks are left.
    let nothing_left = others == 0 || figures.one_more.worst > 1.0 - 1e-9;
    let rest = if nothing_left { "" } else { "; the other disks stay readable" };
    reasons.push(format!(
        "when {dead} {}, {:.0} % is lost on average and {:.0} % at worst{rest}",
        if dead == 1 { "dies" } else { "die" },
        figures.one_more.average * 100.0,
        figures.one_more.worst * 100.0
    ));
    reasons
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{Plan, figures, front, parse_disks, plans};
    use crate::ingest::Network;
    use crate::pool::Media;
    use crate::units::Rate;
    use rstest::rstest;

    fn shelf() -> Vec<Figures> {
        let disks = parse_disks("12TB,10TB,2x6TB,4TB", Media::Hdd).unwrap();
        let network = Network { name: "the network".into(), rate: Rate::from_per_second(117e6) };
        figures(&plans(&disks), &disks, &network, &[])
    }

    #[rstest]
    #[case(Some(Want::Space), Some(0), Some(Layout::Spanned))]
    #[case(Some(Want::Space), Some(2), Some(Layout::Unstriped { parities: 2 }))]
    #[case(Some(Want::Safety), Some(0), Some(Layout::Unstriped { parities: 3 }))]
    #[case(Some(Want::Cheap), Some(2), Some(Layout::Unstriped { parities: 2 }))]
    #[case(Some(Want::Space), Some(4), None)]
    #[case(None, None, Some(Layout::Unstriped { parities: 1 }))]
    fn wishes_lead_to_plans(
        #[case] want: Option<Want>,
        #[case] survive: Option<usize>,
        #[case] expected: Option<Layout>,
    ) {
        let all = shelf();
        let found = recommend(&all, Wishes { want, survive });
        assert_eq!(found.as_ref().and_then(|r| all[r.position].plan.layout()), expected);
        assert!(found.as_ref().is_none_or(|r| r.reasons.len() >= 3));
        let readable = found.iter().flat_map(|r| &r.reasons).any(|reason| reason.contains("stay readable"));
        assert!(!readable || found.as_ref().is_some_and(|r| all[r.position].one_more.worst < 1.0));
        // Only what was asked for is said to be.
        let says_asked = found.iter().flat_map(|r| &r.reasons).any(|reason| reason.contains("as you asked"));
        assert!(!says_asked || survive.is_some());
    }

    #[test]
    fn ssds_beside_hard_disks_are_used_and_not_counted_as_disks_that_die() {
        let mut disks = parse_disks("12TB,10TB,2x6TB,4TB", Media::Hdd).unwrap();
        disks.extend(parse_disks("2x1TB", Media::Ssd).unwrap());
        let network = Network { name: "the network".into(), rate: Rate::from_per_second(117e6) };
        let all: Vec<Figures> = figures(&plans(&disks), &disks, &network, &[]);
        let chosen = |wishes: Wishes| &all[recommend(&all, wishes).unwrap().position].plan;
        assert_eq!(chosen(Wishes::default()).layout(), Some(Layout::Tiered { parities: 1 }));
        let safe = chosen(Wishes { want: Some(Want::Space), survive: Some(3) });
        assert_eq!(safe.layout(), Some(Layout::Tiered { parities: 3 }));
        // A cache in front of the same disks takes copies as fast, stores less, and has less to lose: it is worth a look.
        let front: Vec<_> = front(&all).into_iter().map(|position| &all[position].plan).collect();
        let cached = |plan: &&Plan| plan.layout() == Some(Layout::Unstriped { parities: 1 });
        assert_eq!(front.iter().copied().find(cached).map(|plan| plan.caches().count()), Some(2));
    }

    #[test]
    fn without_a_wish_the_most_space_that_survives_one_loss_and_from_seven_disks_on_two() {
        let network = Network { name: "the network".into(), rate: Rate::from_per_second(117e6) };
        for (disks, losses) in [("4x4TB", 1), ("6x4TB", 1), ("7x4TB", 2), ("12x8TB", 2)] {
            let disks = parse_disks(disks, Media::Hdd).unwrap();
            let all: Vec<Figures> = figures(&plans(&disks), &disks, &network, &[]);
            let chosen = &all[recommend(&all, Wishes::default()).unwrap().position];
            let enough = all.iter().filter(|f| !f.is_for_comparison && f.survives >= losses);
            assert_eq!(chosen.plan.usable, enough.map(|f| f.plan.usable).max().unwrap());
            assert!(chosen.survives >= losses);
        }
    }
}
