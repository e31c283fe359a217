//! The same by hand: bare loops that do only what cannot be left out.

use std::path::{Path, PathBuf};
use std::thread;
use std::time::Instant;

use sieve_core::path::RelPath;
use sieve_disk::{Disk, EntryKind, Error, Kind, RealDisk, Result, copying};

use super::stage::Stage;

/// So much is read at once.
const STEP: usize = 1 << 18;

pub(super) struct ByHand<'a> {
    stage: &'a Stage,
}

fn timed(work: impl FnOnce() -> Result<()>) -> Result<f64> {
    let begun = Instant::now();
    work()?;
    Ok(begun.elapsed().as_secs_f64())
}

impl<'a> ByHand<'a> {
    pub(super) const fn new(stage: &'a Stage) -> Self {
        Self { stage }
    }

    /// Copies all files to a folder beside the disks, waits for the disk once, and reads them back.
    pub(super) fn copy_in(&self) -> Result<f64> {
        let to = self.fresh_folder("by-hand-in")?;
        timed(|| copy_tree(Path::new(self.stage.card()), &to))
    }

    /// The same out of the disks.
    pub(super) fn copy_out(&self) -> Result<f64> {
        let to = self.fresh_folder("by-hand-out")?;
        timed(|| self.stage.data_disks().iter().try_for_each(|disk| copy_tree(disk, &to)))
    }

    /// Reads all files of the data disks and hashes them, a thread a disk.
    pub(super) fn read_all(&self) -> Result<f64> {
        self.on_each_disk(|disk, path| {
            let mut hasher = blake3::Hasher::new();
            let mut file = disk.open(path)?;
            copying::for_each_part(&mut *file, 0, None, |part| {
                hasher.update(part);
                Ok(())
            })?;
            std::hint::black_box(hasher.finalize());
            Ok(())
        })
    }

    /// Looks at everything on the data disks, a thread a disk.
    pub(super) fn walk(&self) -> Result<f64> {
        self.on_each_disk(|_, _| Ok(()))
    }

    fn on_each_disk(&self, visit: impl Fn(&RealDisk, &RelPath) -> Result<()> + Sync) -> Result<f64> {
        let visit = &visit;
        timed(|| {
            thread::scope(|scope| {
                let disks = self.stage.data_disks();
                let walk = |place: PathBuf| {
                    scope.spawn(move || {
                        let disk = RealDisk::open(&place)?;
                        for_each_file(&disk, &RelPath::ROOT, &mut |path| visit(&disk, path))
                    })
                };
                let walkers: Vec<_> = disks.into_iter().map(walk).collect();
                walkers.into_iter().try_for_each(|walker| match walker.join() {
                    Ok(walked) => walked,
                    Err(panic) => std::panic::resume_unwind(panic),
                })
            })
        })
    }

    pub(super) fn list_one_folder(&self) -> Result<f64> {
        let folder = RelPath::new(self.stage.one_folder().as_bytes()).expect("a made-up name is a path");
        let disks = self.stage.data_disks();
        timed(|| {
            for place in disks {
                let disk = RealDisk::open(&place)?;
                if disk.stat(&folder)?.is_some() {
                    std::hint::black_box(disk.read_folder(&folder)?);
                }
            }
            Ok(())
        })
    }

    /// Somebody saves one small file.
    pub(super) fn change_one_file(&self) -> Result<()> {
        let Some(place) = self.stage.place_of_one_file() else { return Ok(()) };
        let folder = RealDisk::open(place.parent().unwrap_or(Path::new("/")))?;
        let name = place.file_name().unwrap_or_default();
        let name = RelPath::new(std::os::unix::ffi::OsStrExt::as_bytes(name)).expect("it is a name");
        let mut file = folder.modify(&name)?;
        file.set_length(0)?;
        file.write_at(&[7; 1024], 0)?;
        file.sync()
    }

    fn fresh_folder(&self, name: &str) -> Result<PathBuf> {
        let home = RealDisk::open(self.stage.home())?;
        home.make_folder(&RelPath::new(name.as_bytes()).expect("it is a name"), 0o755)?;
        Ok(self.stage.home().join(name))
    }
}

fn for_each_file(
    disk: &dyn Disk,
    folder: &RelPath,
    visit: &mut dyn FnMut(&RelPath) -> Result<()>,
) -> Result<()> {
    for (name, stat) in disk.read_folder(folder)? {
        let Ok(path) = folder.join(&name) else { continue };
        match stat.kind {
            EntryKind::Folder if !path.is_ours() => for_each_file(disk, &path, visit)?,
            EntryKind::File => visit(&path)?,
            _ => {}
        }
    }
    Ok(())
}

/// Copies, waits once, reads back: with a hash on either way, as it takes to know that the copy is one.
fn copy_tree(from: &Path, to: &Path) -> Result<()> {
    let (from, to) = (RealDisk::open(from)?, RealDisk::open(to)?);
    let mut copied = Vec::new();
    let mut buffer = vec![0; STEP];
    for_each_file(&from, &RelPath::ROOT, &mut |path| {
        let mut folder = RelPath::ROOT;
        for name in path.parent().iter().flat_map(RelPath::components) {
            folder = folder.join(name).expect("it is the name of a folder");
            to.make_folder(&folder, 0o755)?;
        }
        let (mut input, mut output) = (from.open(path)?, to.create(path)?);
        let (mut hasher, mut offset) = (blake3::Hasher::new(), 0);
        loop {
            let count = input.read_at(&mut buffer, offset)?;
            if count == 0 {
                break;
            }
            hasher.update(&buffer[..count]);
            output.write_at(&buffer[..count], offset)?;
            offset += count as u64;
        }
        copied.push((path.clone(), hasher.finalize()));
        Ok(())
    })?;
    to.sync_all()?;
    for (path, hash) in copied {
        let mut hasher = blake3::Hasher::new();
        let mut file = to.open(&path)?;
        file.let_go(0, 0);
        copying::for_each_part(&mut *file, 0, None, |part| {
            hasher.update(part);
            Ok(())
        })?;
        if hasher.finalize() != hash {
            let message = format!("{}: what was written reads back differently", to.root().display());
            return Err(
                Error::new(Kind::Io, "bench.work", message).remedy("do not trust this disk: check it")
            );
        }
    }
    Ok(())
}
