//! Files that are whole on a disk that is there.

use sieve_core::fate::Standing;
use sieve_core::path::RelPath;

use super::find::{Found, content_of};
use super::{Passing, Taking, is_worth_another};
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{held_files, versions};
use sieve_disk::copying;
use sieve_disk::event::advance;
use sieve_disk::{Attributes, Disk, EntryKind, WriteFile, full_path};
use sieve_disk::{Error, Kind, Result};

impl Taking<'_> {
    /// Copies a file, folder or symlink of a disk.
    pub(super) fn copy(
        &mut self,
        disk: &dyn Disk,
        path: &RelPath,
        object: Option<&ObjectRow>,
        to: &RelPath,
    ) -> Result<()> {
        let Some(stat) = disk.stat(path)? else {
            let message = format!("{} is no longer there", full_path(disk, path).display());
            return Err(Error::new(Kind::NotFound, "file.not-found", message));
        };
        self.make_parent(to)?;
        if stat.kind == EntryKind::Folder {
            // As open as it is in the volume, and no more; who gets it has to be able to fill it.
            self.out.make_folder(to, stat.mode & 0o777 | 0o700)?;
            return Ok(());
        }
        self.refuse_taken(to)?;
        if stat.kind == EntryKind::Symlink {
            return self.out.make_symlink(&disk.read_link(path)?, to);
        }
        let part = self.part_of(to)?;
        let (whole, output) = match self.copy_bytes(disk, path, &part) {
            Ok(copied) => copied,
            Err(error) => {
                // The first error is the one to tell.
                let _ = self.out.remove_file(&part);
                return Err(error);
            }
        };
        let known = object
            .filter(|object| object.matches(&stat) && object.standing == Standing::Same)
            .and_then(|object| object.version);
        let known = known.map(|version| versions::get(self.pool.catalogue.reading(), version)).transpose()?;
        if let Some(version) = known.filter(|version| !version.unfinished) {
            if version.sum.whole != whole {
                self.out.remove_file(&part)?;
                let place = full_path(disk, path);
                let message = format!(
                    "{}: this file is damaged: its content is not what was checksummed",
                    place.display()
                );
                return Err(Error::new(Kind::Corrupt, "file.damaged", message).remedy("zinc-sieve verify"));
            }
            self.report.verified += 1;
        }
        let looks = Attributes::of(&stat, disk.extended_attributes(path)?);
        self.publish(Passing { part, to: to.clone(), size: stat.size, output: Some(output) }, &looks)
    }

    fn copy_bytes(
        &self,
        disk: &dyn Disk,
        path: &RelPath,
        part: &RelPath,
    ) -> Result<([u8; 32], Box<dyn WriteFile>)> {
        let mut input = disk.open(path)?;
        let mut output = self.out.create(part)?;
        let mut hasher = blake3::Hasher::new();
        copying::copy_bytes(&mut *input, &mut *output, |bytes| {
            hasher.update(bytes);
            advance(self.observer, bytes.len())
        })?;
        Ok((*hasher.finalize().as_bytes(), output))
    }

    /// A file whose disks are not there may be held on a cache still, since no sync has passed it: that is read at once.
    pub(super) fn held(&mut self, found: &Found<'_>, to: &RelPath) -> Result<bool> {
        if found.on().any(|member| member.state.is_usable()) {
            return Ok(false);
        }
        match content_of(self.pool, found.best, &found.path)? {
            Some(wanted) => self.held_with(&found.path, &wanted.whole, to),
            None => Ok(false),
        }
    }

    /// A file of this name and content that is held, if there is one: it settled, or changed its tier.
    pub(super) fn held_with(&mut self, path: &RelPath, whole: &[u8; 32], to: &RelPath) -> Result<bool> {
        let reading = self.pool.catalogue.reading();
        for cache in self.pool.file_members(self.volume) {
            let Ok(disk) = cache.usable() else { continue };
            let held = held_files::all(reading, cache.row.id)?;
            for held in held.into_iter().filter(|held| held.original == *path) {
                let content = content_of(self.pool, cache, &held.path)?;
                if content.is_some_and(|content| content.whole == *whole) {
                    let object = objects::by_path(reading, cache.row.id, &held.path)?;
                    self.copy(&**disk, &held.path, object.as_ref(), to)?;
                    return Ok(true);
                }
            }
        }
        Ok(false)
    }

    /// A file that comes back from nowhere else may be held on another disk that is not there, and parity may have it there: it
    /// went from one to the other, and no sync has passed it.
    pub(super) fn held_away(&mut self, found: &Found<'_>, to: &RelPath) -> Result<bool> {
        let Some(wanted) = content_of(self.pool, found.best, &found.path)? else { return Ok(false) };
        let reading = self.pool.catalogue.reading();
        for member in self.pool.members_of(self.volume, Role::Data).filter(|m| !m.state.is_usable()) {
            let held = held_files::all(reading, member.row.id)?.into_iter();
            for held in held.filter(|held| held.original == found.path) {
                let content = content_of(self.pool, member, &held.path)?;
                let object = objects::by_path(reading, member.row.id, &held.path)?;
                if content.is_none_or(|content| content.whole != wanted.whole) {
                    continue;
                }
                match self.reconstruct(member, &held.path, object.as_ref(), to) {
                    Err(error) if is_worth_another(&error) => {}
                    other => return other.map(|()| true),
                }
            }
        }
        Ok(false)
    }
}
