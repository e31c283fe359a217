//! The script that takes new disks to mounted members: written, never run.

use std::fmt::Write as _;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::inventory::Device;
use crate::path::disturbs;

/// A filesystem for a new disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NewFilesystem {
    /// The usual one.
    #[default]
    Ext4,
    /// For few and large files.
    Xfs,
}

/// A disk to be prepared.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct NewDisk {
    /// The name that it gets: label, mount point, and name in the pool file.
    #[serde(rename = "disk")]
    pub name: String,
    /// The device.
    pub device: Device,
    /// What is on it may be erased.
    pub may_erase: bool,
}

/// Why a disk is not to be prepared.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// The running system is on it.
    #[error("{0} carries the running system ({1})")]
    System(String, String),
    /// It is in use.
    #[error("{0} is mounted at {1}")]
    Mounted(String, String),
    /// Something is on it.
    #[error("{0} carries data ({1})")]
    Data(String, String),
    /// It is a member of the pool.
    #[error("{0} is disk {1} of this pool")]
    Member(String, String),
    /// Nothing is known that tells it from any other disk.
    #[error(
        "of {0} neither a serial number nor a stable id is known: nothing but its size would tell that it is the one to be erased"
    )]
    Nameless(String),
}

impl Refusal {
    /// Whether it may be overruled by naming the disk once more.
    pub const fn may_be_overruled(&self) -> bool {
        matches!(self, Self::Data(..) | Self::Member(..))
    }
}

/// Refuses a disk that carries anything. What is mounted has to be unmounted first, in any case.
///
/// # Errors
/// The refusal. Data on a disk, and a member that is not mounted, are passed over when the disk may be erased.
pub fn refuse(disk: &NewDisk, member: Option<&str>) -> Result<(), Refusal> {
    let name = disk.device.name.clone();
    let places = || disk.device.mount_points().collect::<Vec<_>>().join(", ");
    if disk.device.carries_the_system() {
        return Err(Refusal::System(name, places()));
    }
    if disk.device.mount_points().next().is_some() {
        return Err(Refusal::Mounted(name, places()));
    }
    if let Some(member) = member.filter(|_| !disk.may_erase) {
        return Err(Refusal::Member(name, member.into()));
    }
    if disk.may_erase && disk.device.serial.is_none() && disk.device.stable_id.is_none() {
        return Err(Refusal::Nameless(name));
    }
    if disk.device.carries_data() && !disk.may_erase {
        let table = disk.device.partition_table.iter().map(|t| format!("{t} partition table"));
        let kinds = disk.device.mounts.iter().filter_map(|m| m.filesystem.clone());
        return Err(Refusal::Data(name, table.chain(kinds).collect::<Vec<_>>().join(", ")));
    }
    Ok(())
}

/// The programs that the script calls.
const TOOLS: &str = "lsblk wipefs sfdisk partx readlink blkid mkdir mount";

/// Writes the script. Each step says in a comment what it does; nothing is changed before every check of every disk holds.
///
/// The values in it are quoted for the shell: a model or serial number may hold anything.
pub fn script(disks: &[NewDisk], filesystem: NewFilesystem, mount_root: &str) -> String {
    let make = match filesystem {
        NewFilesystem::Ext4 => "mkfs.ext4",
        NewFilesystem::Xfs => "mkfs.xfs",
    };
    let mut text = format!(
        "#!/bin/sh\n\
         # Takes new disks to mounted members of a pool. Read it, then run it as root: it was not run for you.\n\
         set -eu\n\
         # Where mounts are written down; another file can be named to try the script out.\n\
         FSTAB=${{FSTAB:-/etc/fstab}}\n\
         stop() {{ echo \"stopped: $1\" >&2; exit 1; }}\n\
         # Are the programs there that are needed? Nothing is begun that could not be ended.\n\
         for TOOL in {TOOLS} {make}; do command -v \"$TOOL\" >/dev/null || stop \"$TOOL is not installed\"; done\n"
    );
    for disk in disks {
        checks(&mut text, disk);
    }
    text += "\n# Every check holds. From here on disks are changed.\n";
    for disk in disks {
        section(&mut text, disk, filesystem, mount_root);
    }
    text += "\n# All done: name the disks in the pool file.\n";
    for disk in disks {
        let path = format!("{mount_root}/{}", disk.name);
        let _ = writeln!(text, "#   [[disk]] name = \"{}\"  path = \"{path}\"", disk.name);
    }
    text
}

fn step(text: &mut String, comment: &str, command: &str) {
    let comment: String = comment.chars().map(|c| if disturbs(c) { ' ' } else { c }).collect();
    let _ = writeln!(text, "# {comment}\n{command}");
}

