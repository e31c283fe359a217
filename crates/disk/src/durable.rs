//! Giving files their names so that a power cut leaves the old state or the new, never neither; and folders that are never
//! more open than what they stand for.

use std::collections::BTreeMap;
use std::sync::Arc;

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use crate::Result;
use crate::WriteFile;
use crate::{Attributes, Disk, EntryKind};

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

/// Gives the finished and synced file at `from`, one of our own, the name `to` in place of one of our own that has it.
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

/// So many files are made durable one by one; of more, the whole filesystem is in one go: each wait is as long as the disk
/// takes to turn, however little is written.
pub const ONE_BY_ONE: usize = 8;

/// Cuts files into runs that become durable together: at most so many, and no further one after so many bytes.
pub fn batches<T>(
    files: &[T],
    (most, bytes): (usize, u64),
    size: impl Fn(&T) -> u64,
) -> impl Iterator<Item = &[T]> {
    let mut rest = files;
    std::iter::from_fn(move || {
        let mut sum = 0;
        let full = rest.iter().position(|file| {
            sum += size(file);
            sum >= bytes
        });
        let count = full.map_or(rest.len(), |last| last + 1).min(most);
        let (batch, later) = rest.split_at(count);
        rest = later;
        (!batch.is_empty()).then_some(batch)
    })
}

/// Files that were just written, and are open, by the disk that they are on.
#[derive(Default)]
pub struct Written<'f> {
    on: BTreeMap<DiskId, OnDisk<'f>>,
}

type OnDisk<'f> = (Arc<dyn Disk>, Vec<&'f mut Box<dyn WriteFile>>);

impl<'f> Written<'f> {
    /// One more of them.
    pub fn add(&mut self, id: DiskId, disk: &Arc<dyn Disk>, file: &'f mut Box<dyn WriteFile>) {
        self.on.entry(id).or_insert_with(|| (Arc::clone(disk), Vec::new())).1.push(file);
    }

    /// Makes them durable, and tells what each disk said.
    pub fn sync_each(self) -> impl Iterator<Item = (DiskId, Result<()>)> {
        self.on.into_iter().map(|(id, (disk, files))| (id, sync_written(&*disk, files)))
    }

    /// Makes them durable.
    ///
    /// # Errors
    /// What a disk says.
    pub fn sync(self) -> Result<()> {
        self.sync_each().try_for_each(|(_, synced)| synced)
    }
}

/// Makes files of one disk durable that were just written, and are open.
///
/// # Errors
/// What the disk says.
pub fn sync_written(disk: &dyn Disk, files: Vec<&mut Box<dyn WriteFile>>) -> Result<()> {
    if files.len() > ONE_BY_ONE {
        return disk.sync_all();
    }
    files.into_iter().try_for_each(|file| file.sync())
}

/// Makes the contents and attributes of files durable that were written before.
///
/// # Errors
/// What the disk says.
pub fn sync_files(disk: &dyn Disk, paths: &[&RelPath]) -> Result<()> {
    if paths.len() > ONE_BY_ONE {
        return disk.sync_all();
    }
    paths.iter().try_for_each(|path| disk.modify(path)?.sync())
}

/// Writes a small file of ours, whole or not at all.
///
/// # Crash safety
/// As [`publish_over`]; a crash may leave `PATH.new` behind, which the next call overwrites.
///
/// # Errors
/// What the disk says.
pub fn write_file(disk: &dyn Disk, path: &RelPath, bytes: &[u8]) -> Result<()> {
    write_file_with(disk, path, |file| file.write_at(bytes, 0))
}

/// As [`write_file`], for what is not in memory all at once: `write` is handed the empty file.
///
/// # Errors
/// What the disk or `write` says.
pub fn write_file_with(
    disk: &dyn Disk,
    path: &RelPath,
    write: impl FnOnce(&mut dyn WriteFile) -> Result<()>,
) -> Result<()> {
    let mut name = path.as_bytes().to_vec();
    name.extend_from_slice(b".new");
    let new = RelPath::new(name).expect("a valid path with a suffix is one");
    let mut file = disk.modify(&new)?;
    file.set_length(0)?;
    write(&mut *file)?;
    file.sync()?;
    publish_over(disk, &new, path)
}

