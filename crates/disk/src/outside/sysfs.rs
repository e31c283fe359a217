//! What /sys tells about a disk. Below `--from DIR` the same tree may lie in `DIR/sys`, links and all or only the files.

use std::fs::{File, canonicalize, read_dir};
use std::io::Read;
use std::path::{Path, PathBuf};

use sieve_core::inventory::{DiskLink, KernelReport, LinkSpeed, millidegrees, pcie_speed, sata_speed};

/// No answer of the kernel is longer.
const LONGEST: u64 = 4096;

/// What the tree at `sys` tells about the disk with the kernel's name `name`.
pub(crate) fn read_disk(sys: &Path, name: &str) -> KernelReport {
    let Ok(disk) = canonicalize(sys.join("block").join(name)) else { return KernelReport::default() };
    let mut report = KernelReport { celsius: temperature(&disk.join("device")), ..KernelReport::default() };
    let top = canonicalize(sys).unwrap_or_default();
    // A disk lies below the port it is plugged into.
    let parents: Vec<&Path> = disk.ancestors().take_while(|parent| *parent != top).collect();
    if name.starts_with("nvme") {
        let port = parents.iter().find(|parent| parent.join("current_link_speed").exists());
        let speed = |which| port.and_then(|p| pcie(p, which));
        report.link = DiskLink { now: speed("current"), possible: speed("max") };
    } else {
        report.link.now = parents.iter().find_map(|parent| sata(parent));
    }
    report
}

/// The sensor of the disk itself: of flash on the bus it lies beside the disk, of others one folder deeper.
fn temperature(device: &Path) -> Option<f64> {
    let mut sensors = named(&device.join("hwmon"), "hwmon");
    sensors.extend(named(device, "hwmon"));
    sensors.iter().find_map(|sensor| millidegrees(&answer(&sensor.join("temp1_input"))?))
}

/// The link of a port that has only one disk; behind a multiplier there are several, and which is whose is not told.
fn sata(port: &Path) -> Option<LinkSpeed> {
    let links: Vec<PathBuf> =
        named(port, "link").iter().flat_map(|l| named(&l.join("ata_link"), "link")).collect();
    let [link] = links.as_slice() else { return None };
    sata_speed(&answer(&link.join("sata_spd"))?)
}

fn pcie(port: &Path, which: &str) -> Option<LinkSpeed> {
    let tell = |what: &str| answer(&port.join(format!("{which}_link_{what}")));
    pcie_speed(&tell("speed")?, &tell("width")?)
}

/// The folders in `folder` whose names begin with `prefix`, in the order of their names.
fn named(folder: &Path, prefix: &str) -> Vec<PathBuf> {
    let Ok(entries) = read_dir(folder) else { return Vec::new() };
    let starts = |path: &PathBuf| path.file_name().is_some_and(|n| n.to_string_lossy().starts_with(prefix));
    let mut found: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).filter(starts).collect();
    found.sort();
    found
}

fn answer(path: &Path) -> Option<String> {
    let mut words = String::new();
    File::open(path).ok()?.take(LONGEST).read_to_string(&mut words).ok()?;
    Some(words)
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "a test's own files")]
mod tests {
    use super::*;

    const PORT: &str = "devices/pci0000:00/0000:00:1f.2/ata3";

    fn tree(files: &[(&str, &str)], disk: (&str, &str)) -> tempfile::TempDir {
        let sys = tempfile::TempDir::new().unwrap();
        for (name, words) in files {
            let path = sys.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, words).unwrap();
        }
        std::fs::create_dir_all(sys.path().join("block")).unwrap();
        std::fs::create_dir_all(sys.path().join(disk.1)).unwrap();
        std::os::unix::fs::symlink(Path::new("..").join(disk.1), sys.path().join("block").join(disk.0))
            .unwrap();
        sys
    }

    #[test]
    fn a_disk_on_a_sata_port() {
        let device = format!("{PORT}/host2/target2:0:0/2:0:0:0");
        let disk = format!("{device}/block/sdb");
        let sys = tree(
            &[
                (&format!("{PORT}/link3/ata_link/link3/sata_spd"), "3.0 Gbps\n"),
                (&format!("{disk}/device/hwmon/hwmon4/temp1_input"), "38000\n"),
                ("devices/pci0000:00/0000:00:1f.2/current_link_speed", "8.0 GT/s PCIe"),
            ],
            ("sdb", &disk),
        );
        let report = read_disk(sys.path(), "sdb");
        assert_eq!((report.celsius, report.link.now.map(|l| l.bits)), (Some(38.0), Some(3_000_000_000)));
        assert_eq!(report.link.possible, None);
        assert_eq!(read_disk(sys.path(), "sdc"), KernelReport::default());
    }

    #[test]
    fn behind_a_port_multiplier_the_link_is_not_guessed() {
        let disk = format!("{PORT}/host2/block/sdb");
        let spd = |n: u8| format!("{PORT}/link3.{n}/ata_link/link3.{n}/sata_spd");
        let sys = tree(&[(&spd(0), "3.0 Gbps"), (&spd(1), "6.0 Gbps")], ("sdb", &disk));
        assert_eq!(read_disk(sys.path(), "sdb").link, DiskLink::default());
    }

    #[test]
    fn flash_on_the_bus_with_fewer_lanes_than_it_could_have() {
        let bus = "devices/pci0000:00/0000:01:00.0";
        let disk = format!("{bus}/nvme/nvme0/nvme0n1");
        let sys = tree(
            &[
                (&format!("{bus}/current_link_speed"), "8.0 GT/s PCIe"),
                (&format!("{bus}/current_link_width"), "2"),
                (&format!("{bus}/max_link_speed"), "8.0 GT/s PCIe"),
                (&format!("{bus}/max_link_width"), "4"),
                (&format!("{disk}/device/hwmon1/temp1_input"), "41850"),
            ],
            ("nvme0n1", &disk),
        );
        let report = read_disk(sys.path(), "nvme0n1");
        assert_eq!(report.link.slow(), Some(("8.0 GT/s x2", "8.0 GT/s x4")));
        assert_eq!(report.celsius, Some(41.85));
    }
}