fn title(text: &mut String, disk: &NewDisk) {
    let device = &disk.device;
    let size = device.size.map_or_else(|| "size unknown".into(), |s| s.to_string());
    let told = format!(
        "{}, serial {}, {size}",
        device.model.as_deref().unwrap_or("model unknown"),
        device.serial.as_deref().unwrap_or("unknown")
    );
    step(text, &format!("---- {}: {told}", disk.name), "");
    match &device.stable_id {
        Some(id) => {
            step(text, "The disk, by a name that stays.", &format!("DISK=/dev/disk/by-id/{}", quoted(id)));
        }
        None => step(
            text,
            "The disk, by the kernel's name: it moves between boots, so run this before the next one.",
            &format!("DISK=/dev/{}", quoted(&device.name)),
        ),
    }
}

/// What has to hold before anything is changed. A check that cannot be made does not hold.
fn checks(text: &mut String, disk: &NewDisk) {
    let device = &disk.device;
    title(text, disk);
    step(text, "Is it there?", "test -b \"$DISK\" || stop \"$DISK is no disk\"");
    if let Some(serial) = &device.serial {
        let serial: String = serial.chars().filter(|c| !c.is_whitespace()).collect();
        step(
            text,
            "Is it the right one? Stops if its serial number is another.",
            &format!(
                "FOUND=$(lsblk --nodeps --noheadings --output SERIAL \"$DISK\") || stop \"$DISK cannot be asked\"\n\
                 test \"$(printf '%s' \"$FOUND\" | tr -d '[:space:]')\" = {} || stop \"$DISK has another serial number: $FOUND\"",
                quoted(&serial)
            ),
        );
    }
    if let Some(size) = device.size {
        step(
            text,
            "Has it the right size? Stops if it has another.",
            &format!(
                "FOUND=$(lsblk --nodeps --noheadings --bytes --output SIZE \"$DISK\") || stop \"$DISK cannot be asked\"\n\
                 test \"$(printf '%s' \"$FOUND\" | tr -d '[:space:]')\" = {} || stop \"$DISK has another size: $FOUND bytes\"",
                size.exact()
            ),
        );
    }
    step(
        text,
        "Is it in use? Stops if anything of it is mounted, or swapped to.",
        "FOUND=$(lsblk --noheadings --output MOUNTPOINTS \"$DISK\") || stop \"$DISK cannot be asked\"\n\
         test -z \"$(printf '%s' \"$FOUND\" | tr -d '[:space:]')\" || stop \"$DISK is in use: $FOUND\"",
    );
    if !disk.may_erase {
        step(
            text,
            "Is it empty? Stops if there is a signature on it.",
            "FOUND=$(wipefs --noheadings \"$DISK\") || stop \"$DISK cannot be read\"\n\
             test -z \"$FOUND\" || stop \"$DISK is not empty: $FOUND\"",
        );
    }
}

fn section(text: &mut String, disk: &NewDisk, filesystem: NewFilesystem, mount_root: &str) {
    let device = &disk.device;
    let place = format!("{mount_root}/{}", disk.name);
    title(text, disk);
    let mut step = |comment: &str, command: &str| step(text, comment, command);
    if disk.may_erase {
        step(
            "ERASES what is on it: partition table and signatures of filesystems. (Refused by the system while it is in use.)",
            "wipefs --all \"$DISK\"",
        );
    }
    step(
        "A partition table of the kind that reaches beyond 2 TB (GPT), with one partition over the whole disk.",
        "printf 'label: gpt\\nstart=1MiB, type=linux\\n' | sfdisk --quiet --wipe always \"$DISK\"",
    );
    let suffix = if device.name.ends_with(|c: char| c.is_ascii_digit()) { "p1" } else { "1" };
    step(
        "The kernel is told of the partition; its name appears a moment later.",
        &format!(
            "partx --update \"$DISK\"\nPART=\"$(readlink -f \"$DISK\"){suffix}\"\nfor _ in 1 2 3 4 5; do test -b \"$PART\" && break; sleep 1; done\ntest -b \"$PART\" || stop \"$PART did not appear\""
        ),
    );
    let label = quoted(&disk.name.chars().take(12).collect::<String>());
    let (kind, make) = match filesystem {
        NewFilesystem::Ext4 => ("ext4", format!("mkfs.ext4 -q -m 0 -L {label} \"$PART\"")),
        NewFilesystem::Xfs => ("xfs", format!("mkfs.xfs -q -L {label} \"$PART\"")),
    };
    step(&format!("The filesystem ({kind}), with the disk's name as its label."), &make);
    step("The mount point.", &format!("mkdir -p {}", quoted(&place)));
    step(
        "Mounted at every start by the filesystem's own id; a missing disk does not stop the start (nofail).",
        &format!(
            "UUID=$(blkid -p -s UUID -o value \"$PART\")\nprintf 'UUID=%s %s {kind} defaults,nofail 0 2\\n' \"$UUID\" {} >> \"$FSTAB\"",
            quoted(&place)
        ),
    );
    step("Mounts it now.", &format!("mount --fstab \"$FSTAB\" {}", quoted(&place)));
}

