//! One line of the journal, as a type that can be read back.

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;
use sieve_core::amounts::Amounts;
use sieve_core::count::Count;
use sieve_core::forecast::Forecast;
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};

/// The version of what is written; lines without one are of the first.
pub const VERSION: u32 = 3;

/// Paths in one line: a work that touches more writes several lines.
pub const PATHS: usize = 256;

macro_rules! did {
    ($($(#[$doc:meta])* $name:ident = $word:literal,)*) => {
        /// What was done. What a later program writes and this one does not know keeps its word.
        #[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
        pub enum Did { $($(#[$doc])* $name,)* /** Something that this program does not know. */ Other(String) }

        impl Did {
            /// All that this program writes.
            pub const ALL: &[Self] = &[$(Self::$name),*];

            /// The word for it.
            pub fn word(&self) -> &str {
                match self { $(Self::$name => $word,)* Self::Other(word) => word }
            }

            /// What a word stands for.
            pub fn of(word: &str) -> Self {
                match word { $($word => Self::$name,)* other => Self::Other(other.to_string()) }
            }
        }
    };
}

did! {
    /// The pool, or a volume of it, was made.
    Create = "create",
    /// A pool was taken up from its disks.
    Adopt = "adopt",
    /// A disk was added.
    Grow = "grow",
    /// A disk was replaced by another.
    Replace = "replace",
    /// A disk left.
    Vacate = "vacate",
    /// A volume became one of another kind.
    Convert = "convert",
    /// A volume was ended.
    Dissolve = "dissolve",
    /// The traces of a pool were taken off a former member.
    Wipe = "wipe",
    /// Lost disks were brought back.
    Rebuild = "rebuild",
    /// New names of the pool file were followed.
    Renamed = "renamed",
    /// Files were copied in.
    Put = "put",
    /// Files were removed.
    Remove = "rm",
    /// Paths that were removed by us.
    Removed = "removed",
    /// Paths whose content was replaced by us.
    Replaced = "replaced",
    /// What was removed or replaced was brought back.
    Restore = "restore",
    /// What waited went to its place.
    Settle = "settle",
    /// Files went from one data disk to another.
    Shift = "shift",
    /// Files that were moved.
    Moved = "moved",
    /// Parity was brought up to the present.
    Sync = "sync",
    /// Contents and parity were read and compared.
    Verify = "verify",
    /// Damage was mended.
    Mend = "mend",
    /// A prediction was proven.
    Drill = "drill",
    /// A disk tested itself.
    SelfTest = "self-test",
    /// A page about the pool was written.
    Report = "report",
    /// A content was written over through a mounted volume without its past.
    WrittenInPlace = "written-in-place",
    /// A condition began, went on, or ended.
    Notice = "notice",
    /// The agenda passed over a job, or could not do it.
    Agenda = "agenda",
}

impl Serialize for Did {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.serialize_str(self.word())
    }
}

impl<'de> Deserialize<'de> for Did {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        Ok(Self::of(&String::deserialize(deserializer)?))
    }
}

/// How it ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Ended {
    /// As it was meant to.
    #[default]
    Done,
    /// To its end, and not all is well.
    NotWell,
    /// It was asked to stop before its end.
    Stopped,
    /// A rule forbade it; nothing was done.
    Refused,
    /// A disk or a file failed.
    Failed,
}

impl Ended {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::NotWell => "not well",
            Self::Stopped => "stopped",
            Self::Refused => "refused",
            Self::Failed => "failed",
        }
    }

    /// How a work ended that was stopped, or found that not all is well.
    pub const fn of(stopped: bool, well: bool) -> Self {
        match (stopped, well) {
            (true, _) => Self::Stopped,
            (false, true) => Self::Done,
            (false, false) => Self::NotWell,
        }
    }

    /// How a work ended with an error.
    pub const fn with(kind: Kind) -> Self {
        match kind {
            Kind::Stopped => Self::Stopped,
            Kind::Usage | Kind::NotFound | Kind::Conflict | Kind::Safety => Self::Refused,
            Kind::Corrupt | Kind::Io | Kind::Internal => Self::Failed,
        }
    }
}

