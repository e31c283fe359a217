//! Completion in a shell: the words of the command line, and the names that the pool file at hand has.
//!
//! The shell asks the program itself, with a variable set: what it answers is always of this version and of this pool.

use clap_complete::engine::{ArgValueCandidates, CompletionCandidate};
use sieve_core::pool::{PoolSpec, parse};

/// Names of the disks of the pool file.
pub(crate) fn disks() -> ArgValueCandidates {
    ArgValueCandidates::new(|| names(|spec| spec.disks.iter().map(|disk| disk.name.clone()).collect()))
}

/// Names of its volumes.
pub(crate) fn volumes() -> ArgValueCandidates {
    ArgValueCandidates::new(|| names(|spec| spec.volumes.iter().map(|volume| volume.name.clone()).collect()))
}

/// A help and no more: without a pool file, or with one that has mistakes, nothing is offered.
fn names(of: impl Fn(&PoolSpec) -> Vec<String>) -> Vec<CompletionCandidate> {
    let text = std::fs::read_to_string(crate::load::pool_file(None));
    let spec = text.ok().and_then(|text| parse(&text).spec);
    spec.map(|spec| of(&spec)).unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
}
