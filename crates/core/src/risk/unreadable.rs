//! How often an unreadable sector costs something while disks are rebuilt.

use std::collections::HashMap;

use super::process::Hazard;
use crate::fate::{DiskIndex, DiskSet, Model, for_each_pattern};
use crate::units::GRANULE;

/// All rows of a volume, summed up by what they need and have left.
#[derive(Clone, Debug, Default)]
pub struct UnreadableRows {
    groups: Vec<Group>,
    /// The share of bits of each disk that cannot be read.
    per_bit: Vec<f64>,
}

/// Rows over which the same disks count, with as many parities to spare.
#[derive(Clone, Debug)]
struct Group {
    within: DiskSet,
    spare: u32,
    bits: f64,
    /// For each disk in it, in order: bits times the bytes, and times the number, of its files there.
    parts: Vec<Part>,
}

#[derive(Clone, Copy, Debug)]
struct Part {
    disk: usize,
    bytes: f64,
    files: f64,
}

impl UnreadableRows {
    /// Sums the rows of a model up. `per_bit` gives for each of its disks the share of bits that cannot be read.
    pub fn new(model: &Model, per_bit: &[f64]) -> Self {
        let mut groups: HashMap<(DiskSet, i32), Group> = HashMap::new();
        for_each_pattern(model, |pattern| {
            if pattern.spare < 1 {
                return;
            }
            let within: DiskSet = pattern.within.iter().map(|(disk, _)| *disk).collect();
            let bits = pattern.rows.length() as f64 * (GRANULE * 8) as f64;
            let group = groups.entry((within, pattern.spare)).or_insert_with(|| Group {
                within,
                spare: pattern.spare.unsigned_abs(),
                bits: 0.0,
                parts: within
                    .iter()
                    .map(|disk| Part { disk: usize::from(disk.0), bytes: 0.0, files: 0.0 })
                    .collect(),
            });
            group.bits += bits;
            for (disk, size) in pattern.within {
                let Some(size) = size else { continue };
                if let Some(part) = group.parts.iter_mut().find(|part| part.disk == usize::from(disk.0)) {
                    part.bytes += bits * size.exact() as f64;
                    part.files += bits;
                }
            }
        });
        let mut groups: Vec<Group> = groups.into_values().collect();
        // Always in the same order, so that sums are the same to the last digit.
        groups.sort_by_key(|group| (group.within, group.spare));
        Self { groups, per_bit: per_bit.to_vec() }
    }

    /// What is to be expected while these are rebuilt: where as many parities can be used as lanes are missing, one
    /// more sector that cannot be read takes every missing lane of its row, and itself. Rows that were so with the
    /// disks lost `before` have been counted then.
    pub fn hazard(&self, before: &DiskSet, lost: &DiskSet) -> Hazard {
        let (mut events, mut bytes, mut files) = (0.0, 0.0, 0.0);
        let has_come_to_it = |group: &&Group| {
            group.within.count_in(lost) == group.spare && group.within.count_in(before) < group.spare
        };
        for group in self.groups.iter().filter(has_come_to_it) {
            let is_lost = |part: &&Part| lost.contains(DiskIndex(part.disk as u16));
            let rate = |part: &Part| self.per_bit.get(part.disk).copied().unwrap_or(0.0);
            let others: f64 = group.parts.iter().filter(|part| !is_lost(part)).map(rate).sum();
            events += group.bits * others;
            for part in &group.parts {
                let weight = if is_lost(&part) { others } else { rate(part) };
                bytes += weight * part.bytes;
                files += weight * part.files;
            }
        }
        let each = |sum: f64| if events > 0.0 { sum / events } else { 0.0 };
        Hazard { events, bytes_each: each(bytes), files_each: each(files) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pool::parse;
    use crate::units::ByteLength;

    #[test]
    fn a_sector_costs_something_only_where_nothing_is_spare() {
        let text = "[pool]\nname = \"p\"\n".to_string()
            + &["a", "b", "c", "o"]
                .map(|n| format!("[[disk]]\nname = \"{n}\"\ncapacity = \"1 GB\"\n"))
                .concat()
            + "[[volume]]\nname = \"v\"\nkind = \"unstriped\"\ndata = [\"a\", \"b\", \"c\"]\nparity = [\"o\"]\n";
        let spec = parse(&text).spec.unwrap();
        let mut volume = crate::paper::PaperVolume::new(&spec, &spec.volumes[0]).unwrap();
        for (path, granules) in [("on-a", 100), ("on-b", 60), ("on-c", 60)] {
            volume.add(path, ByteLength::new(granules * GRANULE)).unwrap();
        }
        let per_bit = [1e-9, 2e-9, 4e-9, 8e-9];
        let rows = UnreadableRows::new(volume.model(), &per_bit);
        let a: DiskSet = [DiskIndex(0)].into_iter().collect();
        let hazard = rows.hazard(&DiskSet::default(), &a);
        let bits = (GRANULE * 8) as f64;
        // 60 rows need b, c and the parity; the other 40 only the parity.
        let expected = bits * (60.0 * 14e-9 + 40.0 * 8e-9);
        assert!((hazard.events - expected).abs() < 1e-9, "{hazard:?}");
        // Each time the file on a is lost; and that of b or c when the sector was theirs.
        let files = bits * (60.0 * (14e-9 + 6e-9) + 40.0 * 8e-9) / expected;
        assert!((hazard.files_each - files).abs() < 1e-9);
        let sizes =
            bits * (GRANULE as f64) * (60.0 * (14e-9 * 100.0 + 6e-9 * 60.0) + 40.0 * 8e-9 * 100.0) / expected;
        assert!((hazard.bytes_each / sizes - 1.0).abs() < 1e-9);
        let both: DiskSet = [DiskIndex(0), DiskIndex(1)].into_iter().collect();
        let two = rows.hazard(&a, &both);
        assert!(two.events == 0.0, "where b lies two are lost anyway, and the rest was counted: {two:?}");
        let other_way = rows.hazard(&[DiskIndex(1)].into_iter().collect(), &both);
        assert!((other_way.events - bits * 40.0 * 8e-9).abs() < 1e-9, "{other_way:?}");
    }
}
