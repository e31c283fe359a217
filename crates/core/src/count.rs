//! Files and bytes, by fate.

use crate::fate::Fate;
use crate::units::ByteLength;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Files and bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Count {
    /// Names of files.
    pub files: u64,
    /// Their bytes; a file with several names counts under each.
    pub bytes: ByteLength,
}

impl Count {
    /// Counts one more file.
    pub fn add(&mut self, bytes: ByteLength) {
        self.files += 1;
        self.bytes = self.bytes.plus(bytes);
    }

    /// Both together.
    #[must_use]
    pub const fn plus(self, other: Self) -> Self {
        Self { files: self.files + other.files, bytes: self.bytes.plus(other.bytes) }
    }
}

/// Files and bytes by fate.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Totals {
    /// On disks that are not lost.
    pub untouched: Count,
    /// Their present content comes back.
    pub rebuilt: Count,
    /// The content of the last sync comes back.
    pub older: Count,
    /// Some pieces come back.
    pub torn: Count,
    /// Nothing comes back.
    pub gone: Count,
}

impl Totals {
    /// The count of one fate.
    pub fn of(&self, fate: Fate) -> Count {
        match fate {
            Fate::Untouched => self.untouched,
            Fate::Rebuilt => self.rebuilt,
            Fate::Older => self.older,
            Fate::Torn => self.torn,
            Fate::Gone => self.gone,
        }
    }

    /// Counts one more file.
    pub fn add(&mut self, fate: Fate, bytes: ByteLength) {
        match fate {
            Fate::Untouched => &mut self.untouched,
            Fate::Rebuilt => &mut self.rebuilt,
            Fate::Older => &mut self.older,
            Fate::Torn => &mut self.torn,
            Fate::Gone => &mut self.gone,
        }
        .add(bytes);
    }

    /// How many files in all.
    pub const fn files(&self) -> u64 {
        self.untouched.files + self.rebuilt.files + self.older.files + self.torn.files + self.gone.files
    }

    /// Whether the present content of every file survives.
    pub fn all_survive(&self) -> bool {
        self.older.files + self.torn.files + self.gone.files == 0
    }
}

/// "1 file", "2 files": a number with the thing that is counted; its plural ends in s.
pub fn so_many(number: u64, thing: &str) -> String {
    if number == 1 { format!("1 {thing}") } else { format!("{number} {thing}s") }
}
