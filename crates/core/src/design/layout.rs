//! The ways to lay a volume over disks.

use schemars::JsonSchema;
use serde::Serialize;

use super::DesignDisk;
use crate::pool::Media;
use crate::units::{ByteLength, MAX_PARITIES};

/// A way to lay a volume over disks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(tag = "layout", rename_all = "kebab-case")]
pub enum Layout {
    /// Disks filled one after another, nothing guarded.
    Spanned,
    /// Every file on both disks of a pair.
    MirroredPairs,
    /// Files cut into strips over all disks, with parity that moves from disk to disk; for comparison only.
    RotatingParity {
        /// How many strips of parity each stripe has.
        parities: u8,
    },
    /// Whole files on single disks, with dedicated parity drives.
    Unstriped {
        /// How many parity drives.
        parities: u8,
    },
    /// SSDs and hard disks as one space, hot files on the SSDs; nothing guarded.
    Tiered,
}

impl Layout {
    /// What people call it.
    pub fn name(self) -> String {
        match self {
            Self::Spanned => "spanned".into(),
            Self::MirroredPairs => "mirrored pairs".into(),
            Self::RotatingParity { parities } => format!("stripe, {parities} rotating parity"),
            Self::Unstriped { parities: 0 } => "unstriped, no parity".into(),
            Self::Unstriped { parities } => format!("unstriped, {parities} parity"),
            Self::Tiered => "tiered".into(),
        }
    }

    /// Whether it is here to be compared with, and is not to be built.
    pub const fn is_for_comparison(self) -> bool {
        matches!(self, Self::RotatingParity { .. })
    }
}

/// A layout with every disk given its part.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Plan {
    /// The layout.
    #[serde(flatten)]
    pub layout: Layout,
    /// The disks that hold files, as positions in the list; of mirrored pairs, two by two.
    pub data: Vec<usize>,
    /// The parity drives.
    pub parity: Vec<usize>,
    /// The SSDs in front of it.
    pub cache: Vec<usize>,
    /// Disks without a part.
    pub unused: Vec<usize>,
    /// What may be stored.
    #[serde(rename = "usable_bytes")]
    pub usable: ByteLength,
}

fn is_flash(disk: &DesignDisk) -> bool {
    disk.media != Media::Hdd
}

/// Every sensible plan for a set of disks: each layout that they suffice for, those with flash also with a cache.
///
/// Where there are hard disks, the flash disks are kept for the cache or the fast tier.
pub fn plans(disks: &[DesignDisk]) -> Vec<Plan> {
    let hdds = disks.iter().any(|d| !is_flash(d));
    let (mut main, flash): (Vec<usize>, Vec<usize>) =
        (0..disks.len()).partition(|i| !hdds || !is_flash(&disks[*i]));
    // The largest first; of equally large ones in the order given.
    main.sort_by_key(|i| std::cmp::Reverse(disks[*i].size));
    let mut found = Vec::new();
    // One more parity than data disks is as much as anybody wants.
    let most = main.len().div_ceil(2).clamp(1, MAX_PARITIES) as u8;
    let guarded = (1..=most).map(|parities| Layout::Unstriped { parities });
    let layouts = guarded.chain([
        Layout::MirroredPairs,
        Layout::Spanned,
        Layout::RotatingParity { parities: 1 },
        Layout::RotatingParity { parities: 2 },
    ]);
    for layout in layouts {
        let Some(plan) = assign(layout, disks, &main) else { continue };
        if !flash.is_empty() && !layout.is_for_comparison() {
            found.push(Plan { cache: flash.clone(), ..plan.clone() });
        }
        found.push(Plan { unused: [plan.unused, flash.clone()].concat(), ..plan });
    }
    if hdds && !flash.is_empty() {
        let data: Vec<usize> = flash.iter().chain(&main).copied().collect();
        let usable = data.iter().map(|i| disks[*i].size).sum();
        found.push(Plan {
            layout: Layout::Tiered,
            data,
            parity: vec![],
            cache: vec![],
            unused: vec![],
            usable,
        });
    }
    found
}

