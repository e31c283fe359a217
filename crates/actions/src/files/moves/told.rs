//! What is told of files that moved: in the journal, and by the names that they have in their volume.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::pieces;
use sieve_catalogue::relocation::Move;
use sieve_core::count::Count;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::Result;
use sieve_pool::journal::{Did, Entry, PATHS};
use sieve_pool::pool::Pool;

/// A line of the journal.
#[derive(Serialize, JsonSchema)]
struct MovedFile<'a> {
    path: String,
    bytes: ByteLength,
    from: Vec<&'a String>,
    to: Vec<&'a String>,
}

/// The journal keeps every move.
pub(super) fn tell<'m>(pool: &Pool, moved: impl Iterator<Item = (&'m Move, &'m [RelPath])>) -> Result<()> {
    let disks = |ids: &mut dyn Iterator<Item = DiskId>| -> Result<Vec<&String>> {
        ids.map(|id| Ok(&pool.member(id)?.row.name)).collect()
    };
    let line = |(of, names): (&Move, &[RelPath])| {
        let name = names.first().zip(of.from.first());
        let path = name.map(|(name, source)| in_volume(pool, source.disk, name)).transpose()?;
        let from = disks(&mut of.from.iter().map(|source| source.disk))?;
        let to = disks(&mut of.to.disks().into_iter())?;
        Ok(MovedFile { path: path.unwrap_or_default(), bytes: of.size, from, to })
    };
    let lines: Vec<MovedFile<'_>> = moved.map(line).collect::<Result<_>>()?;
    let mut files = Count::default();
    lines.iter().for_each(|line| files.add(line.bytes));
    let mut entry = Entry::new(Did::Moved).files(files).detail(&lines)?;
    entry.paths = lines.into_iter().map(|line| line.path).take(PATHS).collect();
    pool.tell(entry)
}

/// What a file is called in its volume; a piece is told by its file.
pub(super) fn in_volume(pool: &Pool, disk: DiskId, name: &RelPath) -> Result<String> {
    let piece = name.is_piece().then(|| pieces::file_of(pool.catalogue.reading(), disk, &name.tree_key()));
    Ok(piece.transpose()?.flatten().unwrap_or_else(|| name.clone()).to_string())
}
