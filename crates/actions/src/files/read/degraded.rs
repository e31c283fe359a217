//! Files that are not whole on any disk that is there: from parity, and from their pieces.

use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;

use super::{Passing, Taking, below, is_worth_another};
use sieve_catalogue::nodes;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::pieces::PieceRow;
use sieve_catalogue::versions;
use sieve_disk::{Attributes, Disk, EntryKind, ReadFile};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::fate::Unfinished;
use sieve_pool::images::{load_snapshot, open_images};
use sieve_pool::member::Member;
use sieve_pool::pieces;
use sieve_pool::pieces::PiecedFile;
use sieve_rows::reconstruct::Reconstructor;

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
        let (passing, _) = self.compute(member, &piece.path, &object, &RelPath::ROOT)?;
        self.report.reconstructed += 1;
        let file = self.out.open(&passing)?;
        // It stays readable while it is open, and leaves nothing behind.
        self.out.remove_file(&passing)?;
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
        let (part, size) = self.compute(member, path, object, to)?;
        let looks = objects::attributes(reading, object.id)?;
        self.publish(Passing { part, to: to.clone(), size, output: None }, &looks)?;
        self.report.verified += 1;
        self.report.reconstructed += 1;
        Ok(())
    }

    /// Computes a file from parity and the other disks, into an unfinished file.
    fn compute(
        &mut self,
        member: &Member,
        path: &RelPath,
        object: &ObjectRow,
        to: &RelPath,
    ) -> Result<(RelPath, ByteLength)> {
        let version = object.version.filter(|_| object.standing == Standing::Same);
        let version =
            version.ok_or_else(|| self.no_way(path, member, "parity does not have its present content"))?;
        let row = versions::get(self.pool.catalogue.reading(), version)?;
        if self.parity.is_none() {
            let snapshot = load_snapshot(self.pool, self.volume)?;
            self.parity = Some((snapshot, open_images(self.pool, self.volume, &[])?));
        }
        let part = self.part_of(to)?;
        let (snapshot, images) = self.parity.as_ref().expect("it was just made ready");
        let mut output = self.out.create(&part)?;
        let mut reconstructor = Reconstructor::new(self.pool, snapshot);
        let missing = reconstructor.write(images, member.row.id, &row, &mut *output, self.observer);
        if row.unfinished || missing.as_ref().map_or(true, |missing| !missing.is_empty()) {
            self.out.remove_file(&part)?;
            missing?;
            return Err(self.no_way(path, member, "what is left does not bring it back whole"));
        }
        output.sync()?;
        Ok((part, row.sum.size))
    }

    fn no_way(&self, path: &RelPath, member: &Member, why: &str) -> Error {
        let name = &member.row.name;
        let message = format!("{path}: disk {name} is not there, and {why}");
        Error::new(Kind::NotFound, "get.lost", message)
            .remedy(format!("zinc-sieve fate --explain {path}; zinc-sieve rebuild {name}"))
    }
}