/// Gives each disk its part; nothing when there are too few. `main` has the largest first.
fn assign(layout: Layout, disks: &[DesignDisk], main: &[usize]) -> Option<Plan> {
    let size = |i: &usize| disks[*i].size;
    let plan = |data: Vec<usize>, parity: Vec<usize>, unused: Vec<usize>, usable| {
        Some(Plan { layout, data, parity, cache: Vec::new(), unused, usable })
    };
    let smallest = |members: &[usize]| members.iter().map(size).min().unwrap_or_default();
    match layout {
        Layout::Spanned | Layout::Tiered if main.is_empty() => None,
        Layout::Spanned | Layout::Tiered => plan(main.to_vec(), vec![], vec![], main.iter().map(size).sum()),
        Layout::MirroredPairs => {
            let pairs = main.len() / 2 * 2;
            let usable = main[..pairs].chunks(2).map(smallest).sum();
            (pairs > 0).then(|| plan(main[..pairs].to_vec(), vec![], main[pairs..].to_vec(), usable))?
        }
        Layout::RotatingParity { parities } => {
            let given_up = usize::from(parities);
            let strips = main.len().checked_sub(given_up).filter(|n| *n >= 2)?;
            let usable = ByteLength::new(smallest(main).exact() * strips as u64);
            plan(main.to_vec(), vec![], vec![], usable)
        }
        Layout::Unstriped { parities } => {
            // A parity drive must be at least as large as the largest data disk: so the largest are given up.
            let given_up = usize::from(parities);
            let (parity, data) = main.split_at_checked(given_up).filter(|(_, data)| !data.is_empty())?;
            plan(data.to_vec(), parity.to_vec(), vec![], data.iter().map(size).sum())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::parse_disks;

    fn plan_of(disks: &str, layout: Layout) -> Option<Plan> {
        let disks = parse_disks(disks, Media::Hdd).unwrap();
        plans(&disks).into_iter().find(|p| p.layout == layout)
    }

    fn usable(disks: &str, layout: Layout) -> Option<String> {
        plan_of(disks, layout).map(|p| p.usable.to_string())
    }

    #[test]
    fn usable_space_by_hand() {
        let shelf = "12TB,10TB,2x6TB,4TB";
        let told = |layout| usable(shelf, layout).unwrap();
        assert_eq!(told(Layout::Spanned), "38.0 TB");
        assert_eq!(told(Layout::MirroredPairs), "16.0 TB", "12 with 10, 6 with 6; the 4 has no partner");
        assert_eq!(told(Layout::RotatingParity { parities: 1 }), "16.0 TB", "four times the smallest");
        assert_eq!(told(Layout::RotatingParity { parities: 2 }), "12.0 TB");
        assert_eq!(told(Layout::Unstriped { parities: 1 }), "26.0 TB");
        assert_eq!(told(Layout::Unstriped { parities: 2 }), "16.0 TB");
        assert_eq!(told(Layout::Unstriped { parities: 3 }), "10.0 TB");
    }

    #[test]
    fn too_few_disks_make_no_plan() {
        assert_eq!(usable("4TB", Layout::MirroredPairs), None);
        assert_eq!(usable("4TB,4TB", Layout::RotatingParity { parities: 1 }), None);
        assert_eq!(usable("4TB", Layout::Unstriped { parities: 1 }), None);
        assert!(plans(&[]).is_empty());
    }

    #[test]
    fn parity_drives_are_never_smaller_than_a_data_disk() {
        let disks = parse_disks("4TB,12TB,6TB", Media::Hdd).unwrap();
        for plan in plans(&disks).iter().filter(|p| matches!(p.layout, Layout::Unstriped { .. })) {
            let smallest = plan.parity.iter().map(|i| disks[*i].size).min().unwrap();
            assert!(plan.data.iter().all(|i| disks[*i].size <= smallest));
        }
    }

    #[test]
    fn flash_beside_hard_disks_is_cache_or_fast_tier() {
        let mut disks = parse_disks("12TB,10TB", Media::Hdd).unwrap();
        disks.extend(parse_disks("1TB", Media::Ssd).unwrap());
        let plans = plans(&disks);
        let unstriped: Vec<_> =
            plans.iter().filter(|p| p.layout == Layout::Unstriped { parities: 1 }).collect();
        assert_eq!(unstriped.iter().map(|p| p.cache.len()).collect::<Vec<_>>(), [1, 0]);
        assert_eq!(unstriped[0].usable.to_string(), "10.0 TB", "the cache adds no space");
        let tiered = plans.iter().find(|p| p.layout == Layout::Tiered).unwrap();
        assert_eq!(tiered.usable.to_string(), "23.0 TB");
    }
}
