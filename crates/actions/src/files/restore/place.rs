//! Where files that come back go: out of sight first, and under a name that is free when they are whole.

use std::path::Path;
use std::sync::Arc;

use sieve_catalogue as catalogue;
use sieve_catalogue::{gone, objects};
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;
use sieve_disk::durable::{self, Written};
use sieve_disk::workspace::Workspaces;
use sieve_disk::{Attributes, Disk, Error, Kind, RealDisk, Result, full_path};
use sieve_pool::looks::looks_in_volume;
use sieve_pool::pool::Pool;

use super::find::{Candidate, Origin};
use super::make::{Made, Making};
use super::report::{RestoreReport, Restored, Target};

/// Where files go.
pub(super) struct Place<'a> {
    pool: &'a Pool,
    volume: &'a str,
    /// The folder elsewhere, unless they go to where they were.
    folder: Option<Arc<dyn Disk>>,
    workspaces: Workspaces<'a>,
    /// How many unfinished files there were so far.
    begun: u64,
}

impl<'a> Place<'a> {
    pub(super) fn new(pool: &'a Pool, volume: &'a str, target: Target<'_>) -> Result<Self> {
        let folder: Option<Arc<dyn Disk>> = match target {
            Target::Place => None,
            Target::Folder(folder) => Some(Arc::new(open_folder(folder)?)),
        };
        Ok(Self { pool, volume, folder, workspaces: Workspaces::new(&*pool.machine), begun: 0 })
    }

    /// Whether they go to where they were.
    pub(super) const fn is_pool(&self) -> bool {
        self.folder.is_none()
    }

    /// Nothing more comes.
    pub(super) fn finish(self) -> Result<()> {
        self.workspaces.finish()
    }

    /// An empty file for one that comes back.
    pub(super) fn begin<'c>(&mut self, candidate: &'c Candidate) -> Result<Making<'c>> {
        let disk = match &self.folder {
            None => Arc::clone(self.pool.member(candidate.disk_id)?.writable()?),
            Some(folder) => Arc::clone(folder),
        };
        if let Some(parent) = candidate.original.parent() {
            self.make_folders(&*disk, &parent)?;
        }
        // On a member it lies in our own folder, elsewhere beside its place.
        self.begun += 1;
        let unfinished = match self.is_pool() {
            true => self.workspaces.next_path(candidate.disk_id, &disk)?,
            false => beside(&candidate.original, &format!(".part-{}-{}", std::process::id(), self.begun))?,
        };
        let output = disk.create(&unfinished)?;
        Ok(Making { candidate, disk, unfinished, output, made: Made::NotYet })
    }

    fn make_folders(&self, disk: &dyn Disk, parent: &RelPath) -> Result<()> {
        if parent.is_ours() {
            return durable::make_own_folder(disk, parent);
        }
        durable::make_folders(disk, parent, |folder| match self.is_pool() {
            true => looks_in_volume(self.pool, self.volume, folder),
            // Elsewhere there is nothing of ours to make it in: it is born closed.
            false => Ok(None),
        })
        .map(|_| ())
    }

    /// Those that are whole get their names, all of them after one wait for each disk; the others leave nothing behind.
    ///
    /// # Crash safety
    /// All are durable before the first gets its name, and have it durably before the catalogue knows of it.
    pub(super) fn give_names(&self, files: Vec<Making<'_>>, report: &mut RestoreReport) -> Result<()> {
        let (mut whole, others): (Vec<_>, Vec<_>) =
            files.into_iter().partition(|file| matches!(file.made, Made::Whole));
        let removed = others.into_iter().try_for_each(|file| {
            if let Made::Not(why) = file.made {
                report.not_back.push((file.candidate.path.clone(), why));
            }
            file.disk.remove_file(&file.unfinished)
        });
        make_durable(&mut whole)?;
        let mut named = Vec::new();
        let renamed = whole.iter().try_for_each(|file| {
            named.push((file, rename(file, report)?));
            Ok(())
        });
        for left in &whole[named.len()..] {
            // The first error is the one to tell.
            let _ = left.disk.remove_file(&left.unfinished);
        }
        for disk in disks(&whole) {
            let here = named.iter().filter(|(file, _)| file.candidate.disk_id == disk);
            let names = here.flat_map(|(file, name)| [&file.unfinished, name]);
            if let Some(file) = whole.iter().find(|file| file.candidate.disk_id == disk) {
                durable::sync_parents(&*file.disk, names)?;
            }
        }
        if self.is_pool() {
            named.iter().try_for_each(|(file, name)| self.record(file, name))?;
        }
        renamed.and(removed)
    }

    /// The file has again what parity encodes there: the catalogue learns that, so that parity need not change.
    fn record(&self, file: &Making<'_>, name: &RelPath) -> Result<()> {
        let candidate = file.candidate;
        let Origin::Parity(version) = &candidate.origin else { return Ok(()) };
        let Some(stat) = file.disk.stat(name)? else { return Ok(()) };
        let extended = Attributes::of(&stat, file.disk.extended_attributes(name)?).pack_extended();
        self.pool.catalogue.transaction(|t| {
            catalogue::mark_changed(t)?;
            // A scan of another command may have seen it already.
            if objects::by_path(t, candidate.disk_id, name)?.is_none() {
                let (disk, content) = (candidate.disk_id, Some(*version));
                let id = objects::insert(t, disk, &stat, extended.as_deref(), content, false)?;
                objects::set_name(t, disk, name, id)?;
            }
            gone::remove(t, candidate.disk_id, &candidate.original)
        })
    }
}

fn open_folder(folder: &Path) -> Result<RealDisk> {
    RealDisk::open(folder).map_err(|mut error| {
        error.kind = Kind::Usage;
        error.remedy("the target is a folder that is there already: make it first")
    })
}

/// The disks that files are of, each once.
fn disks(files: &[Making<'_>]) -> Vec<DiskId> {
    let mut disks: Vec<DiskId> = files.iter().map(|file| file.candidate.disk_id).collect();
    disks.sort_unstable();
    disks.dedup();
    disks
}

fn make_durable(files: &mut [Making<'_>]) -> Result<()> {
    let mut written = Written::default();
    files.iter_mut().for_each(|file| written.add(file.candidate.disk_id, &file.disk, &mut file.output));
    written.sync()
}

/// Gives the file its name; one beside it where that is taken.
fn rename(file: &Making<'_>, report: &mut RestoreReport) -> Result<RelPath> {
    let (candidate, disk) = (file.candidate, &*file.disk);
    let mut name = candidate.original.clone();
    let mut attempt = 0;
    while disk.stat(&name)?.is_some() {
        attempt += 1;
        let suffix = if attempt == 1 { " (restored)".into() } else { format!(" (restored {attempt})") };
        name = beside(&candidate.original, &suffix)?;
    }
    disk.rename(&file.unfinished, &name)?;
    report.restored.push(Restored {
        path: candidate.path.clone(),
        at: full_path(disk, &name).display().to_string(),
        size_bytes: candidate.size_bytes,
        beside: attempt > 0,
    });
    Ok(name)
}

/// The path with something put before its extension.
fn beside(path: &RelPath, what: &str) -> Result<RelPath> {
    path.beside(what).map_err(|e| {
        Error::new(Kind::Usage, "restore.name", format!("{path}: no name beside it: {e}"))
            .remedy("restore it into a folder elsewhere: --into DIR")
    })
}