/// Quotes text for the shell.
fn quoted(text: &str) -> String {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_./:".contains(c);
    if !text.is_empty() && text.chars().all(is_plain) {
        text.into()
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::inventory::Mount;
    use crate::units::ByteLength;
    use rstest::rstest;

    fn disk(name: &str) -> NewDisk {
        let device = Device {
            name: "sde".into(),
            serial: Some("TW12-8BQ4K7".into()),
            size: Some(ByteLength::new(4_000_787_030_016)),
            ..Device::default()
        };
        NewDisk { name: name.into(), device, may_erase: false }
    }

    fn mounted(place: Option<&str>) -> NewDisk {
        let mut disk = disk("elm");
        disk.device.partition_table = Some("gpt".into());
        let mounted_at = place.map(str::to_string).into_iter().collect();
        disk.device.mounts =
            vec![Mount { device: "sde1".into(), filesystem: Some("ext4".into()), uuid: None, mounted_at }];
        disk
    }

    #[rstest]
    #[case(disk("elm"), false, None, None)]
    #[case(mounted(Some("/")), true, None, Some("running system"))]
    #[case(mounted(Some("/mnt/x")), true, None, Some("mounted at /mnt/x"))]
    #[case(mounted(None), false, None, Some("carries data (gpt partition table, ext4)"))]
    #[case(mounted(None), true, None, None)]
    #[case(disk("elm"), false, Some("cedar"), Some("is disk cedar of this pool"))]
    #[case(disk("elm"), true, Some("cedar"), None)]
    fn what_carries_anything_is_refused(
        #[case] mut disk: NewDisk,
        #[case] may_erase: bool,
        #[case] member: Option<&str>,
        #[case] words: Option<&str>,
    ) {
        disk.may_erase = may_erase;
        let refusal = refuse(&disk, member).err().map(|r| r.to_string());
        assert_eq!(refusal.is_some(), words.is_some(), "{refusal:?}");
        assert!(words.is_none_or(|w| refusal.unwrap().contains(w)));
    }

    #[test]
    fn nothing_is_erased_that_was_not_named() {
        let text = script(&[disk("elm")], NewFilesystem::Ext4, "/mnt");
        assert!(!text.contains("wipefs --all") && text.contains("wipefs --noheadings"));
        let erased = script(&[NewDisk { may_erase: true, ..disk("elm") }], NewFilesystem::Ext4, "/mnt");
        assert!(erased.contains("ERASES"));
    }

    #[test]
    fn every_check_of_every_disk_comes_before_the_first_change() {
        let erased = |name: &str| NewDisk { may_erase: true, ..disk(name) };
        let text = script(&[erased("elm"), erased("rowan")], NewFilesystem::Ext4, "/mnt");
        let first_change = text.find("wipefs --all").unwrap();
        for check in ["command -v", "--output SERIAL", "--output MOUNTPOINTS", "--output SIZE"] {
            assert!(text.rfind(check).unwrap() < first_change, "{check}");
        }
        // What follows `!` cannot end a script by `set -e`.
        assert!(text.lines().all(|line| !line.trim_start().starts_with('!')), "{text}");
    }

    #[test]
    fn what_only_its_size_would_tell_apart_is_not_erased() {
        let mut nameless = NewDisk { may_erase: true, ..disk("elm") };
        nameless.device.serial = None;
        assert_eq!(refuse(&nameless, None), Err(Refusal::Nameless("sde".into())));
        nameless.may_erase = false;
        assert_eq!(refuse(&nameless, None), Ok(()));
    }

    #[test]
    fn what_a_disk_calls_itself_cannot_become_a_command() {
        let mut hostile = disk("elm");
        hostile.device.model = Some("x\nrm -rf /".into());
        hostile.device.serial = Some("a'; reboot; '".into());
        hostile.device.stable_id = Some("$(reboot)".into());
        let text = script(&[hostile], NewFilesystem::Xfs, "/mnt");
        assert!(text.contains("'a'\\'';reboot;'\\'''") && text.contains("'$(reboot)'"), "{text}");
        assert!(text.lines().all(|line| !line.starts_with("rm ")));
    }
}
