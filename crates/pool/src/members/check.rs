//! The pool file held against the disks behind it, before and after the pool exists.

use std::path::Path;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::pool::{DiskSpec, Mistake, PoolSpec, VolumeKind, VolumeSpec};
use sieve_core::units::ByteLength;

use crate::member::usable_bytes;
use sieve_disk::fitness::refuse_nameless;
use sieve_disk::machine::Machine;
use sieve_disk::{Disk, Filesystem};

/// How serious a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// It is as it should be.
    Fine,
    /// It may be meant so.
    Doubt,
    /// A disk is not there as it should be.
    State,
}

/// One thing that was looked at.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Finding {
    /// How serious it is.
    pub severity: Severity,
    /// The disk or volume.
    pub subject: String,
    /// In words.
    pub message: String,
    /// What to do about it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub advice: Option<String>,
    /// The bytes of the pool file that it is about.
    #[serde(skip)]
    pub span: std::ops::Range<usize>,
}

/// What looking at the disks showed.
#[derive(Debug, Default)]
pub struct Looked {
    /// Mistakes of the pool file that only the disks reveal.
    pub mistakes: Vec<Mistake>,
    /// Everything else.
    pub findings: Vec<Finding>,
}

struct Seen<'a> {
    spec: &'a DiskSpec,
    opened: Option<(Arc<dyn Disk>, Filesystem)>,
}

/// Looks at the place of every disk of a pool file.
pub fn look(machine: &dyn Machine, spec: &PoolSpec) -> Looked {
    let mut looked = Looked::default();
    let mut seen = Vec::new();
    for disk in &spec.disks {
        let opened = look_at_disk(machine, disk, &mut looked.findings);
        seen.push(Seen { spec: disk, opened });
    }
    doubt_shared_filesystems(&seen, &mut looked.findings);
    for volume in &spec.volumes {
        refuse_small_parity(volume, &seen, &mut looked.mistakes);
        if volume.kind == VolumeKind::Mirrored {
            looked.findings.extend(parity_of_a_mirror(volume));
        } else if volume.parity.is_empty() {
            looked.findings.push(Finding {
                severity: Severity::Doubt,
                subject: volume.name.clone(),
                message: format!("volume {} has no parity disk: nothing in it is guarded", volume.name),
                advice: None,
                span: volume.name_span.clone(),
            });
        }
    }
    looked
}

/// Of a mirrored volume the worst disks to lose are those with all copies of a file: parity helps only where there is more
/// of it than copies.
fn parity_of_a_mirror(volume: &VolumeSpec) -> Option<Finding> {
    let (parities, copies) = (volume.parity.len(), volume.copies);
    let message = match parities {
        0 => return None,
        few if few < copies => {
            let any = if copies == 2 { "any disk".to_string() } else { format!("any {} disks", copies - 1) };
            format!(
                "parity is pointless on volume {}: with {copies} copies {any} may die anyway, and {few} parity adds nothing to that",
                volume.name
            )
        }
        _ => format!(
            "copies are pointless on volume {}: its {parities} parities alone let any {parities} disks die",
            volume.name
        ),
    };
    Some(Finding {
        severity: Severity::Doubt,
        subject: volume.name.clone(),
        message,
        advice: Some("use one of the two".into()),
        span: volume.name_span.clone(),
    })
}

