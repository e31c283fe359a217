//! Which plans a set of disks allows.

use super::{DesignDisk, Layout, Plan, PlannedVolume};
use crate::mirror;
use crate::pool::Media;
use crate::units::{ByteLength, MAX_PARITIES};

/// A mirrored volume with more disks is not guarded by parity besides: what any three of them cost is too much to go through.
const MOST_MIRRORED_WITH_PARITY: usize = 24;

fn is_flash(disk: &DesignDisk) -> bool {
    disk.media != Media::Hdd
}

/// Every sensible plan for a set of disks: each layout that they suffice for, those with flash also with a cache, and two
/// volumes beside each other: a mirror for what matters with parity for the rest, or two sets of disks with parity drives of
/// their own.
///
/// Where there are hard disks, the flash disks are kept for the cache, the fast tier or a mirror of their own.
pub fn plans(disks: &[DesignDisk]) -> Vec<Plan> {
    let hdds = disks.iter().any(|d| !is_flash(d));
    let (mut main, mut flash): (Vec<usize>, Vec<usize>) =
        (0..disks.len()).partition(|i| !hdds || !is_flash(&disks[*i]));
    // The largest first; of equally large ones in the order given.
    main.sort_by_key(|i| std::cmp::Reverse(disks[*i].size));
    flash.sort_by_key(|i| std::cmp::Reverse(disks[*i].size));
    let mut found = Vec::new();
    for volumes in alone(disks, &main).into_iter().chain(beside_each_other(disks, &main)) {
        // The largest volume takes in the most.
        let largest = (0..volumes.len()).max_by_key(|i| volumes[*i].usable).unwrap_or(0);
        let unused = || -> Vec<usize> {
            let has_part = |i: &&usize| volumes.iter().any(|volume| volume.members().any(|m| m == **i));
            main.iter().filter(|i| !has_part(i)).copied().collect()
        };
        let for_comparison = volumes.iter().any(|volume| volume.layout.is_for_comparison());
        if !flash.is_empty() && !for_comparison {
            let mut cached = volumes.clone();
            cached[largest].cache.clone_from(&flash);
            found.push(Plan::new(cached, unused()));
        }
        let unused = [unused(), flash.clone()].concat();
        found.push(Plan::new(volumes, unused));
    }
    if hdds && !flash.is_empty() {
        found.extend(tiered(disks, &main, &flash).into_iter().map(|volume| Plan::new(vec![volume], vec![])));
        found.extend(with_mirror(disks, &flash, &main).map(|volumes| Plan::new(volumes, vec![])));
    }
    found
}

/// How many parity drives are sensible: one more than data disks is as much as anybody wants.
fn most_parities(disks: usize) -> u8 {
    disks.div_ceil(2).clamp(1, MAX_PARITIES) as u8
}

/// One volume over all disks.
fn alone(disks: &[DesignDisk], main: &[usize]) -> Vec<Vec<PlannedVolume>> {
    let guarded = (1..=most_parities(main.len())).map(|parities| Layout::Unstriped { parities });
    let with_parity = (main.len() <= MOST_MIRRORED_WITH_PARITY).then_some(Layout::Mirrored { parities: 2 });
    let layouts = guarded.chain([Layout::Mirrored { parities: 0 }]).chain(with_parity).chain([
        Layout::Spanned,
        Layout::RotatingParity { parities: 1 },
        Layout::RotatingParity { parities: 2 },
    ]);
    layouts.filter_map(|layout| lay(layout, disks, main)).map(|volume| vec![volume]).collect()
}

/// SSDs and hard disks as one space, without parity and with as many parity drives as are sensible.
fn tiered(disks: &[DesignDisk], main: &[usize], flash: &[usize]) -> Vec<PlannedVolume> {
    let volume = |parities: u8| {
        let (parity, slow) =
            main.split_at_checked(usize::from(parities)).filter(|(_, slow)| !slow.is_empty())?;
        let data: Vec<usize> = flash.iter().chain(slow).copied().collect();
        let reaches = |parity: &usize| data.iter().all(|i| disks[*i].size <= disks[*parity].size);
        let usable = data.iter().map(|i| disks[*i].size).sum();
        let layout = Layout::Tiered { parities };
        parity.iter().all(reaches).then(|| PlannedVolume {
            layout,
            parity: parity.to_vec(),
            cache: vec![],
            usable,
            data,
        })
    };
    (0..=most_parities(main.len())).filter_map(volume).collect()
}

/// Two volumes: the two smallest disks as a mirror and parity for the others, or two sets with parity drives of their own.
fn beside_each_other(disks: &[DesignDisk], main: &[usize]) -> Vec<Vec<PlannedVolume>> {
    let Some(others) = main.len().checked_sub(2).filter(|others| *others >= 2) else { return Vec::new() };
    let (larger, smallest) = main.split_at(others);
    let mut found: Vec<_> = with_mirror(disks, smallest, larger).collect();
    for parities in 1..=2u8 {
        let layout = Layout::Unstriped { parities };
        let split =
            |at: usize| Some(vec![lay(layout, disks, &main[..at])?, lay(layout, disks, &main[at..])?]);
        let space =
            |volumes: &Vec<PlannedVolume>| volumes.iter().map(|volume| volume.usable).sum::<ByteLength>();
        let is_set = |at: &usize| (*at).min(main.len() - at) > usize::from(parities);
        let middle = Some(main.len() / 2).filter(is_set).and_then(split);
        // Between two sizes, as the second set then needs no large parity drive.
        let borders = (1..main.len()).filter(|at| disks[main[at - 1]].size > disks[main[*at]].size);
        let most = borders.filter(is_set).filter_map(split).max_by_key(space);
        found.extend(most.clone());
        found.extend(middle.filter(|middle| most.as_ref() != Some(middle)));
    }
    found
}

