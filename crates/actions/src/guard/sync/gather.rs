//! Going through what is on a disk: the contents that its lane is to hold.

use std::collections::{BTreeSet, HashMap};

use sieve_catalogue::contents::{self, NamedObject};
use sieve_catalogue::parity_state;
use sieve_core::checksum::Subtree;
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::sync::{Data, Target, Wanted, plan_lane};
use sieve_core::units::{ByteLength, ObjectId, VersionId};
use sieve_disk::Result;
use sieve_disk::Stamp;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_rows::window::SnapshotLane;

/// A content whose checksums are computed while its rows are.
#[derive(Debug)]
pub(super) struct Fresh {
    pub(super) object: ObjectId,
    /// The lane, as a position in the snapshot.
    pub(super) lane: usize,
    pub(super) path: RelPath,
    pub(super) stamp: Stamp,
    pub(super) data: Data,
}

/// Which contents that are not read yet take part.
#[derive(Clone, Copy, Debug)]
pub(super) enum Unread<'a> {
    /// Only those with checksums.
    None,
    /// Those that are certainly new contents, but for the objects named.
    New { but: &'a BTreeSet<ObjectId> },
    /// All but those that differ although size and times say that they do not: what a sync may turn out to do.
    All,
    /// As all, but what only lost its change time's trust is taken to be what it was.
    Likely,
}

impl Unread<'_> {
    fn takes(self, object: ObjectId, standing: Standing, size: ByteLength) -> bool {
        match self {
            Self::None => false,
            Self::New { but } => {
                matches!(standing, Standing::Same | Standing::Changed)
                    && size > ByteLength::ZERO
                    && !but.contains(&object)
            }
            Self::All => standing != Standing::Suspect,
            Self::Likely => !matches!(standing, Standing::Suspect | Standing::Doubtful),
        }
    }
}

/// Goes through what is on a disk, and plans its lane.
pub(super) fn plan_one(
    pool: &Pool,
    lane: &SnapshotLane,
    position: usize,
    unread: Unread<'_>,
    unfinished: &HashMap<VersionId, Vec<Subtree>>,
    limit: u64,
) -> Result<(Gathered, Target)> {
    let complete = complete_contents(pool, lane)?;
    let (member, gathered) = (pool.member(lane.disk)?, Gathered::default());
    let mut contents = Contents { member, lane: position, unread, complete: &complete, unfinished, gathered };
    contents.gather(pool)?;
    let target = plan_lane(&lane.map, &contents.gathered.wanted, limit);
    Ok((contents.gathered, target))
}

/// The contents of unsettled objects that are all in the snapshot.
fn complete_contents(pool: &Pool, lane: &SnapshotLane) -> Result<BTreeSet<VersionId>> {
    let unsettled = contents::of_unsettled(pool.catalogue.reading(), lane.disk)?;
    let mut missing: HashMap<VersionId, i64> =
        unsettled.into_iter().map(|(version, granules)| (version, granules.cast_signed())).collect();
    if !missing.is_empty() {
        for piece in lane.map.iter() {
            if let Some(granules) = missing.get_mut(&piece.value.version) {
                *granules -= piece.rows.length().cast_signed();
            }
        }
    }
    Ok(missing.into_iter().filter(|(_, granules)| *granules == 0).map(|(version, _)| version).collect())
}

/// What comes together while the contents of a lane are gone through.
pub(super) struct Gathered {
    wanted: Vec<Wanted>,
    pub(super) fresh: HashMap<VersionId, Fresh>,
    pub(super) readable: Vec<(VersionId, ByteLength)>,
    /// Everything is as it was checksummed to its end, and nothing is held.
    all_known: bool,
}

impl Gathered {
    /// Whether the lane is what it is to be, and will be as long as nothing happens on the disk.
    pub(super) fn is_at_rest(&self, lane: &SnapshotLane, target: &Target) -> bool {
        self.all_known && target.no_room.is_empty() && target.lane == lane.map
    }
}

