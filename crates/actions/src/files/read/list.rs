//! What lies in a volume.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::path::RelPath;
use sieve_core::path::shown_with_bytes;
use sieve_core::units::ByteLength;

use sieve_catalogue::{nodes, objects};
use sieve_disk::EntryKind;
use sieve_disk::Result;
use sieve_pool::fate::Unfinished;
use sieve_pool::pieces;
use sieve_pool::pieces::PiecedFile;
use sieve_pool::pool::Pool;

/// One line of a listing.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Entry {
    /// Where it is in the volume.
    #[serde(skip)]
    pub at: RelPath,
    /// The volume.
    pub volume: String,
    /// Its path.
    pub path: String,
    /// Its path as bytes in hexadecimal, where it is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path_hex: Option<String>,
    /// "file", "folder", "symlink" or "special".
    pub kind: &'static str,
    /// The disk that it lies on.
    pub disk: String,
    /// Its length.
    pub size_bytes: ByteLength,
    /// Its modification time, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub modified: i64,
}

/// Calls `visit` with everything below a folder, disk by disk in tree order.
///
/// # Errors
/// Those of `visit` and of the database.
pub fn list(
    pool: &Pool,
    volume: &str,
    folder: &RelPath,
    mut visit: impl FnMut(Entry) -> Result<()>,
) -> Result<()> {
    let mut shown: BTreeSet<Vec<u8>> = BTreeSet::new();
    let has_copies = has_copies(pool, volume)?;
    let unfinished = Unfinished::look(pool)?;
    for member in pool.file_members(volume) {
        let mut show = |path: &RelPath, kind, size, modified| {
            if has_copies && !shown.insert(path.tree_key()) {
                return Ok(());
            }
            let (text, path_hex) = shown_with_bytes(path);
            visit(Entry {
                at: path.clone(),
                volume: volume.into(),
                path: text,
                path_hex,
                kind,
                disk: member.row.name.clone(),
                size_bytes: size,
                modified,
            })
        };
        let reading = pool.catalogue.reading();
        nodes::for_each_at(reading, member.row.id, folder, |path, node| {
            if path.is_ours() {
                return Ok(()); // which a catalogue of an earlier version may have
            }
            let kind = match node.kind {
                EntryKind::Folder => "folder",
                EntryKind::Symlink => "symlink",
                _ => "special",
            };
            show(&path, kind, ByteLength::ZERO, node.attributes.mtime)
        })?;
        objects::for_each_name_at(reading, member.row.id, folder, |path, object| {
            if path.is_ours() || unfinished.has(member.row.id, &path) {
                return Ok(());
            }
            show(&path, "file", object.size, object.mtime)
        })?;
    }
    let pieced = pieces::files(pool, volume)?;
    pieced
        .iter()
        .filter(|file| file.path.is_within(folder) && !unfinished.has_pieced(&file.path))
        .try_for_each(|file| visit(of_pieces(pool, volume, file)?))
}

/// A file that lies in pieces.
fn of_pieces(pool: &Pool, volume: &str, file: &PiecedFile) -> Result<Entry> {
    let (path, path_hex) = shown_with_bytes(&file.path);
    let mut disks = Vec::new();
    for piece in &file.pieces {
        disks.push(pool.member(piece.disk)?.row.name.clone());
    }
    disks.dedup();
    let first = objects::by_path(pool.catalogue.reading(), file.pieces[0].disk, &file.pieces[0].path)?;
    Ok(Entry {
        at: file.path.clone(),
        volume: volume.into(),
        path,
        path_hex,
        kind: "file",
        disk: disks.join("+"),
        size_bytes: file.size,
        modified: first.map_or(0, |object| object.mtime),
    })
}

/// Whether a path may be on several disks of a volume without being in conflict.
fn has_copies(pool: &Pool, volume: &str) -> Result<bool> {
    let spec = pool.volume(Some(volume))?;
    Ok(spec.copies > 1 || spec.cache.copies > 1)
}
