//! What is to be expected of the risk by folder: where it lies.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::risk::{Assessment, Cause, FolderOnDisk, Subject};
use sieve_disk::Result;

use crate::{Others, Outlook, RiskVolume};
/// What is to be expected to be lost in a year, and is on no other machine.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct ForGood {
    /// Bytes.
    #[serde(rename = "bytes_a_year")]
    pub bytes: f64,
    /// Files.
    #[serde(rename = "files_a_year")]
    pub files: f64,
}

/// What is to be expected of one folder in a year.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct FolderRisk {
    /// The top folder; empty for what lies at the root.
    pub folder: String,
    /// Bytes lost.
    #[serde(rename = "bytes_a_year")]
    pub bytes: f64,
    /// Files lost.
    #[serde(rename = "files_a_year")]
    pub files: f64,
    /// Bytes of it that are on no other machine, where the pool file names some.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(rename = "bytes_for_good_a_year")]
    pub bytes_for_good: Option<f64>,
}

pub(super) struct Parts {
    pub(super) for_good: ForGood,
    pub(super) folders: Vec<FolderRisk>,
    pub(super) on_disks: Vec<FolderOnDisk>,
}

#[derive(Clone, Default)]
struct Part {
    objects: Vec<u32>,
    bytes: f64,
    lost_bytes: f64,
    lost_files: f64,
    squares: f64,
    /// The same of what is on no other machine.
    good: Good,
    /// Without what changes between syncs: that would be lost anywhere.
    lost_where_it_lies: f64,
    /// Failures a year that take the most exposed of them.
    hits: f64,
}

/// Of a part what is on no other machine.
#[derive(Clone, Copy, Default)]
struct Good {
    lost_bytes: f64,
    lost_files: f64,
    squares: f64,
}

/// Sums what is to be expected up by folder, and by folder and disk.
///
/// The failures of disks are summed up file by file, and scaled to their total where changes since the last sync
/// count for several files at once. What unreadable sectors take is shared out by the squares of sizes: a file is hit
/// in proportion to its size, and is lost with all of it.
pub(super) fn folders(
    outlook: &dyn Outlook,
    volume: &RiskVolume,
    assessment: &Assessment,
    subject: &Subject<'_>,
    others: &Others,
) -> Result<Parts> {
    let mut parts = parts_of(outlook, volume, &assessment.yearly_losses(subject), others)?;
    scale(&mut parts, assessment);
    let mut for_good = ForGood::default();
    let mut by_folder: BTreeMap<String, FolderRisk> = BTreeMap::new();
    let mut on_disks = Vec::new();
    for ((folder, disk), part) in parts {
        let sum = by_folder.entry(folder.clone()).or_insert(FolderRisk {
            folder: folder.clone(),
            bytes: 0.0,
            files: 0.0,
            bytes_for_good: (!others.is_empty()).then_some(0.0),
        });
        sum.bytes += part.lost_bytes;
        sum.files += part.lost_files;
        sum.bytes_for_good = sum.bytes_for_good.map(|bytes| bytes + part.good.lost_bytes);
        for_good.bytes += part.good.lost_bytes;
        for_good.files += part.good.lost_files;
        on_disks.push(FolderOnDisk {
            folder,
            disk,
            objects: part.objects,
            bytes: part.bytes,
            lost: part.lost_where_it_lies,
            hits: part.hits,
        });
    }
    let mut folders: Vec<FolderRisk> = by_folder.into_values().collect();
    folders.sort_by(|a, b| b.bytes.total_cmp(&a.bytes));
    Ok(Parts { for_good, folders, on_disks })
}

/// By folder and disk.
type Divided = BTreeMap<(String, usize), Part>;

/// Sums up what is to be expected of each file, guarded and in all, given by its position.
fn parts_of(
    outlook: &dyn Outlook,
    volume: &RiskVolume,
    yearly: &[(f64, f64)],
    others: &Others,
) -> Result<Divided> {
    let mut parts = Divided::new();
    outlook.for_each_file(&mut |file| {
        if file.volume != volume.name {
            return Ok(());
        }
        let disk = usize::from(volume.now.objects[file.position].disk.0);
        let part = parts.entry((file.top_folder.clone(), disk)).or_default();
        let size = file.size_bytes.exact() as f64;
        part.objects.push(file.position as u32);
        part.bytes += size;
        let (guarded, all) = yearly[file.position];
        part.lost_bytes += all * size;
        part.lost_files += all;
        part.lost_where_it_lies += guarded * size;
        part.hits = part.hits.max(guarded);
        part.squares += size * size;
        if !others.find(outlook, &file)?.0.is_elsewhere() {
            part.good.lost_bytes += all * size;
            part.good.lost_files += all;
            part.good.squares += size * size;
        }
        Ok(())
    })?;
    Ok(parts)
}

/// Brings the sums of the parts to the totals of the assessment, and shares out what unreadable sectors take.
fn scale(parts: &mut Divided, assessment: &Assessment) {
    let unreadable = assessment.odds.causes.get(&Cause::Unreadable).copied().unwrap_or_default();
    let total = assessment.odds.total();
    let share = |total: f64, sum: f64| if sum > 0.0 { total / sum } else { 0.0 };
    let sum = |value: &dyn Fn(&Part) -> f64| parts.values().map(value).sum::<f64>();
    let bytes = share(total.bytes - unreadable.bytes, sum(&|p| p.lost_bytes));
    let files = share(total.files - unreadable.files, sum(&|p| p.lost_files));
    let squares = sum(&|p| p.squares);
    for part in parts.values_mut() {
        let hit = share(part.squares, squares);
        part.lost_bytes = part.lost_bytes * bytes + unreadable.bytes * hit;
        part.lost_files = part.lost_files * files + unreadable.files * hit;
        let hit = share(part.good.squares, squares);
        part.good.lost_bytes = part.good.lost_bytes * bytes + unreadable.bytes * hit;
        part.good.lost_files = part.good.lost_files * files + unreadable.files * hit;
    }
}
