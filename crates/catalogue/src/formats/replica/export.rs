//! Bringing the replicas on members up to the catalogue.

use std::collections::BTreeMap;
use std::path::Path;

use sieve_core::layout::OurPlace;
use sieve_core::units::DiskId;
use sieve_disk::{Disk, Error, Kind, RealDisk, Result, durable};

use super::chain::{Chain, Part, Stamp, chains, parts_on};
use super::changes::{Header, Writer};
use super::ledger::Ledger;
use super::pages::Pages;
use super::spread::spread;
use crate::{Catalogue, disks, parity_state};

/// Changes may take so much of a whole copy, all together, before a whole one is made again: one in so many parts.
const CHANGES_OF_WHOLE: u64 = 2;
/// And no more files than this lie on a disk: each is read when the replica is.
const MOST_PARTS: usize = 200;

/// The catalogue as it is now, to be put on members.
pub struct Export {
    pages: Pages,
    stamp: Stamp,
    home: RealDisk,
    ledger: Ledger,
}

/// What a disk needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Need {
    Whole,
    /// What changed since an export, and the checkpoint that one was of.
    Changes {
        export: u32,
        before: Stamp,
    },
}

/// Whether there was room: on a disk that other people fill as well there may be none.
///
/// # Errors
/// What the disk said, but that it is full.
pub fn fits(answer: Result<()>) -> Result<bool> {
    match answer {
        Err(error) if error.io_kind() == Some(std::io::ErrorKind::StorageFull) => Ok(false),
        other => other.map(|()| true),
    }
}

impl Export {
    /// Looks at the catalogue as it is now.
    ///
    /// # Errors
    /// When there is no checkpoint yet, or what the database says.
    pub fn take(catalogue: &Catalogue) -> Result<Self> {
        let pages = Pages::of(catalogue.path())?;
        let head = parity_state::head(pages.reading())?.ok_or_else(|| {
            Error::new(Kind::Internal, "replica.no-checkpoint", "the pool has no checkpoint yet")
        })?;
        let folder = catalogue.path().parent().and_then(Path::parent).unwrap_or(Path::new("/"));
        let home = RealDisk::open(folder)?;
        let mut ledger = Ledger::read(&home);
        ledger.advance(&pages)?;
        Ok(Self { pages, stamp: Stamp { number: head.number, id: head.id }, home, ledger })
    }

    /// Brings the replicas on members up to this, on all of them at once; the answers are in the order of the members.
    ///
    /// # Crash safety
    /// A part of a replica gets its name when it is durable, and nothing that it follows is removed before a whole copy
    /// takes its place: a disk always has the replica before or this one.
    ///
    /// # Errors
    /// What the database says; the answers say what the disks do.
    pub fn put_on(
        &mut self,
        members: &[(&dyn Disk, DiskId)],
        catalogue: &Catalogue,
    ) -> Result<Vec<Result<()>>> {
        let mut groups: BTreeMap<Need, Vec<usize>> = BTreeMap::new();
        let mut answers: Vec<Result<()>> = Vec::new();
        for (index, (disk, id)) in members.iter().enumerate() {
            answers.push(self.need(*disk, *id).map(|need| groups.entry(need).or_default().push(index)));
        }
        for (need, group) in groups {
            let disks: Vec<&dyn Disk> = group.iter().map(|index| members[*index].0).collect();
            for (index, answer) in group.into_iter().zip(self.put(need, &disks)?) {
                answers[index] = answer;
            }
        }
        let done = members.iter().zip(&answers).filter(|(_, answer)| answer.is_ok());
        let done: Vec<DiskId> = done.map(|((_, id), _)| *id).collect();
        done.iter().for_each(|id| self.ledger.note(*id, self.stamp));
        // It only saves work: what an older one says of a disk that is not so any more is not believed.
        let _ = self.ledger.write(&self.home);
        catalogue
            .transaction(|t| done.iter().try_for_each(|id| disks::set_replica(t, *id, self.stamp.number)))?;
        Ok(answers)
    }

    /// Puts a whole replica on a disk that is to become a member.
    ///
    /// # Errors
    /// What the disk or the database says.
    pub fn put_on_disk(&self, disk: &dyn Disk) -> Result<()> {
        self.put(Need::Whole, &[disk])?.into_iter().collect()
    }

    /// What a member needs: changes follow only what is known to be there.
    fn need(&self, disk: &dyn Disk, id: DiskId) -> Result<Need> {
        let Some((before, export)) = self.ledger.of(id) else { return Ok(Need::Whole) };
        let Some(chain) = chains(&parts_on(disk)?).pop().filter(|chain| chain.stamp() == before) else {
            return Ok(Need::Whole);
        };
        if before.number >= self.stamp.number || chain.0.len() >= MOST_PARTS {
            return Ok(Need::Whole);
        }
        let mut lengths = Vec::new();
        for part in &chain.0 {
            lengths.push(disk.stat(&part.path())?.map_or(0, |stat| stat.size.exact()));
        }
        let whole = lengths.first().copied().unwrap_or(0);
        let changes = lengths.iter().skip(1).sum::<u64>() + self.header(export, before).file_length();
        let is_much = changes * CHANGES_OF_WHOLE > whole;
        Ok(if is_much { Need::Whole } else { Need::Changes { export, before } })
    }

    fn put(&self, need: Need, disks: &[&dyn Disk]) -> Result<Vec<Result<()>>> {
        let part = match need {
            Need::Whole => Part::whole(self.stamp),
            Need::Changes { before, .. } => Part { stamp: self.stamp, after: Some(before.id) },
        };
        spread(disks, |emit| self.produce(need, emit), |disk| publish(disk, part))
    }

    fn produce(&self, need: Need, emit: &mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()> {
        let Need::Changes { export, before } = need else {
            return self.pages.for_each(|_| true, &mut |_, bytes| emit(bytes));
        };
        let mut writer = Writer::begin(&self.header(export, before), emit)?;
        let is_changed = |page| self.ledger.changed_since(export, page);
        self.pages.for_each(is_changed, &mut |number, bytes| writer.page(number, bytes))?;
        writer.finish()
    }

    fn header(&self, export: u32, before: Stamp) -> Header {
        let changed = (1..=self.pages.count).filter(|page| self.ledger.changed_since(export, *page)).count();
        Header {
            page_size: u32::try_from(self.pages.size).unwrap_or(u32::MAX),
            pages: self.pages.count,
            changed: u32::try_from(changed).unwrap_or(u32::MAX),
            before,
            after: self.stamp,
            state: self.ledger.state(),
        }
    }
}

/// Gives the finished file its name, and removes what the replica is not made of any more.
fn publish(disk: &dyn Disk, part: Part) -> Result<()> {
    durable::publish_over(disk, &OurPlace::ReplicaNew.path(), &part.path())?;
    let parts = parts_on(disk)?;
    let used = chains(&parts).pop().unwrap_or(Chain(vec![part]));
    for old in parts.iter().filter(|old| !used.0.contains(old)) {
        disk.remove_file(&old.path())?;
    }
    disk.sync_folder(&OurPlace::Folder.path())
}
