//! Putting files in: copied, synced, verified, and only then given their names.

mod copy;
mod plan;
mod source;
mod steady;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::amounts::Amounts;
use sieve_core::forecast::Forecast;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;

pub use copy::execute;
pub use plan::{NAMES_TAKEN, Wanted, plan, plan_origins};
pub use source::{Origin, Source};

use sieve_core::count::Count;
use sieve_disk::{EntryKind, Result};
use sieve_pool::copies::forecast_copies;
use sieve_pool::pool::Pool;

/// What is put where.
pub struct PutPlan {
    /// For each source the folder that it lies in.
    sources: Vec<Box<dyn Source>>,
    /// The folder of the volume that everything goes to.
    folder: RelPath,
    items: Vec<Item>,
    /// Files and bytes for each disk.
    pub by_disk: Vec<(String, Count)>,
    /// What is left alone, in words.
    pub skipped: Vec<String>,
    /// Files that are there already and are replaced; what they were is held.
    pub replaced: u64,
    /// Files that are there already, whole and the same: an earlier put was interrupted.
    pub there_already: u64,
}

/// A file that is to be put, and where.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PlannedFile {
    /// Its path in the volume.
    pub path: String,
    /// Its length.
    pub size_bytes: ByteLength,
    /// The disk that it goes to, or those of its pieces; further copies go where there is room then.
    pub disks: Vec<String>,
}

/// One file, symlink or folder. There may be millions, so it is kept small.
struct Item {
    /// Its path below the folder of its source, and below the folder that it goes to.
    path: RelPath,
    size: ByteLength,
    kind: EntryKind,
    source: u32,
    /// The member it goes to, by its position in the pool.
    member: u16,
    /// It takes the place of the file of this name on that member.
    replaces: Option<u16>,
    /// It is a further name of this file, which is put as well.
    link_of: Option<Box<RelPath>>,
    /// It goes in pieces: the members, and how much each takes.
    pieces: Option<Box<[(u16, ByteLength)]>>,
}

impl PutPlan {
    /// What matters of it: which file goes where.
    pub fn essence(&self) -> serde_json::Value {
        let item = |item: &Item| (item.path.to_string(), item.size, item.member, item.replaces);
        serde_json::json!([self.items.iter().map(item).collect::<Vec<_>>(), self.skipped, self.replaced])
    }

    /// How long it is likely to take: each byte is written and read back. What the sources give is not known.
    ///
    /// # Errors
    /// When the measured curves are damaged.
    pub fn forecast(&self, pool: &Pool) -> Result<Forecast> {
        let written = self.by_disk.iter().map(|(disk, amount)| (disk.clone(), amount.bytes)).collect();
        forecast_copies(pool, &Amounts::new(), &written)
    }

    /// Every file with where it goes, in the order in which they are copied.
    pub fn files<'a>(&'a self, pool: &'a Pool) -> impl Iterator<Item = PlannedFile> + 'a {
        let name = |member: u16| pool.members[usize::from(member)].row.name.clone();
        self.items.iter().filter(|item| item.kind == EntryKind::File).map(move |item| PlannedFile {
            path: self.target(&item.path).to_string(),
            size_bytes: item.size,
            disks: match &item.pieces {
                Some(pieces) => pieces.iter().map(|(member, _)| name(*member)).collect(),
                None => vec![name(item.member)],
            },
        })
    }

    fn source(&self, item: &Item) -> &dyn Source {
        &*self.sources[item.source as usize]
    }

    /// Where a folder of the volume comes from, below the folder of its source, if anything of it comes at all.
    fn origin(&self, target: &RelPath) -> Option<RelPath> {
        let rest = target.as_bytes().strip_prefix(self.folder.as_bytes())?;
        let origin = RelPath::new(rest.strip_prefix(b"/").unwrap_or(rest)).ok()?;
        (!origin.is_root()).then_some(origin)
    }

    /// Where something goes, by its path below the folder of its source.
    fn target(&self, path: &RelPath) -> RelPath {
        path.below(&self.folder)
    }
}

/// What was put.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct PutReport {
    /// Files and bytes for each disk.
    #[serde(serialize_with = "sieve_core::pairs::by_name")]
    #[schemars(with = "std::collections::BTreeMap<String, Count>")]
    pub by_disk: Vec<(String, Count)>,
    /// What was left alone, in words.
    pub skipped: Vec<String>,
    /// Files that were replaced.
    pub replaced: u64,
    /// Files that were there already, whole and the same.
    pub there_already: u64,
    /// It was asked to stop: what is told was copied before, and the same put goes on from there.
    pub stopped: bool,
}

impl PutReport {
    /// What a plan is about to do.
    pub fn intended(plan: &PutPlan) -> Self {
        Self {
            by_disk: plan.by_disk.clone(),
            skipped: plan.skipped.clone(),
            replaced: plan.replaced,
            there_already: plan.there_already,
            stopped: false,
        }
    }
}