/// Permission bits of a folder of our own: what lies in it may come out of a private folder (L5).
const CLOSED: u32 = 0o700;

/// Permission bits of a folder that nothing stands for; the process's mask takes its part away.
const USUAL: u32 = 0o755;

/// Creates a folder of our own and the folders it lies in, durably, closed to everybody else.
///
/// # Errors
/// What the disk says, also when something else has one of the names.
pub fn make_own_folder(disk: &dyn Disk, path: &RelPath) -> Result<()> {
    for (parent, folder) in steps(path) {
        if disk.make_folder(&folder, CLOSED)? {
            disk.sync_folder(&parent)?;
        }
    }
    Ok(())
}

/// Creates a folder of the volume and the folders it lies in, durably; tells which ones are new, the outermost first.
///
/// Each new one gets the looks that `twin` has for it (mode, owner, extended attributes) before it gets its name, so that
/// nothing in it can be reached by anybody who could not reach it where it came from (L5). One that is there is left as it
/// is.
///
/// # Crash safety
/// A crash may leave an empty folder in our own, which the next command removes.
///
/// # Errors
/// What the disk says, also when something else has one of the names; those of `twin`.
pub fn make_folders(
    disk: &dyn Disk,
    path: &RelPath,
    mut twin: impl FnMut(&RelPath) -> Result<Option<Attributes>>,
) -> Result<Vec<RelPath>> {
    let mut made = Vec::new();
    for (parent, folder) in steps(path) {
        if disk.stat(&folder)?.is_some_and(|stat| stat.kind == EntryKind::Folder) {
            continue;
        }
        let is_new = match twin(&folder)? {
            Some(looks) => make_like(disk, &folder, &looks)?,
            None => disk.make_folder(&folder, USUAL)?,
        };
        if is_new {
            disk.sync_folder(&parent)?;
            made.push(folder);
        }
    }
    Ok(made)
}

/// A folder on the way to a path, each with the one that it lies in; the outermost first.
fn steps(path: &RelPath) -> Vec<(RelPath, RelPath)> {
    let mut steps = Vec::new();
    let mut folder = RelPath::ROOT;
    for name in path.components() {
        let parent = folder.clone();
        folder = folder.join(name).expect("components of a valid path are valid");
        steps.push((parent, folder.clone()));
    }
    steps
}

/// Tidying up by another command may take the unfinished folder away before it has its name.
const ATTEMPTS: usize = 3;

fn make_like(disk: &dyn Disk, folder: &RelPath, looks: &Attributes) -> Result<bool> {
    let unfinished = OurPlace::Unfinished.path();
    make_own_folder(disk, &unfinished)?;
    let mut attempt = 0;
    loop {
        attempt += 1;
        let name = format!("folder-{}-{:016x}", std::process::id(), getrandom::u64().unwrap_or_default());
        let new = unfinished.join(name.as_bytes()).expect("digits make a valid name");
        disk.make_folder(&new, CLOSED)?;
        let named = disk.set_attributes(&new, looks).and_then(|()| disk.rename(&new, folder));
        match named {
            Ok(()) => return Ok(true),
            Err(error) if error.io_kind() == Some(std::io::ErrorKind::NotFound) && attempt < ATTEMPTS => {}
            Err(error) => {
                disk.remove_folder(&new)?;
                let is_there = disk.stat(folder)?.is_some_and(|stat| stat.kind == EntryKind::Folder);
                return if is_there { Ok(false) } else { Err(error) };
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::few(&[1, 2, 3], &[3])]
    #[case::many(&[0; 9], &[4, 4, 1])]
    #[case::large_ones(&[9, 12, 10, 1], &[2, 1, 1])]
    #[case::none(&[], &[])]
    fn batches_are_cut_by_number_and_by_size(#[case] files: &[u64], #[case] expected: &[usize]) {
        let batches: Vec<&[u64]> = batches(files, (4, 10), |size| *size).collect();
        assert_eq!(batches.iter().map(|batch| batch.len()).collect::<Vec<_>>(), expected);
        assert_eq!(batches.concat(), files);
    }
}
