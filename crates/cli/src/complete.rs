//! Completion in a shell: the words of the command line, and the names that the pool file at hand has.
//!
//! The shell asks the program itself, with a variable set: what it answers is always of this version and of this pool.

use std::collections::BTreeSet;
use std::ffi::OsStr;

use clap_complete::engine::{ArgValueCandidates, ArgValueCompleter, CompletionCandidate};
use sieve_catalogue::{Catalogue, objects};
use sieve_core::path::RelPath;
use sieve_core::pool::{PoolSpec, parse};
use sieve_pool::pool::catalogue_path;

/// So many paths are offered.
const MOST: usize = 500;

/// Names of the disks of the pool file.
pub(crate) fn disks() -> ArgValueCandidates {
    ArgValueCandidates::new(|| names(|spec| spec.disks.iter().map(|disk| disk.name.clone()).collect()))
}

/// Names of its volumes.
pub(crate) fn volumes() -> ArgValueCandidates {
    ArgValueCandidates::new(|| names(|spec| spec.volumes.iter().map(|volume| volume.name.clone()).collect()))
}

/// Names of results.
pub(crate) fn results() -> ArgValueCandidates {
    ArgValueCandidates::new(|| crate::json::names().into_iter().map(CompletionCandidate::new).collect())
}

/// Folders and files of the volumes, as the last scan knew them: no disk wakes for a completion.
pub(crate) fn paths() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let typed = typed.to_string_lossy();
        below(&typed).unwrap_or_default().into_iter().map(CompletionCandidate::new).collect::<Vec<_>>()
    })
}

/// What begins so; nothing where there is no catalogue, or it cannot be read.
fn below(typed: &str) -> Option<BTreeSet<String>> {
    let folder = typed.rsplit_once('/').map_or("", |(folder, _)| folder);
    let folder = RelPath::new(folder).ok()?;
    let catalogue = catalogue_path(&crate::load::pool_file(None));
    let catalogue = Catalogue::open_to_read(&catalogue, crate::machine::real()).ok()?;
    let mut found = BTreeSet::new();
    for disk in
        sieve_catalogue::disks::all(catalogue.reading()).ok()?.iter().filter(|disk| disk.role.holds_files())
    {
        let children = objects::children(catalogue.reading(), disk.id, &folder, MOST).ok()?;
        let texts = children.into_iter().filter_map(|(path, is_folder)| {
            let text = std::str::from_utf8(path.as_bytes()).ok()?.to_string();
            Some(if is_folder { text + "/" } else { text })
        });
        found.extend(texts.filter(|text| text.starts_with(typed) && !text.starts_with(".zinc-sieve")));
    }
    Some(found)
}

/// A help and no more: without a pool file, or with one that has mistakes, nothing is offered.
fn names(of: impl Fn(&PoolSpec) -> Vec<String>) -> Vec<CompletionCandidate> {
    let text = std::fs::read_to_string(crate::load::pool_file(None));
    let spec = text.ok().and_then(|text| parse(&text).spec);
    spec.map(|spec| of(&spec)).unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
}