impl Default for Gathered {
    fn default() -> Self {
        Self { wanted: Vec::new(), fresh: HashMap::new(), readable: Vec::new(), all_known: true }
    }
}

/// The contents that a lane is to hold, in the order of their paths.
struct Contents<'a> {
    member: &'a Member,
    lane: usize,
    unread: Unread<'a>,
    complete: &'a BTreeSet<VersionId>,
    /// Contents that were read in part, with what is known of them.
    unfinished: &'a HashMap<VersionId, Vec<Subtree>>,
    gathered: Gathered,
}

impl Contents<'_> {
    fn gather(&mut self, pool: &Pool) -> Result<()> {
        let disk = self.member.row.id;
        let reading = pool.catalogue.reading();
        let damaged = parity_state::damaged_contents(reading, disk)?.into_iter();
        let damaged: BTreeSet<VersionId> = damaged.map(|(version, _)| version).collect();
        let mut linked = BTreeSet::new();
        contents::for_each_named(reading, disk, |path, named| {
            let object = named.object()?;
            // With hard links an object counts under its first name.
            if linked.contains(&object) {
                return Ok(());
            }
            if !path.is_held() {
                linked.insert(object);
            }
            self.object(named, path, &damaged)
        })
    }

    fn object(
        &mut self,
        named: &NamedObject<'_>,
        path: RelPath,
        damaged: &BTreeSet<VersionId>,
    ) -> Result<()> {
        let (object, standing) = (named.object()?, named.standing()?);
        let content = named.version()?;
        let version = content.map(|(version, _)| version);
        let is_read = |version: &VersionId| !self.unfinished.contains_key(version);
        let known = version.filter(|v| standing == Standing::Same && is_read(v));
        self.gathered.all_known &= known.is_some() && !path.is_held();
        if let (Some(version), Some((_, size))) = (known, content) {
            if !damaged.contains(&version) {
                self.gathered.readable.push((version, size));
            }
            if !path.is_held() {
                let data = self.data(named, size)?;
                self.gathered.wanted.push(Wanted { version, data });
            }
            return Ok(());
        }
        if path.is_held() {
            return Ok(());
        }
        let size = named.stamp()?.size;
        let is_taken = self.unread.takes(object, standing, size);
        if standing == Standing::Doubtful
            && matches!(self.unread, Unread::Likely)
            && let Some(version) = version.filter(is_read)
        {
            self.gathered.readable.push((version, size));
            let data = self.data(named, size)?;
            self.gathered.wanted.push(Wanted { version, data });
            return Ok(());
        }
        // What could not be read stays in parity as it is there, if it is all there; its rows do not change.
        // What differs although its times say that it does not is not taken, read or not.
        let kept =
            version.into_iter().chain(named.older()?).filter(|v| !is_taken && self.complete.contains(v));
        self.gathered.wanted.extend(kept.map(|version| Wanted { version, data: Data::Dense(0) }));
        if is_taken {
            self.take(named, path, version.filter(|_| standing == Standing::Same))?;
        }
        Ok(())
    }

    fn data(&self, named: &NamedObject<'_>, size: ByteLength) -> Result<Data> {
        Ok(Data::new(&named.data(size)?))
    }

    /// Takes a content without checksums: a new one, or one that was read in part.
    fn take(&mut self, named: &NamedObject<'_>, path: RelPath, begun: Option<VersionId>) -> Result<()> {
        let (object, stamp) = (named.object()?, named.stamp()?);
        let size = stamp.size;
        let number = begun.unwrap_or_else(|| VersionId::new(-object.get()));
        self.gathered.readable.push((number, size));
        let data = match begun {
            Some(_) => self.data(named, size)?,
            None if named.allocated()? >= size => Data::Dense(size.granules()),
            None => {
                let ranges = self.member.usable()?.open(&path).and_then(|file| file.data_ranges());
                Data::new(&ranges.unwrap_or_default())
            }
        };
        self.gathered.wanted.push(Wanted { version: number, data: data.clone() });
        self.gathered.fresh.insert(number, Fresh { object, lane: self.lane, path, stamp, data });
        Ok(())
    }
}
