//! Which plan suits stated wishes, and why.

use std::cmp::Ordering;

use serde::{Deserialize, Serialize};

use super::Figures;

/// What matters most.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Want {
    /// As much space as possible.
    Space,
    /// As little loss as possible.
    #[default]
    Safety,
    /// Copies as fast as possible.
    Speed,
    /// As little money for a terabyte as possible.
    Cheap,
}

/// The plan that suits best.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Recommendation {
    /// Its position in the list of figures.
    pub position: usize,
    /// Why, in sentences.
    pub reasons: Vec<String>,
}

/// Chooses, of the plans that this version builds and that survive enough losses, the one that suits best.
///
/// Nothing when there is none.
pub fn recommend(all: &[Figures], want: Want, survive: usize) -> Option<Recommendation> {
    let candidates: Vec<usize> =
        (0..all.len()).filter(|i| all[*i].is_built && all[*i].survives >= survive).collect();
    let position = candidates.iter().copied().max_by(|a, b| better(&all[*a], &all[*b], want))?;
    Some(Recommendation { position, reasons: reasons(all, position, &candidates, want, survive) })
}

/// Whether `a` suits better (greater) than `b`.
fn better(a: &Figures, b: &Figures, want: Want) -> Ordering {
    let space = || a.plan.usable.cmp(&b.plan.usable);
    let safety = || {
        let loss = |f: &Figures| f.one_more.average;
        a.survives.cmp(&b.survives).then(loss(b).total_cmp(&loss(a)))
    };
    let rate = |f: &Figures| f.write.rate.per_second();
    let speed = || rate(a).total_cmp(&rate(b));
    let price = || match (&a.price_per_tb, &b.price_per_tb) {
        (Some((x, _)), Some((y, _))) => y.total_cmp(x),
        // Of the same disks the most space is the cheapest.
        _ => space(),
    };
    match want {
        Want::Space => space().then_with(safety),
        Want::Safety => safety().then_with(space),
        Want::Speed => speed().then_with(safety).then_with(space),
        Want::Cheap => price().then_with(safety),
    }
}

fn reasons(all: &[Figures], chosen: usize, candidates: &[usize], want: Want, survive: usize) -> Vec<String> {
    let figures = &all[chosen];
    let mut reasons = Vec::new();
    let disks = |n: usize| if n == 1 { "any 1 disk".into() } else { format!("any {n} disks") };
    if survive > 0 {
        reasons.push(format!("it survives the loss of {}, as you asked", disks(survive)));
    }
    let of = candidates.len();
    reasons.push(match want {
        _ if of == 1 => "it is the only plan that does".to_string(),
        Want::Space => format!("of {of} such plans it stores the most: {}", figures.plan.usable),
        Want::Safety => {
            format!("of {of} such plans it loses the least: nothing with {}", disks(figures.survives))
        }
        Want::Speed => format!("of {of} such plans none takes copies faster: {}", figures.write.rate),
        Want::Cheap => match &figures.price_per_tb {
            Some((price, currency)) => {
                format!("of {of} such plans it costs the least: {price:.2} {currency} a terabyte")
            }
            None => format!("of {of} such plans the same disks store the most: {}", figures.plan.usable),
        },
    });
    reasons.push(format!(
        "when {} die, {:.0} % is lost on average and {:.0} % at worst; the other disks stay readable",
        figures.one_more.disks,
        figures.one_more.average * 100.0,
        figures.one_more.worst * 100.0
    ));
    reasons
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{Layout, figures, parse_disks, plans};
    use crate::ingest::Network;
    use crate::pool::Media;
    use crate::units::Rate;
    use rstest::rstest;

    fn shelf() -> Vec<Figures> {
        let disks = parse_disks("12TB,10TB,2x6TB,4TB", Media::Hdd).unwrap();
        let network = Network { name: "the network".into(), rate: Rate::from_per_second(117e6) };
        plans(&disks).iter().map(|plan| figures(plan, &disks, &network, &[])).collect()
    }

    #[rstest]
    #[case(Want::Space, 0, Some(1))]
    #[case(Want::Space, 2, Some(2))]
    #[case(Want::Safety, 0, Some(3))]
    #[case(Want::Cheap, 2, Some(2))]
    #[case(Want::Speed, 1, Some(3))]
    #[case(Want::Space, 4, None)]
    fn wishes_lead_to_plans(#[case] want: Want, #[case] survive: usize, #[case] parities: Option<u8>) {
        let all = shelf();
        let found = recommend(&all, want, survive);
        let layout = found.as_ref().map(|r| all[r.position].plan.layout);
        assert_eq!(layout, parities.map(|parities| Layout::Unstriped { parities }));
        assert!(found.is_none_or(|r| r.reasons.len() >= 2));
    }
}
