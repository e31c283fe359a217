//! What is adopted, from where, and what came of it.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::Catalogue;
use sieve_catalogue::label::Role;
use sieve_pool::scan::ScanReport;

/// A member, and where it is now.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct AdoptedMember {
    /// Its name.
    #[serde(rename = "disk")]
    pub name: String,
    /// Its volume.
    pub volume: String,
    /// What it does there.
    pub role: Role,
    /// Where it is; none when it is missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(rename = "path")]
    pub at: Option<String>,
    /// The checkpoint that the catalogue on it is of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub checkpoint: Option<u64>,
}

/// Which catalogue is used.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(tag = "source", rename_all = "kebab-case")]
pub enum CatalogueSource {
    /// The one beside the pool file: it knows all that the disks know.
    Home,
    /// The newest replica.
    Replica {
        /// The disk that it lies on.
        disk: String,
        /// There is an older one beside the pool file, which is kept under another name.
        replaces_older: bool,
    },
}

/// Where the text of the pool file comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PoolFileSource {
    /// The one that is there, with new paths.
    Home,
    /// The one that the disks carry, with new paths.
    Disks,
    /// Made of what the catalogue knows.
    Catalogue,
}

/// What will be done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct AdoptPlan {
    /// The pool.
    pub pool: String,
    /// Its members, those that are missing too.
    pub members: Vec<AdoptedMember>,
    /// The number of the newest checkpoint.
    pub checkpoint: u64,
    /// The catalogue that is used.
    pub catalogue: CatalogueSource,
    /// Where the pool file comes from.
    pub pool_file: PoolFileSource,
    /// Folders that were named and are no members of any pool.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub passed_over: Vec<String>,
}

/// How it ended.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct AdoptReport {
    /// What was done.
    pub plan: AdoptPlan,
    /// What happened on the disks since.
    pub scans: Vec<ScanReport>,
}

/// A pool that can be adopted.
pub struct Prepared {
    /// What will be done.
    pub plan: AdoptPlan,
    pub(super) text: String,
    pub(super) take: Option<Catalogue>,
}