/// Some disks as a mirror, the others with one parity drive, or two.
fn with_mirror(
    disks: &[DesignDisk],
    mirror: &[usize],
    others: &[usize],
) -> impl Iterator<Item = Vec<PlannedVolume>> {
    (1..=2u8).filter_map(move |parities| {
        let mirror = lay(Layout::Mirrored { parities: 0 }, disks, mirror)?;
        Some(vec![mirror, lay(Layout::Unstriped { parities }, disks, others)?])
    })
}

/// Gives each disk its part; nothing when there are too few. `main` has the largest first.
fn lay(layout: Layout, disks: &[DesignDisk], main: &[usize]) -> Option<PlannedVolume> {
    let sizes = |members: &[usize]| -> Vec<ByteLength> { members.iter().map(|i| disks[*i].size).collect() };
    // A parity drive must be at least as large as the largest data disk: so the largest are given up.
    let given_up = match layout {
        Layout::Unstriped { parities } | Layout::Mirrored { parities } | Layout::Tiered { parities } => {
            parities
        }
        Layout::Spanned | Layout::RotatingParity { .. } => 0,
    };
    let (parity, data) = main.split_at_checked(usize::from(given_up))?;
    let usable = match layout {
        Layout::Spanned | Layout::Tiered { .. } | Layout::Unstriped { .. } => sizes(data).into_iter().sum(),
        Layout::Mirrored { .. } => mirror::space(&sizes(data), 2),
        Layout::RotatingParity { parities } => {
            let strips = data.len().checked_sub(usize::from(parities)).filter(|n| *n >= 2)?;
            let smallest = sizes(data).into_iter().min().unwrap_or_default();
            ByteLength::new(smallest.exact().saturating_mul(strips as u64))
        }
    };
    let volume =
        PlannedVolume { layout, data: data.to_vec(), parity: parity.to_vec(), cache: Vec::new(), usable };
    (usable > ByteLength::ZERO).then_some(volume)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::parse_disks;

    fn plan_of(disks: &str, layout: Layout) -> Option<Plan> {
        let disks = parse_disks(disks, Media::Hdd).unwrap();
        plans(&disks).into_iter().find(|p| p.layout() == Some(layout))
    }

    fn usable(disks: &str, layout: Layout) -> Option<String> {
        plan_of(disks, layout).map(|p| p.usable.to_string())
    }

    #[test]
    fn usable_space_by_hand() {
        let shelf = "12TB,10TB,2x6TB,4TB";
        let told = |layout| usable(shelf, layout).unwrap();
        assert_eq!(told(Layout::Spanned), "38.0 TB");
        assert_eq!(
            told(Layout::Mirrored { parities: 0 }),
            "19.0 TB",
            "half of 38: no disk is larger than all others"
        );
        assert_eq!(told(Layout::Mirrored { parities: 2 }), "8.0 TB");
        assert_eq!(told(Layout::RotatingParity { parities: 1 }), "16.0 TB", "four times the smallest");
        assert_eq!(told(Layout::RotatingParity { parities: 2 }), "12.0 TB");
        assert_eq!(told(Layout::Unstriped { parities: 1 }), "26.0 TB");
        assert_eq!(told(Layout::Unstriped { parities: 2 }), "16.0 TB");
        assert_eq!(told(Layout::Unstriped { parities: 3 }), "10.0 TB");
    }

    #[test]
    fn too_few_disks_make_no_plan() {
        assert_eq!(usable("4TB", Layout::Mirrored { parities: 0 }), None);
        assert_eq!(usable("4TB,4TB", Layout::RotatingParity { parities: 1 }), None);
        assert_eq!(usable("4TB", Layout::Unstriped { parities: 1 }), None);
        assert!(plans(&[]).is_empty());
    }

    #[test]
    fn parity_drives_are_never_smaller_than_a_data_disk() {
        let disks = parse_disks("4TB,12TB,6TB", Media::Hdd).unwrap();
        let volumes = plans(&disks).into_iter().flat_map(|plan| plan.volumes);
        for volume in volumes.filter(|volume| !volume.parity.is_empty()) {
            let smallest = volume.parity.iter().map(|i| disks[*i].size).min().unwrap();
            assert!(volume.data.iter().all(|i| disks[*i].size <= smallest));
        }
    }

    #[test]
    fn flash_beside_hard_disks_is_cache_or_fast_tier() {
        let mut disks = parse_disks("12TB,10TB", Media::Hdd).unwrap();
        disks.extend(parse_disks("1TB", Media::Ssd).unwrap());
        let plans = plans(&disks);
        let unstriped: Vec<_> =
            plans.iter().filter(|p| p.layout() == Some(Layout::Unstriped { parities: 1 })).collect();
        assert_eq!(unstriped.iter().map(|p| p.caches().count()).collect::<Vec<_>>(), [1, 0]);
        assert_eq!(unstriped[0].usable.to_string(), "10.0 TB", "the cache adds no space");
        let tiered = plans.iter().find(|p| p.layout() == Some(Layout::Tiered { parities: 0 })).unwrap();
        assert_eq!(tiered.usable.to_string(), "23.0 TB");
    }
}
