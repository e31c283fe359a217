//! How long the first sync of a plan takes, and the rebuild of a disk.

use super::loss::VolumeLosses;
use super::{DesignDisk, Layout, Plan, PlannedVolume};
use crate::forecast::{Forecast, Participant, Pass, assumed_processor, forecast};
use crate::units::ByteLength;

/// The first sync of full volumes, one after another; none where there is no parity to compute.
pub(super) fn first_sync(plan: &Plan, disks: &[DesignDisk]) -> Option<Forecast> {
    let passes: Vec<Pass> = plan.volumes.iter().filter_map(|volume| sync_pass(volume, disks)).collect();
    (!passes.is_empty()).then(|| Forecast::in_turn(passes.iter().map(forecast)))
}

/// The longest rebuild of a data disk of a volume; none where there is nothing to rebuild it from.
pub(super) fn rebuild(
    volume: &PlannedVolume,
    losses: &VolumeLosses,
    disks: &[DesignDisk],
) -> Option<Forecast> {
    rebuild_pass(volume, losses, disks).map(|pass| forecast(&pass))
}

/// A pass over some disks, each to its end, with the links that they share.
fn pass<'a>(members: impl Iterator<Item = (&'a DesignDisk, ByteLength)>) -> Pass {
    let mut pass = Pass { processor: Some(assumed_processor()), ..Pass::default() };
    for (disk, end) in members {
        let link = disk.link.as_ref().map(|link| {
            let known = pass.links.iter().position(|l| l.name == link.name);
            known.unwrap_or_else(|| {
                pass.links.push(link.clone());
                pass.links.len() - 1
            })
        });
        pass.disks.push(Participant {
            name: disk.name.clone(),
            end: end.min(disk.size),
            capacity: disk.size,
            curve: disk.curve.clone(),
            link,
        });
    }
    pass
}

fn largest(members: &[usize], disks: &[DesignDisk]) -> ByteLength {
    members.iter().map(|i| disks[*i].size).max().unwrap_or_default()
}

/// Every data disk is read to its end while parity is written as far as the largest of them reaches.
fn sync_pass(volume: &PlannedVolume, disks: &[DesignDisk]) -> Option<Pass> {
    if let Layout::RotatingParity { .. } = volume.layout {
        let end = volume.data.iter().map(|i| disks[*i].size).min().unwrap_or_default();
        return Some(pass(volume.data.iter().map(|i| (&disks[*i], end))));
    }
    let end = largest(&volume.data, disks);
    let data = volume.data.iter().map(|i| (&disks[*i], disks[*i].size));
    let parity = volume.parity.iter().map(|i| (&disks[*i], end));
    (!volume.parity.is_empty()).then(|| pass(data.chain(parity)))
}

/// The largest data disk comes back onto one like it: all others are read as far as it reaches; of copies those disks that
/// have them.
fn rebuild_pass(volume: &PlannedVolume, losses: &VolumeLosses, disks: &[DesignDisk]) -> Option<Pass> {
    match volume.layout {
        Layout::RotatingParity { .. } => sync_pass(volume, disks),
        Layout::Mirrored { .. } => Some(copies_pass(volume, losses, disks)),
        _ if volume.parity.is_empty() => None,
        _ => {
            let end = largest(&volume.data, disks);
            Some(pass(volume.members().map(|i| (&disks[i], end))))
        }
    }
}

/// The disk with the most copies, from what each other one has of them.
fn copies_pass(volume: &PlannedVolume, losses: &VolumeLosses, disks: &[DesignDisk]) -> Pass {
    let mut shared = vec![vec![0.0; volume.data.len()]; volume.data.len()];
    for ([one, other], bytes) in losses.pairs() {
        shared[one][other] += bytes;
        shared[other][one] += bytes;
    }
    let of = |disk: &usize| shared[*disk].iter().sum::<f64>();
    let fullest = (0..shared.len()).max_by(|a, b| of(a).total_cmp(&of(b))).unwrap_or(0);
    let length = |disk: usize| if disk == fullest { of(&disk) } else { shared[fullest][disk] };
    let taking_part = (0..shared.len()).filter(|disk| length(*disk) > 0.0);
    pass(taking_part.map(|disk| (&disks[volume.data[disk]], ByteLength::new(length(disk) as u64))))
}
