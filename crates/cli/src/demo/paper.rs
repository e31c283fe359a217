//! A pool on paper of realistic size: seven disks and 40,000 files, from a small seeded generator.

use std::fmt::Write as _;

use sieve_core::count::Count;
use sieve_core::units::ByteLength;
use sieve_disk::Result;

use super::stage::{Stage, write_file};

/// Files in the listing.
const FILES: u64 = 40_000;
/// What each kind of file is like: folder, suffix, how often of 100, the least and the most bytes.
const KINDS: [(&str, &str, u64, u64, u64); 4] = [
    ("dawn-chorus", "flac", 40, 60_000_000, 2_400_000_000),
    ("nest-cams", "mkv", 25, 500_000_000, 6_000_000_000),
    ("herbarium", "tiff", 25, 30_000_000, 180_000_000),
    ("field-notes", "txt", 10, 200, 60_000),
];

const POOL: &str = r#"# The archive at Fernhollow as it might be next year: nothing of it is bought yet.
[pool]
name = "fernhollow-next"

[[disk]]
name = "alder"
capacity = "12 TB"
price = "229 EUR"

[[disk]]
name = "beech"
capacity = "12 TB"
price = "229 EUR"

[[disk]]
name = "cedar"
capacity = "8 TB"
price = "169 EUR"

[[disk]]
name = "elm"
capacity = "8 TB"
price = "169 EUR"

[[disk]]
name = "fir"
capacity = "6 TB"
price = "139 EUR"

[[disk]]
name = "oak"
capacity = "12 TB"
price = "229 EUR"

[[disk]]
name = "pine"
capacity = "12 TB"
price = "229 EUR"

[[volume]]
name = "recordings"
kind = "unstriped"
data = ["alder", "beech", "cedar", "elm", "fir"]
parity = ["oak", "pine"]
placement = "emptiest"
"#;

/// Numbers that are the same in every run (a linear congruential generator, D. Knuth's constants).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % sides.max(1)
    }
}

/// Writes `pool.toml` and `listing.csv`; tells how many files and bytes are listed.
pub(super) fn write(stage: &Stage) -> Result<Count> {
    write_file(&stage.path("pool.toml"), POOL.as_bytes())?;
    let mut dice = Dice(2031);
    let mut listing = String::from("path,size_bytes,modified\n");
    let mut count = Count::default();
    for number in 0..FILES {
        let mut kind = dice.roll(100);
        let (folder, suffix, _, least, most) = KINDS
            .into_iter()
            .find(|(_, _, share, ..)| {
                let hit = kind < *share;
                kind = kind.saturating_sub(*share);
                hit
            })
            .unwrap_or(KINDS[0]);
        // Small files are more frequent than large ones.
        let span = most - least;
        let size = least + span / 1000 * dice.roll(1000) * dice.roll(1000) / 1000;
        let (year, month, day) = (2026 + dice.roll(5), 1 + dice.roll(12), 1 + dice.roll(28));
        writeln!(
            listing,
            "{folder}/{year}-{month:02}/{day:02}-{number:05}.{suffix},{size},{year}-{month:02}-{day:02}"
        )
        .expect("writing to text works");
        count.add(ByteLength::new(size));
    }
    write_file(&stage.path("listing.csv"), listing.as_bytes())?;
    Ok(count)
}
