//! The machine's disks, from the operating system's public interfaces or from the same documents in files.

use std::path::Path;
use std::process::Command;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::inventory::{
    Device, DiskLink, KernelReport, SmartReport, parse_blocks, parse_ids, parse_smart,
};

use crate::sysfs;
use crate::{Error, Kind, Result};

/// No document of a machine is larger.
const LARGEST: u64 = 16 << 20;
/// What is asked of each block device.
const COLUMNS: &str = "NAME,TYPE,SIZE,MODEL,SERIAL,ROTA,TRAN,PTTYPE,FSTYPE,UUID,MOUNTPOINTS";

/// A disk of the machine and what it says about itself.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Found {
    /// The device.
    #[serde(flatten)]
    pub device: Device,
    /// Its report; none where it could not be asked.
    pub smart: Option<SmartReport>,
    /// The link to it, as the disk or else as the kernel tells it.
    pub link: DiskLink,
    /// Degrees Celsius, as the disk or else as the kernel tells it.
    pub celsius: Option<f64>,
}

/// What was found, and what could not be.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct Inventory {
    /// The disks.
    pub disks: Vec<Found>,
    /// What is missing and why, in words.
    pub gaps: Vec<String>,
}

impl Inventory {
    /// The disk with that serial number.
    pub fn by_serial(&self, serial: &str) -> Option<&Found> {
        self.disks.iter().find(|d| d.serial() == Some(serial))
    }
}

impl Found {
    /// Its serial number, as the kernel or as the disk itself says it.
    pub fn serial(&self) -> Option<&str> {
        let own = || self.smart.as_ref().and_then(|s| s.serial.as_deref());
        self.device.serial.as_deref().or_else(own)
    }

    /// Its model, as the kernel or as the disk itself says it.
    pub fn model(&self) -> Option<&str> {
        let own = || self.smart.as_ref().and_then(|s| s.model.as_deref());
        self.device.model.as_deref().or_else(own)
    }
}

/// Reads the documents in a folder: `lsblk.json`, and where they are there `by-id.txt` (a name and its device on
/// each line), `smart-DEVICE.json` and the tree `sys`.
///
/// # Errors
/// When there is no `lsblk.json`, or it is none. A report that cannot be read is a gap.
pub fn from_folder(folder: &Path) -> Result<Inventory> {
    let path = folder.join("lsblk.json");
    let blocks = read_document(&path)?;
    let mut devices =
        parse_blocks(&blocks).map_err(|e| unreadable(&path.display().to_string(), &e.to_string()))?;
    let mut inventory = Inventory::default();
    let ids = folder.join("by-id.txt");
    if ids.exists() {
        parse_ids(&read_document(&ids)?, &mut devices);
    } else {
        inventory.gaps.push("stable names are not known: there is no by-id.txt".into());
    }
    for device in devices {
        let path = folder.join(format!("smart-{}.json", device.name));
        let report = if path.exists() { Some(read_document(&path)?) } else { None };
        let kernel = sysfs::read_disk(&folder.join("sys"), &device.name);
        inventory.add(device, kernel, report, &path.display().to_string());
    }
    Ok(inventory)
}

/// The disks that the running system knows, as it knows them: no disk is asked, so that none that sleeps is woken.
///
/// # Errors
/// When they cannot be listed.
pub fn devices_of_system() -> Result<Vec<Device>> {
    let listed = run("lsblk", &["--json", "--bytes", "--output", COLUMNS])
        .map_err(|why| unreadable("lsblk", &why).remedy("install the package util-linux"))?;
    parse_blocks(&listed).map_err(|e| unreadable("lsblk", &e.to_string()))
}

/// Asks the running system, and each of its disks.
///
/// # Errors
/// When the block devices cannot be listed. What a disk does not tell is a gap.
pub fn from_system() -> Result<Inventory> {
    ask_system(&[])
}

/// The same, but a disk that sleeps is left asleep, and tells nothing.
///
/// # Errors
/// As [`from_system`].
pub fn from_system_that_is_awake() -> Result<Inventory> {
    ask_system(&["--nocheck=standby"])
}

fn ask_system(manner: &[&str]) -> Result<Inventory> {
    let mut devices = devices_of_system()?;
    let mut inventory = Inventory::default();
    match stable_names() {
        Some(listing) => parse_ids(&listing, &mut devices),
        None => inventory.gaps.push("stable names are not known: there is no /dev/disk/by-id".into()),
    }
    let mut silent = false;
    for device in devices {
        let place = format!("/dev/{}", device.name);
        let report = run("smartctl", &[&["--json", "--xall"], manner, &[&place]].concat());
        silent |= report.is_err();
        let kernel = sysfs::read_disk(Path::new("/sys"), &device.name);
        inventory.add(device, kernel, report.ok(), "smartctl");
    }
    if silent {
        inventory.gaps.push(
            "some disks could not be asked about themselves: install smartmontools, and run this as root"
                .into(),
        );
    }
    Ok(inventory)
}