/// What happened.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Entry {
    /// The version of the line.
    #[serde(default = "first")]
    pub version: u32,
    /// When it had ended: nanoseconds since 1970 here, text in the file; version 2 and before had nanoseconds there as well.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub at: i64,
    /// What was done.
    #[schemars(with = "String")]
    pub did: Did,
    /// How it ended.
    #[serde(default)]
    pub ended: Ended,
    /// Seconds that it took.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
    /// Seconds that it was likely to take.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub forecast_seconds: Option<f64>,
    /// What was read of each disk.
    #[serde(default, skip_serializing_if = "Amounts::is_empty")]
    pub read_bytes: Amounts,
    /// What was written to each disk.
    #[serde(default, skip_serializing_if = "Amounts::is_empty")]
    pub written_bytes: Amounts,
    /// The files that it was about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub files: Option<Count>,
    /// The disks that it was about, beside those that it read or wrote.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub disks: Vec<String>,
    /// The paths that it was about, in the volume, at most [`PATHS`].
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub paths: Vec<String>,
    /// The job of the agenda that had it done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<String>,
    /// What there is to say of it, in one sentence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub said: Option<String>,
    /// The whole result, as `--json` of the command has it.
    #[serde(default, skip_serializing_if = "Value::is_null")]
    pub detail: Value,
}

const fn first() -> u32 {
    1
}

impl Entry {
    /// Something that was done, with nothing more to say of it yet; when is written with it.
    pub const fn new(did: Did) -> Self {
        Self {
            version: VERSION,
            at: 0,
            did,
            ended: Ended::Done,
            seconds: None,
            forecast_seconds: None,
            read_bytes: Amounts::new(),
            written_bytes: Amounts::new(),
            files: None,
            disks: Vec::new(),
            paths: Vec::new(),
            job: None,
            said: None,
            detail: Value::Null,
        }
    }

    /// With the whole result.
    ///
    /// # Errors
    /// When it cannot be written as JSON: a mistake in the program.
    pub fn detail<T: Serialize>(mut self, detail: &T) -> Result<Self> {
        self.detail = serde_json::to_value(detail)
            .map_err(|e| Error::new(Kind::Internal, "journal.write", format!("the journal: {e}")))?;
        Ok(self)
    }

    /// With the time that it took.
    #[must_use]
    pub const fn took(mut self, seconds: f64) -> Self {
        self.seconds = Some(seconds);
        self
    }

    /// With the time that it was likely to take.
    #[must_use]
    pub const fn expected(mut self, forecast: &Forecast) -> Self {
        self.forecast_seconds = Some(forecast.likely.seconds());
        self
    }

    /// With what flowed.
    #[must_use]
    pub fn moved(mut self, bytes: (&Amounts, &Amounts)) -> Self {
        let some = |map: &Amounts| {
            map.iter().filter(|(_, b)| *b > ByteLength::ZERO).map(|(n, b)| (n.clone(), b)).collect()
        };
        (self.read_bytes, self.written_bytes) = (some(bytes.0), some(bytes.1));
        self
    }

    /// With the files that it was about.
    #[must_use]
    pub const fn files(mut self, files: Count) -> Self {
        self.files = Some(files);
        self
    }

    /// With how it ended.
    #[must_use]
    pub const fn ended(mut self, ended: Ended) -> Self {
        self.ended = ended;
        self
    }

    /// With the disks that it was about.
    #[must_use]
    pub fn on<N: AsRef<str>>(mut self, disks: impl IntoIterator<Item = N>) -> Self {
        self.disks = disks.into_iter().map(|name| name.as_ref().to_string()).collect();
        self
    }

    /// Whether it came to its end, whatever it found.
    pub const fn has_ended(&self) -> bool {
        matches!(self.ended, Ended::Done | Ended::NotWell)
    }

    /// Whether a disk took part in it.
    pub fn is_about_disk(&self, name: &str) -> bool {
        self.disks.iter().any(|disk| disk == name)
            || self.read_bytes.get(name).is_some()
            || self.written_bytes.get(name).is_some()
    }

    /// All that was written.
    pub fn written(&self) -> ByteLength {
        self.written_bytes.total()
    }

    /// All that was read.
    pub fn read(&self) -> ByteLength {
        self.read_bytes.total()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_read_back_as_it_was() {
        let mut entry = Entry::new(Did::Sync).took(1.5).on(["alder"]).ended(Ended::NotWell);
        entry.said = Some("two cells are damaged".into());
        entry.detail = serde_json::json!({ "cells": 3 });
        let text = serde_json::to_string(&entry).unwrap();
        assert_eq!(serde_json::from_str::<Entry>(&text).unwrap(), entry);
    }

    #[test]
    fn lines_of_the_first_version_and_of_later_programs_are_read() {
        let old: Entry = serde_json::from_str(r#"{"at":5,"did":"settle","detail":{"seconds":2.0}}"#).unwrap();
        assert_eq!((old.version, old.did, old.ended), (1, Did::Settle, Ended::Done));
        let new: Entry = serde_json::from_str(r#"{"version":9,"at":5,"did":"juggle","spin":true}"#).unwrap();
        assert_eq!(new.did, Did::Other("juggle".into()));
    }

    #[test]
    fn every_word_stands_for_one_thing() {
        for did in Did::ALL {
            assert_eq!(Did::of(did.word()), *did);
        }
    }
}
