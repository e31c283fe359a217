//! Block devices, as `lsblk --json --bytes` lists them.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

use super::document::{DocumentError, flag, list, number, read, text};
use crate::pool::Media;
use crate::units::ByteLength;

/// A filesystem on a device or one of its partitions.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Mount {
    /// The device or partition.
    pub device: String,
    /// The filesystem's type.
    pub filesystem: Option<String>,
    /// Its uuid.
    pub uuid: Option<String>,
    /// Where it is mounted.
    pub mounted_at: Vec<String>,
}

/// A disk of the machine.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Device {
    /// The kernel's name for it, which moves between boots.
    pub name: String,
    /// A name that stays: the link in /dev/disk/by-id, if there is one.
    pub stable_id: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// Its size.
    #[serde(rename = "size_bytes")]
    pub size: Option<ByteLength>,
    /// What it is made of.
    pub media: Option<Media>,
    /// How it is attached: "sata", "nvme", "usb".
    pub transport: Option<String>,
    /// Its partition table: "gpt", "dos".
    pub partition_table: Option<String>,
    /// The filesystems on it.
    pub mounts: Vec<Mount>,
}

/// An old partition table addresses so many sectors of 512 bytes and no more.
const OLD_TABLE_REACH: u64 = (1 << 32) * 512;

impl Device {
    /// Whether an old partition table leaves a part of the disk out of reach.
    pub fn table_too_small(&self) -> bool {
        self.partition_table.as_deref() == Some("dos")
            && self.size.is_some_and(|s| s.exact() > OLD_TABLE_REACH)
    }

    /// Where something of it is mounted.
    pub fn mount_points(&self) -> impl Iterator<Item = &str> {
        self.mounts.iter().flat_map(|m| &m.mounted_at).map(String::as_str)
    }

    /// Whether the running system needs it: something of it is mounted at the root, at /boot, /usr or /var, or swapped to.
    pub fn carries_the_system(&self) -> bool {
        const PLACES: [&str; 6] = ["/", "/boot", "/boot/efi", "/usr", "/var", "[SWAP]"];
        self.mount_points().any(|place| PLACES.contains(&place))
    }

    /// Whether it carries anything: a partition table, a filesystem.
    pub fn carries_data(&self) -> bool {
        self.partition_table.is_some() || self.mounts.iter().any(|m| m.filesystem.is_some())
    }
}

/// Reads the disks out of a listing of block devices; loop devices, optical drives and the like are left out.
///
/// # Errors
/// When it is no such document.
pub fn parse_blocks(document: &str) -> Result<Vec<Device>, DocumentError> {
    let value = read(document)?;
    if value.get("blockdevices").is_none_or(|v| !v.is_array()) {
        return Err(DocumentError::Missing("blockdevices"));
    }
    let disks = list(&value, &["blockdevices"]).filter(|v| text(v, &["type"]).is_none_or(|t| t == "disk"));
    Ok(disks.filter_map(device).filter(is_a_disk).collect())
}

/// Empty drives and memory that poses as a disk are none.
fn is_a_disk(device: &Device) -> bool {
    device.size != Some(ByteLength::ZERO)
        && !device.name.starts_with("zram")
        && !device.name.starts_with("ram")
}

fn device(value: &Value) -> Option<Device> {
    let name = text(value, &["name"])?;
    let transport = text(value, &["tran"]);
    let is_nvme = transport.as_deref() == Some("nvme") || name.starts_with("nvme");
    let media = match flag(value, &["rota"]) {
        _ if is_nvme => Some(Media::Nvme),
        Some(true) => Some(Media::Hdd),
        Some(false) => Some(Media::Ssd),
        None => None,
    };
    let mut mounts = Vec::new();
    collect_mounts(value, 0, &mut mounts);
    Some(Device {
        name,
        stable_id: None,
        serial: text(value, &["serial"]),
        model: text(value, &["model"]),
        size: number(value, &["size"]).map(ByteLength::new),
        media,
        transport,
        partition_table: text(value, &["pttype"]),
        mounts,
    })
}

