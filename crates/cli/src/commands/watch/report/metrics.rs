//! Gauges for scraping, in the text format of OpenMetrics 1.0.

use std::fmt::Write;

use sieve_core::notice::{Condition, Severity};
use sieve_foresight::status::Status;
use sieve_pool::pool::Pool;

/// Gauges of one name.
struct Family {
    name: &'static str,
    unit: &'static str,
    help: &'static str,
    samples: Samples,
}

/// Values, each with the labels that tell it from the others.
type Samples = Vec<(Vec<(&'static str, String)>, f64)>;

impl Family {
    const fn of(name: &'static str, unit: &'static str, help: &'static str, samples: Samples) -> Self {
        Self { name, unit, help, samples }
    }
}

/// The whole text.
pub(super) fn text(pool: &Pool, status: &Status, conditions: &[Condition]) -> String {
    let mut text = String::new();
    for family in families(pool, status, conditions).iter().filter(|family| !family.samples.is_empty()) {
        // Writing to text cannot fail.
        let _ = writeln!(text, "# TYPE zinc_sieve_{} gauge", family.name);
        if !family.unit.is_empty() {
            let _ = writeln!(text, "# UNIT zinc_sieve_{} {}", family.name, family.unit);
        }
        let _ = writeln!(text, "# HELP zinc_sieve_{} {}", family.name, family.help);
        for (labels, value) in &family.samples {
            let labels: Vec<String> =
                labels.iter().map(|(name, value)| format!("{name}=\"{}\"", escaped(value))).collect();
            let _ = writeln!(text, "zinc_sieve_{}{{{}}} {value}", family.name, labels.join(","));
        }
    }
    text.push_str("# EOF\n");
    text
}

fn escaped(value: &str) -> String {
    value.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

fn families(pool: &Pool, status: &Status, conditions: &[Condition]) -> Vec<Family> {
    let mut families = disk_families(pool, status);
    families.extend(file_families(status, conditions));
    families
}

fn disk_families(pool: &Pool, status: &Status) -> Vec<Family> {
    let name = || ("pool", status.pool.clone());
    let of_disk = |value: &dyn Fn(&sieve_foresight::status::DiskStatus) -> f64| {
        let labels = |disk: &sieve_foresight::status::DiskStatus| {
            vec![
                name(),
                ("disk", disk.name.clone()),
                ("volume", disk.volume.clone()),
                ("role", disk.role.word().to_string()),
            ]
        };
        status.disks.iter().map(|disk| (labels(disk), value(disk))).collect()
    };
    let newest = |value: &dyn Fn(&sieve_catalogue::samples::Sample) -> Option<f64>| {
        let of_member = |member: &sieve_pool::member::Member| {
            let samples =
                sieve_catalogue::samples::of_disk(pool.catalogue.reading(), member.row.id, 0).ok()?;
            let value = samples.iter().rev().find_map(value)?;
            Some((vec![name(), ("disk", member.row.name.clone())], value))
        };
        pool.members.iter().filter_map(of_member).collect()
    };
    vec![
        Family {
            name: "disk_used_bytes",
            unit: "bytes",
            help: "What our files, or the parity image, take on a disk.",
            samples: of_disk(&|disk| disk.used.exact() as f64),
        },
        Family {
            name: "disk_free_bytes",
            unit: "bytes",
            help: "What may still be written to a disk.",
            samples: of_disk(&|disk| disk.free.exact() as f64),
        },
        Family {
            name: "disk_present",
            unit: "",
            help: "Whether a disk is there and is the member that it is to be.",
            samples: of_disk(&|disk| f64::from(u8::from(disk.state.is_usable()))),
        },
        Family {
            name: "disk_temperature_celsius",
            unit: "celsius",
            help: "How warm a disk was at the last look at its health.",
            samples: newest(&|sample| sample.celsius),
        },
        Family {
            name: "disk_reallocated_sectors",
            unit: "sectors",
            help: "Sectors that a disk replaced by spare ones.",
            samples: newest(&|sample| sample.reallocated.map(|number| number as f64)),
        },
    ]
}

fn file_families(status: &Status, conditions: &[Condition]) -> Vec<Family> {
    let name = || ("pool", status.pool.clone());
    let one = |value: f64| vec![(vec![name()], value)];
    let levels = |value: &dyn Fn(&sieve_foresight::status::GuardLevel) -> f64| {
        let labels = |level: u8| vec![name(), ("guard", level.to_string())];
        status.guard.iter().map(|level| (labels(level.level), value(level))).collect()
    };
    let by_severity = [Severity::ActNow, Severity::Soon, Severity::Information].into_iter().map(|severity| {
        let holding = conditions.iter().filter(|condition| condition.severity == severity).count();
        (vec![name(), ("severity", severity.words().to_string())], holding as f64)
    });
    let waits = |value: fn(&sieve_core::count::Count) -> f64| {
        let labels = |volume: &String| vec![name(), ("volume", volume.clone())];
        status.caches.iter().map(|cache| (labels(&cache.volume), value(&cache.waits))).collect()
    };
    vec![
        Family::of(
            "files",
            "",
            "Files, by how many disks may die without losing them.",
            levels(&|level| level.files as f64),
        ),
        Family::of(
            "files_bytes",
            "bytes",
            "Bytes of files, by how many disks may die without losing them.",
            levels(&|level| level.bytes.exact() as f64),
        ),
        Family::of(
            "lost_files",
            "",
            "Files that cannot be had as they were.",
            one(status.stakes.lost.files as f64),
        ),
        Family::of(
            "damaged_cells",
            "",
            "Cells that are known to be damaged.",
            one(status.damaged_cells as f64),
        ),
        Family::of(
            "last_sync_timestamp_seconds",
            "seconds",
            "When the last sync began.",
            status.synced_at.map(|at| one((at / 1_000_000_000) as f64)).unwrap_or_default(),
        ),
        Family::of(
            "cache_waiting_bytes",
            "bytes",
            "What waits on a cache for its place on the disks.",
            waits(|count| count.bytes.exact() as f64),
        ),
        Family::of("notices", "", "Conditions that hold now, by severity.", by_severity.collect()),
    ]
}
