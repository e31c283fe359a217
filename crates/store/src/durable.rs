//! Giving files their names so that a power cut leaves the old state or the new, never neither.

use sieve_core::path::RelPath;

use crate::disk::Disk;
use crate::error::Result;

/// Gives the finished and synced file at `from` its name `to`, which must be free.
///
/// # Crash safety
/// On return the name is durable. A crash before leaves the file under one of the two names.
///
/// # Errors
/// When `to` exists, or what the disk says.
pub fn publish(disk: &dyn Disk, from: &RelPath, to: &RelPath) -> Result<()> {
    disk.rename(from, to)?;
    sync_parents(disk, [from, to])
}

/// Gives the finished and synced file at `from` the name `to` in place of what has it.
///
/// # Crash safety
/// On return the new file is durable under its name. A crash before leaves the old one or the new one there.
///
/// # Errors
/// What the disk says.
pub fn publish_over(disk: &dyn Disk, from: &RelPath, to: &RelPath) -> Result<()> {
    disk.replace(from, to)?;
    sync_parents(disk, [from, to])
}

/// Makes the names in the folders of these paths durable.
///
/// # Errors
/// What the disk says.
pub fn sync_parents<'a>(disk: &dyn Disk, paths: impl IntoIterator<Item = &'a RelPath>) -> Result<()> {
    let mut folders: Vec<RelPath> = paths.into_iter().filter_map(RelPath::parent).collect();
    folders.sort_unstable();
    folders.dedup();
    folders.iter().try_for_each(|folder| disk.sync_folder(folder))
}

/// Writes a small file of ours, whole or not at all.
///
/// # Crash safety
/// As [`publish_over`]; a crash may leave `PATH.new` behind, which the next call overwrites.
///
/// # Errors
/// What the disk says.
pub fn write_file(disk: &dyn Disk, path: &RelPath, bytes: &[u8]) -> Result<()> {
    let mut name = path.as_bytes().to_vec();
    name.extend_from_slice(b".new");
    let new = RelPath::new(name).expect("a valid path with a suffix is one");
    let mut file = disk.modify(&new)?;
    file.set_length(0)?;
    file.write_at(bytes, 0)?;
    file.sync()?;
    publish_over(disk, &new, path)
}

/// Creates a folder and the folders it lies in, durably; tells which ones are new, the outermost first.
///
/// # Errors
/// What the disk says, also when something else has one of the names.
pub fn make_folders(disk: &dyn Disk, path: &RelPath) -> Result<Vec<RelPath>> {
    let mut made = Vec::new();
    let mut folder = RelPath::ROOT;
    for name in path.components() {
        let parent = folder.clone();
        folder = folder.join(name).expect("components of a valid path are valid");
        if disk.make_folder(&folder)? {
            disk.sync_folder(&parent)?;
            made.push(folder.clone());
        }
    }
    Ok(made)
}