/// The device itself and everything below it; a document that nests without end is cut.
fn collect_mounts(value: &Value, depth: usize, mounts: &mut Vec<Mount>) {
    if depth > 16 {
        return;
    }
    let filesystem = text(value, &["fstype"]);
    let mut mounted_at: Vec<String> =
        list(value, &["mountpoints"]).filter_map(|v| v.as_str().map(str::to_string)).collect();
    mounted_at.extend(text(value, &["mountpoint"]).filter(|place| !mounted_at.contains(place)));
    if filesystem.is_some() || !mounted_at.is_empty() {
        let device = text(value, &["name"]).unwrap_or_default();
        mounts.push(Mount { device, filesystem, uuid: text(value, &["uuid"]), mounted_at });
    }
    for child in list(value, &["children"]) {
        collect_mounts(child, depth + 1, mounts);
    }
}

/// Gives devices their stable names: lines of a name and the device it points to, "ata-… sda".
///
/// Of several names for one device the one with a model and serial in it is taken before a bare world-wide name.
pub fn parse_ids(listing: &str, devices: &mut [Device]) {
    for (id, target) in listing.lines().filter_map(|line| line.trim().rsplit_once(char::is_whitespace)) {
        let (id, target) = (id.trim(), target.rsplit('/').next().unwrap_or(target));
        let Some(device) = devices.iter_mut().find(|d| d.name == target) else { continue };
        let is_bare = |name: &str| name.starts_with("wwn-") || name.starts_with("nvme-eui.");
        if device.stable_id.as_deref().is_none_or(|known| is_bare(known) && !is_bare(id)) {
            device.stable_id = Some(id.to_string());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const LISTING: &str = r#"{"blockdevices": [
        {"name": "sda", "type": "disk", "size": 12000138625024, "model": "Tarnworks T12 ", "serial": "TW12-88Q4K7",
         "rota": true, "tran": "sata", "pttype": "gpt", "fstype": null, "mountpoints": [null],
         "children": [{"name": "sda1", "type": "part", "fstype": "ext4", "uuid": "5b1d", "mountpoints": ["/mnt/alder"]}]},
        {"name": "sdb", "type": "disk", "size": "4000787030016", "rota": "1", "pttype": "dos"},
        {"name": "nvme0n1", "size": 500107862016, "rota": false, "mountpoint": "/"},
        {"name": "loop0", "type": "loop", "size": 4096}, {"name": "zram0", "type": "disk", "size": 9}, {"name": "sr0", "type": "disk", "size": 0}, {"type": "disk"}, 7]}"#;

    #[test]
    fn disks_are_read_whatever_shape_their_values_have() {
        let mut disks = parse_blocks(LISTING).unwrap();
        assert_eq!(disks.iter().map(|d| d.name.as_str()).collect::<Vec<_>>(), ["sda", "sdb", "nvme0n1"]);
        assert_eq!(disks[0].size.unwrap().to_string(), "12.0 TB");
        assert_eq!(disks[0].mount_points().collect::<Vec<_>>(), ["/mnt/alder"]);
        assert_eq!((disks[1].media, disks[2].media), (Some(Media::Hdd), Some(Media::Nvme)));
        assert!(!disks[0].table_too_small() && disks[1].table_too_small());
        assert!(disks[2].carries_the_system() && !disks[0].carries_the_system());
        assert!(disks[0].carries_data() && disks[1].carries_data());
        parse_ids(
            "wwn-0x5000 sda\nata-Tarnworks_T12_TW12-88Q4K7 ../../sda\nnvme-eui.01 nvme0n1\n",
            &mut disks,
        );
        assert_eq!(disks[0].stable_id.as_deref(), Some("ata-Tarnworks_T12_TW12-88Q4K7"));
        assert_eq!(disks[2].stable_id.as_deref(), Some("nvme-eui.01"));
    }

    #[rstest]
    #[case("", "not JSON")]
    #[case("{\"blockdevices\": [{\"name\": ", "not JSON")]
    #[case("[]", "no `blockdevices`")]
    #[case("{\"blockdevices\": 3}", "no `blockdevices`")]
    fn what_is_no_listing_is_said_to_be_none(#[case] document: &str, #[case] words: &str) {
        assert!(parse_blocks(document).unwrap_err().to_string().contains(words));
    }

    #[test]
    fn an_empty_listing_has_no_disks() {
        assert_eq!(parse_blocks("{\"blockdevices\": []}"), Ok(Vec::new()));
    }
}
