//! The first pool file of a machine: which of its disks could do what, by the reasoning of `design`: the largest hard disk, or the
//! two largest of many, hold parity, since no data disk may be larger; flash stands before the disks.

use std::collections::BTreeSet;

use crate::inventory::Device;
use crate::pool::{Media, Role, is_plain_name};
use crate::units::ByteLength;

/// From so many hard disks on a second parity disk is proposed: with more disks two die together more often than one thinks.
const SECOND_PARITY_FROM: usize = 6;

/// Names for disks that turn, and for flash.
const TREES: [&str; 26] = [
    "alder", "beech", "cedar", "elm", "fir", "hazel", "larch", "maple", "aspen", "birch", "cherry",
    "hornbeam", "juniper", "lime", "medlar", "oak", "pine", "poplar", "rowan", "spruce", "sycamore",
    "walnut", "willow", "yew", "ash", "holly",
];
const STONES: [&str; 8] = ["flint", "jasper", "slate", "agate", "basalt", "granite", "marble", "onyx"];

/// What is proposed for a disk.
#[derive(Clone, Debug, PartialEq)]
pub struct Proposed<'a> {
    /// The disk.
    pub device: &'a Device,
    /// A name for it.
    pub name: String,
    /// What it could do.
    pub role: Role,
}

/// A disk that is left out, and why.
#[derive(Clone, Debug, PartialEq)]
pub struct LeftOut<'a> {
    /// The disk.
    pub device: &'a Device,
    /// Why, in words.
    pub why: &'static str,
}

/// What is proposed for the disks of a machine: those that do something, the largest first within what they do, and those that
/// are left out.
pub fn propose(devices: &[Device]) -> (Vec<Proposed<'_>>, Vec<LeftOut<'_>>) {
    let (mut turning, mut flash, mut left) = (Vec::new(), Vec::new(), Vec::new());
    for device in devices {
        let size = device.size.unwrap_or(ByteLength::ZERO);
        let why = match device {
            _ if device.carries_the_system() => Some("the running system is on it"),
            _ if size == ByteLength::ZERO => Some("it tells no size"),
            _ if device.serial.is_none() && device.stable_id.is_none() => {
                Some("it has neither a serial number nor a stable name: it could not be told from another")
            }
            _ => None,
        };
        match (why, device.media) {
            (Some(why), _) => left.push(LeftOut { device, why }),
            (None, Some(Media::Ssd | Media::Nvme)) => flash.push(device),
            (None, _) => turning.push(device),
        }
    }
    turning.sort_by_key(|device| std::cmp::Reverse(device.size));
    flash.sort_by_key(|device| std::cmp::Reverse(device.size));
    // Flash alone is a shelf as well.
    if turning.is_empty() {
        turning = std::mem::take(&mut flash);
    }
    let parities = match turning.len() {
        0 | 1 => 0,
        SECOND_PARITY_FROM.. => 2,
        _ => 1,
    };
    let (parity, data) = turning.split_at(parities);
    let all = [(data, Role::Data), (parity, Role::Parity), (&flash[..], Role::Cache)];
    let mut names = Names::default();
    // What is mounted has a name already, by which its owner knows it.
    let known: Vec<Option<String>> =
        all.iter().flat_map(|(devices, _)| devices.iter()).map(|device| names.of_mount(device)).collect();
    let mut known = known.into_iter();
    let mut proposed = Vec::new();
    for (devices, role) in all {
        for device in devices {
            let name = known.next().flatten().unwrap_or_else(|| names.next(role));
            proposed.push(Proposed { device, name, role });
        }
    }
    (proposed, left)
}

/// Names that were not given yet.
#[derive(Default)]
struct Names {
    trees: usize,
    stones: usize,
    taken: BTreeSet<String>,
}

impl Names {
    /// The last part of where a disk is mounted, if that can be a name and is not taken.
    fn of_mount(&mut self, device: &Device) -> Option<String> {
        let at = device.mount_points().find(|at| at.starts_with('/'))?;
        let name = at.rsplit('/').next().filter(|name| is_plain_name(name))?.to_string();
        self.taken.insert(name.clone()).then_some(name)
    }

    /// One of the list that is not taken.
    fn next(&mut self, role: Role) -> String {
        loop {
            let name = self.following(role);
            if self.taken.insert(name.clone()) {
                return name;
            }
        }
    }

    fn following(&mut self, role: Role) -> String {
        let (list, given): (&[&str], &mut usize) =
            if role == Role::Cache { (&STONES, &mut self.stones) } else { (&TREES, &mut self.trees) };
        let round = *given / list.len();
        let name = list[*given % list.len()];
        *given += 1;
        if round == 0 { name.to_string() } else { format!("{name}-{}", round + 1) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn device(name: &str, terabytes: u64, media: Media, mounted: Option<&str>) -> Device {
        let mounts = mounted.map(|at| crate::inventory::Mount {
            device: name.into(),
            filesystem: None,
            uuid: None,
            mounted_at: vec![at.into()],
        });
        Device {
            name: name.into(),
            stable_id: None,
            serial: Some(format!("TW-{name}")),
            model: None,
            size: Some(ByteLength::new(terabytes * 1_000_000_000_000)),
            media: Some(media),
            transport: None,
            partition_table: None,
            mounts: mounts.into_iter().collect(),
        }
    }

    fn roles(devices: &[Device]) -> Vec<(String, &'static str)> {
        propose(devices).0.into_iter().map(|p| (p.device.name.clone(), p.role.word())).collect()
    }

    #[test]
    fn the_largest_holds_parity_flash_is_the_cache_and_the_system_is_left_alone() {
        let devices = [
            device("sda", 8, Media::Hdd, None),
            device("sdb", 14, Media::Hdd, None),
            device("sdc", 12, Media::Hdd, None),
            device("nvme0n1", 1, Media::Nvme, Some("/")),
            device("nvme1n1", 2, Media::Nvme, None),
        ];
        let said = roles(&devices);
        assert_eq!(
            said.iter().map(|(name, role)| (name.as_str(), *role)).collect::<Vec<_>>(),
            [("sdc", "data"), ("sda", "data"), ("sdb", "parity"), ("nvme1n1", "cache")]
        );
        assert_eq!(propose(&devices).1.len(), 1);
    }

    #[test]
    fn a_mounted_disk_keeps_the_name_that_it_has_there() {
        let devices = [device("sda", 8, Media::Hdd, None), device("sdb", 6, Media::Hdd, Some("/mnt/alder"))];
        let names: Vec<String> = propose(&devices).0.into_iter().map(|p| p.name).collect();
        assert_eq!(names, ["alder", "beech"]);
    }

    #[test]
    fn many_disks_get_a_second_parity_and_one_disk_gets_none() {
        let many: Vec<Device> = (0..7).map(|n| device(&format!("sd{n}"), n + 1, Media::Hdd, None)).collect();
        assert_eq!(roles(&many).iter().filter(|(_, role)| *role == "parity").count(), 2);
        assert_eq!(roles(&many[..1])[0].1, "data");
    }
}