impl Inventory {
    fn add(&mut self, device: Device, kernel: KernelReport, report: Option<String>, place: &str) {
        let smart = match report.map(|text| parse_smart(&text)) {
            None => None,
            Some(Ok(report)) => Some(report),
            Some(Err(error)) => {
                self.gaps.push(format!("{place}: the report of {} cannot be read: {error}", device.name));
                None
            }
        };
        let told = smart.clone().unwrap_or_default();
        let (link, celsius) = (told.link.or(kernel.link), told.celsius.or(kernel.celsius));
        self.disks.push(Found { device, smart, link, celsius });
    }
}

/// Runs a program of the system; its exit code is not looked at, since some report findings by it.
fn run(program: &str, arguments: &[&str]) -> std::result::Result<String, String> {
    let output = Command::new(program).args(arguments).output().map_err(|e| e.to_string())?;
    if output.stdout.is_empty() {
        return Err(String::from_utf8_lossy(&output.stderr).trim().to_string());
    }
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

fn stable_names() -> Option<String> {
    let entries = std::fs::read_dir("/dev/disk/by-id").ok()?;
    let line = |entry: std::fs::DirEntry| {
        let target = std::fs::read_link(entry.path()).ok()?;
        Some(format!("{} {}\n", entry.file_name().to_string_lossy(), target.display()))
    };
    Some(entries.flatten().filter_map(line).collect())
}

fn read_document(path: &Path) -> Result<String> {
    let size = std::fs::metadata(path).map_err(|e| usage(path, e))?.len();
    if size > LARGEST {
        return Err(unreadable(&path.display().to_string(), "it is larger than 16 MiB"));
    }
    let bytes = std::fs::read(path).map_err(|e| usage(path, e))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

fn usage(path: &Path, error: std::io::Error) -> Error {
    let mut error = Error::io("inventory.read", path, error);
    error.kind = Kind::Usage;
    error.remedy("the folder needs an lsblk.json: lsblk --json --bytes --output-all > lsblk.json")
}

fn unreadable(place: &str, why: &str) -> Error {
    Error::new(Kind::Usage, "inventory.document", format!("{place}: {why}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[expect(clippy::disallowed_methods, reason = "a test's own files")]
    fn folder(files: &[(&str, &str)]) -> tempfile::TempDir {
        let folder = tempfile::TempDir::new().unwrap();
        files.iter().for_each(|(name, text)| std::fs::write(folder.path().join(name), text).unwrap());
        folder
    }

    #[test]
    fn what_one_disk_does_not_tell_is_a_gap_and_not_an_end() {
        let blocks = r#"{"blockdevices": [{"name": "sda", "type": "disk"}, {"name": "sdb", "type": "disk", "serial": "KS08"}]}"#;
        let folder = folder(&[
            ("lsblk.json", blocks),
            ("smart-sda.json", "{\"temperature\":"),
            ("smart-sdb.json", "{}"),
        ]);
        let found = from_folder(folder.path()).unwrap();
        assert_eq!(found.disks.len(), 2);
        assert!(found.disks[0].smart.is_none() && found.disks[1].smart.is_some());
        assert_eq!(found.by_serial("KS08").map(|d| d.device.name.as_str()), Some("sdb"));
        assert_eq!(found.gaps.len(), 2, "{:?}", found.gaps);
    }

    #[rstest]
    #[case::nothing(&[])]
    #[case::cut(&[("lsblk.json", "{\"blockdevices\": [")])]
    #[case::other(&[("lsblk.json", "[]")])]
    fn without_a_listing_there_is_an_error_with_words(#[case] files: &[(&str, &str)]) {
        let error = from_folder(folder(files).path()).unwrap_err();
        assert!(error.kind == Kind::Usage && error.message.contains("lsblk.json"), "{error}");
    }

    #[test]
    fn a_document_of_nonsense_is_not_read_into_memory() {
        let folder = tempfile::TempDir::new().unwrap();
        let file = std::fs::File::create(folder.path().join("lsblk.json")).unwrap();
        file.set_len(64 << 20).unwrap();
        assert!(from_folder(folder.path()).unwrap_err().message.contains("larger than"));
    }
}
