//! Files that are not whole on any disk that is there: from parity, and from their pieces.

use std::sync::Arc;

use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, ObjectId, VersionId};

use super::find::Found;
use super::{BATCH, BATCH_BYTES, Computed, Passing, Taking, below, is_worth_another};
use sieve_catalogue::nodes;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::pieces::PieceRow;
use sieve_catalogue::versions;
use sieve_disk::{Attributes, Disk, EntryKind, ReadFile};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::fate::Unfinished;
use sieve_pool::images::{load_snapshot, open_images, recall};
use sieve_pool::member::Member;
use sieve_pool::pieces;
use sieve_pool::pieces::PiecedFile;
use sieve_rows::recall::Wanted;

/// So many of the files that are asked for are looked at for some that can be computed together.
const LOOKED_AHEAD: usize = 4096;

/// A file that is to be computed.
struct Computing {
    disk: DiskId,
    object: ObjectId,
    version: VersionId,
    size: ByteLength,
    to: RelPath,
}

impl Taking<'_> {
    /// Brings the files in pieces below a path; tells which they are.
    pub(super) fn pieced(&mut self, wanted: &RelPath, base: &RelPath) -> Result<Vec<RelPath>> {
        if self.from_disk.is_some() {
            return Ok(Vec::new());
        }
        let mut brought = Vec::new();
        let unfinished = Unfinished::look(self.pool)?;
        for file in pieces::files(self.pool, self.volume)? {
            if file.path.is_within(wanted) && !unfinished.has_pieced(&file.path) {
                let to = below(&file.path, base)?;
                match self.join(&file, &to) {
                    // Until a sync has passed its pieces, all of it may be held on a cache.
                    Err(error)
                        if is_worth_another(&error) && self.held_with(&file.path, &file.whole, &to)? => {}
                    other => other?,
                }
                brought.push(file.path);
            }
        }
        Ok(brought)
    }

    /// Puts a file together from its pieces, those of disks that are not there from parity.
    fn join(&mut self, file: &PiecedFile, to: &RelPath) -> Result<()> {
        self.refuse_taken(to)?;
        self.make_parent(to)?;
        let part = self.part_of(to)?;
        let mut output = self.out.create(&part)?;
        let observer = self.observer;
        if let Err(error) = pieces::assemble(file, |piece| self.open_piece(piece), &mut *output, observer) {
            self.out.remove_file(&part)?;
            return Err(error);
        }
        output.sync()?;
        let mut looks = Attributes::default();
        let reading = self.pool.catalogue.reading();
        if let Some(piece) = file.pieces.first()
            && let Some(object) = objects::by_path(reading, piece.disk, &piece.path)?
        {
            looks = objects::attributes(reading, object.id)?;
        }
        self.publish(Passing { part, to: to.clone(), size: file.size, output: None }, &looks)?;
        self.report.verified += 1;
        Ok(())
    }

    fn open_piece(&mut self, piece: &PieceRow) -> Result<Box<dyn ReadFile>> {
        let member = self.pool.member(piece.disk)?;
        if let Ok(disk) = member.usable() {
            return disk.open(&piece.path);
        }
        let object = objects::by_path(self.pool.catalogue.reading(), piece.disk, &piece.path)?;
        let object =
            object.ok_or_else(|| self.no_way(&piece.path, member, "nothing is known of this piece"))?;
        let computed = self.compute(member, &piece.path, &object, &RelPath::ROOT)?;
        self.report.reconstructed += 1;
        let file = self.out.open(&computed.part)?;
        // It stays readable while it is open, and leaves nothing behind.
        self.out.remove_file(&computed.part)?;
        Ok(file)
    }

    /// Brings something of a disk that is not there.
    pub(super) fn reconstruct(
        &mut self,
        member: &Member,
        path: &RelPath,
        object: Option<&ObjectRow>,
        to: &RelPath,
    ) -> Result<()> {
        let reading = self.pool.catalogue.reading();
        self.make_parent(to)?;
        let Some(object) = object else {
            return match nodes::get(reading, member.row.id, path)?.map(|node| (node.kind, node.target)) {
                Some((EntryKind::Symlink, Some(target))) => self.out.make_symlink(&target, to),
                _ => self.out.make_folder(to, 0o700).map(|_| ()),
            };
        };
        self.refuse_taken(to)?;
        let Computed { part, size, output } = self.compute(member, path, object, to)?;
        let looks = objects::attributes(reading, object.id)?;
        self.publish(Passing { part, to: to.clone(), size, output: Some(output) }, &looks)?;
        self.report.verified += 1;
        self.report.reconstructed += 1;
        Ok(())
    }

    /// Computes a file from parity and the other disks, into an unfinished file; others were computed with one before.
    fn compute(
        &mut self,
        member: &Member,
        path: &RelPath,
        object: &ObjectRow,
        to: &RelPath,
    ) -> Result<Computed> {
        let version = self.computable(object);
        let version =
            version.ok_or_else(|| self.no_way(path, member, "parity does not have its present content"))?;
        let done = match self.computed.remove(&object.id) {
            Some(done) => done,
            None => {
                let (disk, size) = (member.row.id, object.size);
                let one = Computing { disk, object: object.id, version, size, to: to.clone() };
                self.compute_all(&[one])?;
                self.computed.remove(&object.id).flatten()
            }
        };
        done.ok_or_else(|| self.no_way(path, member, "what is left does not bring it back whole"))
    }

    /// The content of an object that parity has.
    fn computable(&self, object: &ObjectRow) -> Option<VersionId> {
        object.version.filter(|_| object.standing == Standing::Same)
    }

    /// Computes the first of `found`, and those after it that lie on the same disk: they share rows.
    pub(super) fn compute_ahead(&mut self, found: &[Found<'_>], base: &RelPath) -> Result<()> {
        let Some(disk) = found.first().map(|first| first.best.row.id) else { return Ok(()) };
        let (mut together, mut bytes): (Vec<Computing>, u64) = (Vec::new(), 0);
        for one in found.iter().take(LOOKED_AHEAD).filter(|one| one.is_file && one.best.row.id == disk) {
            let Some(object) = objects::by_path(self.pool.catalogue.reading(), disk, &one.path)? else {
                continue;
            };
            if self.computed.contains_key(&object.id) && together.is_empty() {
                return Ok(());
            }
            let is_new = together.iter().all(|other| other.object != object.id);
            let to = below(&one.path, base)?;
            // What is in the way is told before anything is computed.
            let is_new = is_new && self.out.stat(&to)?.is_none();
            if let Some(version) = self.computable(&object).filter(|_| is_new) {
                together.push(Computing { disk, object: object.id, version, size: object.size, to });
                bytes += object.size.exact();
            }
            if together.len() >= BATCH || bytes >= BATCH_BYTES {
                break;
            }
        }
        self.compute_all(&together)
    }

    /// Computes files of one disk in one pass, each into an unfinished file beside its place.
    fn compute_all(&mut self, files: &[Computing]) -> Result<()> {
        let Some(disk) = files.first().map(|file| file.disk) else { return Ok(()) };
        if self.parity.is_none() {
            let snapshot = load_snapshot(self.pool, self.volume)?;
            self.parity = Some((snapshot, open_images(self.pool, self.volume, &[])?));
        }
        let mut parts = Vec::new();
        for file in files {
            let row = Arc::new(versions::get(self.pool.catalogue.reading(), file.version)?);
            self.make_parent(&file.to)?;
            let part = self.part_of(&file.to)?;
            let output = self.out.create(&part)?;
            parts.push((row, Computed { part, size: file.size, output }));
        }
        let (snapshot, images) = self.parity.as_ref().expect("it was just made ready");
        let wanted = parts
            .iter_mut()
            .map(|(row, part)| Wanted { row: Arc::clone(row), output: &mut *part.output })
            .collect();
        let recalled = recall(self.pool, snapshot, images, &[]).write(disk, wanted, self.observer);
        let all_missing = || parts.iter().map(|_| vec![0]).collect();
        let missing: Vec<Vec<u64>> = recalled.as_ref().map_or_else(|_| all_missing(), Clone::clone);
        for ((file, (row, part)), missing) in files.iter().zip(parts).zip(missing) {
            let is_whole = missing.is_empty() && !row.unfinished;
            if !is_whole {
                self.out.remove_file(&part.part)?;
            }
            self.computed.insert(file.object, is_whole.then_some(part));
        }
        recalled.map(|_| ())
    }

    /// What was computed ahead, and is not used after all.
    pub(super) fn forget_computed(&mut self) -> Result<()> {
        let parts = std::mem::take(&mut self.computed).into_values().flatten();
        parts.map(|computed| computed.part).try_for_each(|part| self.out.remove_file(&part))
    }

    fn no_way(&self, path: &RelPath, member: &Member, why: &str) -> Error {
        let name = &member.row.name;
        let message = format!("{path}: disk {name} is not there, and {why}");
        Error::new(Kind::NotFound, "get.lost", message)
            .remedy(format!("zinc-sieve fate --explain {path}; zinc-sieve rebuild {name}"))
    }
}
