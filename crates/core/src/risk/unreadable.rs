//! How often an unreadable sector costs something while disks are rebuilt.

use crate::fate::{Model, for_each_pattern};

use super::process::Hazard;
use crate::units::GRANULE;

/// Unreadable sectors to be expected while one disk, or a pair, is rebuilt, by the position of the disks in the list
/// that was given.
#[derive(Clone, Debug, Default)]
pub struct UnreadableRisk {
    /// By the disk that failed.
    pub single: Vec<Hazard>,
    /// By the two that failed.
    pub pair: Vec<Vec<Hazard>>,
}

/// Expected events, bytes and files, summed up.
#[derive(Clone, Copy, Default)]
struct Sum {
    events: f64,
    bytes: f64,
    files: f64,
}

impl Sum {
    fn plus(self, other: Self) -> Self {
        Self {
            events: self.events + other.events,
            bytes: self.bytes + other.bytes,
            files: self.files + other.files,
        }
    }

    /// Adds so many bits of rows in which these are lost: a sector of any of the others costs it and them.
    fn add(&mut self, bits: f64, all: &Self, lost: &[&Part]) {
        let own = lost.iter().map(|part| part.weighed()).fold(Self::default(), Self::plus);
        let others = (all.events - own.events).max(0.0);
        let bytes: f64 = lost.iter().map(|part| part.bytes()).sum();
        let files: f64 = lost.iter().map(|part| part.files()).sum();
        self.events += bits * others;
        self.bytes += bits * (others * bytes + (all.bytes - own.bytes).max(0.0));
        self.files += bits * (others * files + (all.files - own.files).max(0.0));
    }

    fn hazard(self) -> Hazard {
        let each = |sum: f64| if self.events > 0.0 { sum / self.events } else { 0.0 };
        Hazard { events: self.events, bytes_each: each(self.bytes), files_each: each(self.files) }
    }
}

/// What one disk has in a row.
#[derive(Clone, Copy)]
struct Part {
    disk: usize,
    /// The share of its bits that cannot be read.
    per_bit: f64,
    /// The size of its file there; nothing for a parity disk.
    file: Option<f64>,
}

impl Part {
    fn bytes(&self) -> f64 {
        self.file.unwrap_or(0.0)
    }

    fn files(&self) -> f64 {
        f64::from(u8::from(self.file.is_some()))
    }

    /// What is lost of its own, each weighed with how likely it is.
    fn weighed(&self) -> Sum {
        Sum { events: self.per_bit, bytes: self.per_bit * self.bytes(), files: self.per_bit * self.files() }
    }
}

/// Computes them from the rows: where as many parities can be used as lanes are missing, one more sector that cannot be
/// read takes every missing lane of its row, and itself.
///
/// `per_bit` gives for each disk of the model the share of its bits that cannot be read.
pub fn unreadable_risk(model: &Model, disks: usize, per_bit: &[f64]) -> UnreadableRisk {
    let mut single = vec![Sum::default(); disks];
    let mut pair = vec![vec![Sum::default(); disks]; disks];
    let mut parts: Vec<Part> = Vec::new();
    for_each_pattern(model, |pattern| {
        if !(1..=2).contains(&pattern.spare) {
            return;
        }
        let bits = pattern.rows.length() as f64 * (GRANULE * 8) as f64;
        parts.clear();
        parts.extend(pattern.within.iter().map(|(disk, size)| Part {
            disk: usize::from(disk.0),
            per_bit: per_bit.get(usize::from(disk.0)).copied().unwrap_or(0.0),
            file: size.map(|size| size.exact() as f64),
        }));
        let all = parts.iter().map(Part::weighed).fold(Sum::default(), Sum::plus);
        if pattern.spare == 1 {
            for lost in &parts {
                single[lost.disk].add(bits, &all, &[lost]);
            }
            return;
        }
        for (position, one) in parts.iter().enumerate() {
            for other in &parts[position + 1..] {
                pair[one.disk][other.disk].add(bits, &all, &[one, other]);
            }
        }
    });
    let mut risk = UnreadableRisk {
        single: single.into_iter().map(Sum::hazard).collect(),
        pair: pair.into_iter().map(|row| row.into_iter().map(Sum::hazard).collect()).collect(),
    };
    // Lanes come before parities, so each pair was counted one way round only.
    for one in 0..disks {
        for other in one + 1..disks {
            let found = if risk.pair[one][other].events > 0.0 {
                risk.pair[one][other]
            } else {
                risk.pair[other][one]
            };
            (risk.pair[one][other], risk.pair[other][one]) = (found, found);
        }
    }
    risk
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
        let risk = unreadable_risk(volume.model(), 4, &per_bit);
        let bits = (GRANULE * 8) as f64;
        // 60 rows need b, c and the parity; the other 40 only the parity.
        let expected = bits * (60.0 * 14e-9 + 40.0 * 8e-9);
        assert!((risk.single[0].events - expected).abs() < 1e-9, "{:?}", risk.single[0]);
        // Each time the file on a is lost; and that of b or c when the sector was theirs.
        let files = bits * (60.0 * (14e-9 + 6e-9) + 40.0 * 8e-9) / expected;
        assert!((risk.single[0].files_each - files).abs() < 1e-9);
        assert!(risk.pair.iter().flatten().all(|hazard| hazard.events == 0.0), "two losses are lost anyway");
    }
}
