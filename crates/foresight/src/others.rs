//! What of a pool is also on other machines, by the listings that its file names.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::count::Count;
use sieve_core::pool::{ElsewhereSpec, PoolSpec};
use sieve_disk::{Error, Result};
use sieve_pool::fate::FileFate;

use crate::{Backup, Found, Outlook};

/// Nanoseconds in a day.
const DAY: f64 = 86_400e9;

/// Another machine, with its listing read.
pub struct Other {
    /// What the pool file says of it.
    pub spec: ElsewhereSpec,
    /// When the listing was written, nanoseconds since 1970.
    pub as_of: i64,
    /// It is older than it may be.
    pub is_stale: bool,
    backup: Backup,
}

/// A listing that cannot be read now.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Unread {
    /// The machine.
    pub name: String,
    /// Why.
    pub why: String,
}

/// The other machines of a pool.
pub struct Others {
    /// Those whose listing was read.
    pub known: Vec<Other>,
    /// Those whose listing was not.
    pub unread: Vec<Unread>,
}

/// Whether a file is also elsewhere.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kept {
    /// No other machine has it.
    Nowhere,
    /// No other machine has it, and one has something else under its path, or something that cannot be compared.
    Differs,
    /// Only on machines that stand here as well.
    OnSite,
    /// Only off-site.
    OffSite,
    /// On machines here and off-site.
    Both,
}

impl Kept {
    /// All of them, the worst first.
    pub const ALL: [Self; 5] = [Self::Nowhere, Self::Differs, Self::OnSite, Self::OffSite, Self::Both];

    /// Whether another machine has it.
    pub const fn is_elsewhere(self) -> bool {
        !matches!(self, Self::Nowhere | Self::Differs)
    }

    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Nowhere => "nowhere",
            Self::Differs => "differs",
            Self::OnSite => "on-site",
            Self::OffSite => "off-site",
            Self::Both => "both",
        }
    }
}

/// Files and bytes, by whether they are elsewhere.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct KeptTotals(pub BTreeMap<Kept, Count>);

impl KeptTotals {
    /// Of one kind.
    pub fn of(&self, kept: Kept) -> Count {
        self.0.get(&kept).copied().unwrap_or_default()
    }

    /// What another machine has.
    pub fn elsewhere(&self) -> Count {
        self.sum(Kept::is_elsewhere)
    }

    /// What none has as it is here.
    pub fn only_here(&self) -> Count {
        self.sum(|kept| !kept.is_elsewhere())
    }

    /// All of it.
    pub fn all(&self) -> Count {
        self.sum(|_| true)
    }

    fn sum(&self, is_meant: impl Fn(Kept) -> bool) -> Count {
        let meant = self.0.iter().filter(|(kept, _)| is_meant(**kept));
        meant.fold(Count::default(), |sum, (_, count)| sum.plus(*count))
    }
}

impl Others {
    /// Reads the listings. One that cannot be read is told, and the others count.
    pub fn read(spec: &PoolSpec, pool_file: &Path, now: i64) -> Self {
        let mut others = Self { known: Vec::new(), unread: Vec::new() };
        for other in &spec.elsewhere {
            match read_one(other, pool_file, now) {
                Ok(other) => others.known.push(other),
                Err(error) => {
                    others.unread.push(Unread { name: other.name.clone(), why: error.to_string() });
                }
            }
        }
        others
    }

    /// Whether the pool file names no other machine.
    pub fn is_empty(&self) -> bool {
        self.known.is_empty() && self.unread.is_empty()
    }

    /// Whether a file is elsewhere, and on which machines.
    ///
    /// # Errors
    /// What the database says.
    pub fn find(&self, outlook: &dyn Outlook, file: &FileFate<'_>) -> Result<(Kept, Vec<&str>)> {
        let checksum = file.content.map(|content| outlook.checksum(content)).transpose()?.flatten();
        let (mut on, mut differs, mut here, mut away) = (Vec::new(), false, false, false);
        for other in &self.known {
            match other.backup.find(&file.path, file.size_bytes.exact(), checksum) {
                Found::There { .. } | Found::Moved { .. } => {
                    on.push(other.spec.name.as_str());
                    *(if other.spec.off_site { &mut away } else { &mut here }) = true;
                }
                Found::Differs { .. } => differs = true,
                Found::Nowhere => {}
            }
        }
        let kept = match (here, away) {
            (true, true) => Kept::Both,
            (true, false) => Kept::OnSite,
            (false, true) => Kept::OffSite,
            (false, false) if differs => Kept::Differs,
            (false, false) => Kept::Nowhere,
        };
        Ok((kept, on))
    }

    /// Sums all files of a pool up, whatever becomes of them.
    ///
    /// # Errors
    /// What a disk or the database says.
    pub fn totals(&self, outlook: &dyn Outlook) -> Result<KeptTotals> {
        let mut totals = KeptTotals::default();
        outlook.for_each_file(&mut |file| {
            totals.0.entry(self.find(outlook, &file)?.0).or_default().add(file.size_bytes);
            Ok(())
        })?;
        Ok(totals)
    }

    /// The names of machines whose listing is too old.
    pub fn stale(&self) -> impl Iterator<Item = &str> {
        self.known.iter().filter(|other| other.is_stale).map(|other| other.spec.name.as_str())
    }
}

impl Other {
    /// How many files it lists.
    pub const fn files(&self) -> usize {
        self.backup.files()
    }
}

fn read_one(spec: &ElsewhereSpec, pool_file: &Path, now: i64) -> Result<Other> {
    let path = listing_of(spec, pool_file);
    let written = std::fs::metadata(&path)
        .and_then(|meta| meta.modified())
        .map_err(|e| Error::io("elsewhere.listing", &path, e))?;
    let since = written.duration_since(UNIX_EPOCH).unwrap_or_default();
    let as_of = i64::try_from(since.as_nanos()).unwrap_or(i64::MAX);
    let age_in_days = now.saturating_sub(as_of) as f64 / DAY;
    Ok(Other {
        backup: Backup::read_below(&path, spec.below.as_deref())?,
        is_stale: age_in_days > spec.stale_after,
        as_of,
        spec: spec.clone(),
    })
}

fn listing_of(spec: &ElsewhereSpec, pool_file: &Path) -> PathBuf {
    pool_file.parent().unwrap_or(Path::new("/")).join(&spec.listing)
}