fn look_at_disk(
    machine: &dyn Machine,
    spec: &DiskSpec,
    findings: &mut Vec<Finding>,
) -> Option<(Arc<dyn Disk>, Filesystem)> {
    let mut add = |severity, message: String, advice: Option<&str>| {
        findings.push(Finding {
            severity,
            subject: spec.name.clone(),
            message,
            advice: advice.map(str::to_string),
            span: spec.path_span.clone(),
        });
    };
    let Some(path) = &spec.path else {
        add(Severity::Fine, format!("{} is on paper", spec.name), None);
        return None;
    };
    let opened = machine.open_disk(Path::new(path)).and_then(|disk| {
        let filesystem = disk.filesystem()?;
        Ok((disk, filesystem))
    });
    let (disk, filesystem) = match opened {
        Ok(opened) => opened,
        Err(error) => {
            let message = format!("{} is not there: {error}", spec.name);
            add(Severity::State, message, Some("mount it, or correct the path"));
            return None;
        }
    };
    if !filesystem.is_mount_point && !spec.simulated && !spec.shares_filesystem {
        // The filesystem around it is not the disk: nothing is concluded from its size.
        let message = format!("nothing is mounted at {path}: it is a folder on the filesystem around it");
        let advice = "mount the disk there; if the folder is meant: shares_filesystem = true";
        add(Severity::State, message, Some(advice));
        return None;
    }
    if let Err(error) = refuse_nameless(&filesystem, path) {
        add(Severity::State, error.message, error.remedy.as_deref());
    }
    let size = usable_bytes(Some(spec), Some(&filesystem)).unwrap_or_default();
    add(Severity::Fine, format!("{} is at {path}, {size} ({})", spec.name, size.binary()), None);
    if filesystem.read_only {
        add(
            Severity::State,
            format!("{} is mounted read-only", spec.name),
            Some("see in the system's log why"),
        );
    }
    if !spec.simulated && spec.capacity.is_some_and(|c| c > filesystem.total) {
        let message =
            format!("the capacity of {} is more than its filesystem has ({})", spec.name, filesystem.total);
        add(Severity::Doubt, message, None);
    }
    Some((disk, filesystem))
}

/// Two real disks on one filesystem will die together.
fn doubt_shared_filesystems(seen: &[Seen<'_>], findings: &mut Vec<Finding>) {
    let real: Vec<_> = seen
        .iter()
        .filter(|s| !s.spec.simulated)
        .filter_map(|s| Some((s.spec, s.opened.as_ref()?.1.device)))
        .collect();
    for (position, (spec, device)) in real.iter().enumerate() {
        if let Some((other, _)) = real[..position].iter().find(|(_, d)| d == device) {
            findings.push(Finding {
                severity: Severity::Doubt,
                subject: spec.name.clone(),
                message: format!(
                    "{} and {} lie on one filesystem: they will die together",
                    other.name, spec.name
                ),
                advice: Some("each member should be a disk of its own".into()),
                span: spec.path_span.clone(),
            });
        }
    }
}

/// A parity disk must be at least as large as the largest data disk.
fn refuse_small_parity(volume: &VolumeSpec, seen: &[Seen<'_>], mistakes: &mut Vec<Mistake>) {
    let size = |name: &str| {
        let seen = seen.iter().find(|s| s.spec.name == *name)?;
        usable_bytes(Some(seen.spec), seen.opened.as_ref().map(|(_, f)| f))
    };
    mistakes.extend(small_parities(volume, size));
}

/// The parity disks of a volume that are smaller than its largest data disk, by the sizes that are known.
pub fn small_parities(volume: &VolumeSpec, size: impl Fn(&str) -> Option<ByteLength>) -> Vec<Mistake> {
    let largest = volume.data.iter().filter_map(|name| Some((size(name)?, name))).max();
    let Some((largest, data_name)) = largest else { return Vec::new() };
    let mut spans = volume.member_spans.iter().skip(volume.data.len());
    let mut small_ones = Vec::new();
    for disks in &volume.parity {
        let span = spans.by_ref().take(disks.len()).next().cloned().unwrap_or_default();
        let sizes: Option<Vec<ByteLength>> = disks.iter().map(|name| size(name)).collect();
        let room = sizes.map(|sizes| sizes.into_iter().fold(ByteLength::ZERO, ByteLength::plus));
        let Some(small) = room.filter(|s| *s < largest) else { continue };
        let name = disks.join(" with ");
        let missing = largest.minus(small);
        let message = format!(
            "parity disk {name} has {small} and data disk {data_name} {largest}: {missing} too small ({} bytes)",
            missing.exact()
        );
        let advice = format!(
            "a parity disk must be at least as large as the largest data disk: use a larger one, or limit {data_name} with capacity = \"{} B\"",
            small.exact()
        );
        small_ones.push(Mistake::new(span, message).advise(advice));
    }
    small_ones
}
