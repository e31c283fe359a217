//! How a volume would be if something were done first.

use std::collections::{BTreeMap, BTreeSet};

use sieve_core::checksum::cell_size;
use sieve_core::fate::{
    Composite, DiskIndex, Fate, LostSet, ObjectState, Standing, StatedPiece, VersionState, losses, verdicts,
};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;
use sieve_core::units::{ByteLength, DiskId, GRANULE, ObjectId, VersionId};

use sieve_actions::files::settle;
use sieve_actions::guard::sync;
use sieve_catalogue::label::Role;
use sieve_catalogue::relocation::{Destination, Leaving, Move};
use sieve_core::count::Count;
use sieve_disk::event::Silent;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::fate::{VolumeModel, split_by_damage};
use sieve_pool::pool::Pool;

/// Something that is taken to be done before the loss.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// A sync.
    Sync,
    /// What waits on the cache is moved to the disks.
    Settle,
    /// A file or folder is removed.
    Remove(RelPath),
    /// One more parity drive, and a sync.
    AddParity,
    /// A disk is replaced by one of that capacity; a missing one is rebuilt onto it.
    Replace {
        /// Its name.
        disk: String,
        /// The capacity of the new one.
        capacity: ByteLength,
    },
}

impl Step {
    /// Reads "sync", "settle", "add parity", "rm PATH" or "replace DISK with SIZE".
    ///
    /// # Errors
    /// When it is none of these.
    pub fn parse(text: &str) -> Result<Self> {
        let wrong = |why: String| {
            Error::new(Kind::Usage, "fate.after", why)
                .remedy("write sync, settle, \"add parity\", \"rm PATH\" or \"replace DISK with SIZE\"")
        };
        let words: Vec<&str> = text.split_whitespace().collect();
        match words.as_slice() {
            ["sync"] => Ok(Self::Sync),
            ["settle"] => Ok(Self::Settle),
            ["add", "parity"] => Ok(Self::AddParity),
            ["rm", ..] => {
                let path = text.trim_start().trim_start_matches("rm").trim().trim_matches('/');
                match RelPath::new(path) {
                    Ok(path) if !path.is_root() => Ok(Self::Remove(path)),
                    Ok(_) => Err(wrong("rm needs the path of a file or folder".into())),
                    Err(why) => Err(wrong(format!("`{path}` is no path in a volume: {why}"))),
                }
            }
            ["replace", disk, "with", size @ ..] => {
                let capacity = ByteLength::parse(&size.concat()).map_err(|e| wrong(e.to_string()))?;
                Ok(Self::Replace { disk: (*disk).into(), capacity })
            }
            _ => Err(wrong(format!("`{text}` is nothing that could be done first"))),
        }
    }
}

/// Takes it that a step was done.
///
/// # Errors
/// When the step cannot be done, or what the database says.
pub fn after(volume: &mut VolumeModel, pool: &Pool, step: &Step) -> Result<Vec<String>> {
    Coming { volume }.after(pool, step)
}

/// A volume on its way to another state.
struct Coming<'a> {
    volume: &'a mut VolumeModel,
}

impl Coming<'_> {
    fn after(&mut self, pool: &Pool, step: &Step) -> Result<Vec<String>> {
        match step {
            Step::Sync => self.after_sync(pool).map(|()| Vec::new()),
            Step::AddParity => {
                self.after_sync(pool)?;
                self.volume.model.add_parity(self.volume.disks.len());
                Ok(Vec::new())
            }
            Step::Settle => self.after_settle(pool),
            Step::Remove(path) => {
                // What is removed is held: parity and the lanes stay as they are.
                self.volume.removed.push(path.clone());
                Ok(Vec::new())
            }
            Step::Replace { disk, capacity } => self.after_replacement(pool, disk, *capacity),
        }
    }

    /// What waits lies on the disks, new to parity; copies that are held on the cache count as such.
    fn after_settle(&mut self, pool: &Pool) -> Result<Vec<String>> {
        let volume = pool.volume(Some(&self.volume.volume))?;
        if !volume.has_cache() && volume.kind != VolumeKind::Tiered {
            return Ok(vec![format!("nothing waits on a cache: {} has none", self.volume.volume)]);
        }
        let plan = settle::plan(pool, &volume, &settle::Options::default(), &Silent)?;
        for file in &plan.moves {
            self.after_move(file);
        }
        let left = plan.left_alone.len();
        let note = (left > 0)
            .then(|| format!("{left} files would stay where they are: zinc-sieve settle --dry-run"));
        Ok(note.into_iter().collect())
    }

    fn after_move(&mut self, file: &Move) {
        let positions: Vec<usize> =
            file.from.iter().filter_map(|source| self.volume.object_index(source.object)).collect();
        let to = file.to.disks();
        let (Some(first), Some(on)) =
            (positions.first().copied(), to.first().and_then(|to| self.volume.index(*to)))
        else {
            return;
        };
        let holds = file.from.iter().any(|source| source.leaving == Leaving::Hold);
        if let Destination::Pieces(shares) = &file.to {
            return self.after_parting(&positions, shares, holds);
        }
        let was_on = self.volume.model.objects[first];
        self.volume.model.objects[first].disk = on;
        let mut copies = vec![u32::try_from(first).unwrap_or(u32::MAX)];
        let more: Vec<DiskIndex> = to[1..].iter().filter_map(|disk| self.volume.index(*disk)).collect();
        for more in more {
            copies.push(self.add_unnamed(ObjectState { disk: more, ..was_on }));
        }
        if holds {
            let held = self.add_unnamed(was_on);
            self.volume.is_held.insert(held);
            copies.push(held);
        }
        for other in &positions[1..] {
            self.volume.vanished.insert(*other);
            if holds {
                copies.push(u32::try_from(*other).unwrap_or(u32::MAX));
            }
        }
        self.set_composite(Composite::of_copies(copies));
    }

    /// Pieces are new to parity; all of the file may be held on the cache beside them.
    fn after_parting(&mut self, positions: &[usize], shares: &[(DiskId, ByteLength)], holds: bool) {
        let Some((first, others)) = positions.split_first() else { return };
        let was_on = self.volume.model.objects[*first];
        let was = ObjectState { version: None, standing: Standing::Same, ..was_on };
        let mut file = Composite::of_pieces(vec![u32::try_from(*first).unwrap_or(u32::MAX)]);
        for (position, (disk, size)) in shares.iter().enumerate() {
            let Some(disk) = self.volume.index(*disk) else { continue };
            let piece = ObjectState { disk, size: *size, ..was };
            match position {
                0 => self.volume.model.objects[*first] = piece,
                _ => file.pieces.push(vec![self.add_unnamed(piece)]),
            }
        }
        self.volume.vanished.extend(others);
        if holds {
            file.copies.push(self.add_unnamed(was_on));
            file.copies.extend(others.iter().map(|other| u32::try_from(*other).unwrap_or(u32::MAX)));
            self.volume.is_held.extend(&file.copies);
        }
        self.set_composite(file);
    }

    /// One more object, which no name of a file stands for.
    fn add_unnamed(&mut self, object: ObjectState) -> u32 {
        let position = self.volume.model.objects.len();
        self.volume.model.objects.push(object);
        self.volume.vanished.insert(position);
        u32::try_from(position).unwrap_or(u32::MAX)
    }

    /// These are the parts of one file from now on, whatever was before.
    fn set_composite(&mut self, file: Composite) {
        let first = file.objects().next().unwrap_or_default();
        let number = match self.volume.composite_of.get(&first) {
            Some(number) => *number,
            None => {
                self.volume.model.composites.push(Composite::default());
                u32::try_from(self.volume.model.composites.len() - 1).unwrap_or(u32::MAX)
            }
        };
        self.volume.composite_of.extend(file.objects().map(|part| (part, number)));
        self.volume.model.composites[number as usize] = file;
    }

    /// The lanes as the coming sync plans them; what is damaged stays so, and its cells with it.
    fn after_sync(&mut self, pool: &Pool) -> Result<()> {
        if let Some(gone) = pool.members_of(&self.volume.volume, Role::Data).find(|m| !m.state.is_usable()) {
            let message = format!("a sync needs every data disk, and {} is not there", gone.row.name);
            return Err(Error::new(Kind::Usage, "fate.after", message)
                .remedy(format!("bring it back, or ask --after \"replace {} with SIZE\"", gone.row.name)));
        }
        let coming = sync::coming_sync(pool, &self.volume.volume)?;
        let unsound = self.unsound_granules();
        for version in &mut self.volume.model.versions {
            version.mapped = 0;
            version.recorded = 1;
        }
        let mut provisional: BTreeMap<VersionId, u32> = BTreeMap::new();
        for id in coming.unread {
            if let Some(object) = self.volume.object_index(ObjectId::new(-id.get())) {
                provisional.insert(id, self.take_as_synced(object));
            }
        }
        let sound: BTreeSet<u32> =
            self.volume.model.objects.iter().filter_map(ObjectState::present).collect();
        for (disk, map) in coming.lanes {
            let mut pieces = Vec::new();
            for interval in map.iter() {
                let id = interval.value.version;
                let found = provisional.get(&id).copied().or_else(|| self.volume.version_index(id));
                let Some(version) = found else { continue };
                self.volume.model.versions[version as usize].mapped += interval.rows.length();
                let stale = !sound.contains(&version);
                let piece =
                    StatedPiece { rows: interval.rows, version, offset: interval.value.offset, stale };
                match unsound.get(&version) {
                    Some(damage) if !stale => split_by_damage(piece, damage, &mut pieces),
                    _ => pieces.push(piece),
                }
            }
            let index = self.volume.sure_index(disk);
            let lane = self.volume.model.lanes.iter_mut().find(|l| l.disk == index);
            lane.expect("each data disk has a lane").pieces = pieces;
        }
        for version in provisional.values() {
            let state = &mut self.volume.model.versions[*version as usize];
            state.data = state.mapped;
        }
        self.finish_sync(&coming.dirty);
        self.volume.forget_held_copies();
        Ok(())
    }

    /// Parity that is computed anew is valid, but for rows where something cannot be read.
    fn finish_sync(&mut self, dirty: &[Rows]) {
        let stale =
            || self.volume.model.lanes.iter().flat_map(|l| &l.pieces).filter(|p| p.stale).map(|p| p.rows);
        let is_unsure = |cell: &&Rows| stale().any(|rows| !rows.intersection(**cell).is_empty());
        let unsure: Vec<Rows> = dirty.iter().filter(is_unsure).copied().collect();
        self.volume.model.parities.iter_mut().for_each(|parity| parity.set_invalid(unsure.clone()));
        self.volume.model.unmapped.clear();
        let all = (0..self.volume.disks.len()).filter_map(|index| u16::try_from(index).ok()).map(DiskIndex);
        self.volume.model.replicas =
            all.filter(|disk| !self.volume.missing.contains(disk)).map(|disk| (disk, 1)).collect();
        for object in &mut self.volume.model.objects {
            object.catalogued = object.catalogued.map(|_| 1);
            if object.standing == Standing::Same {
                object.older = None;
            }
        }
    }

    /// Granules of unchanged contents that are known to be damaged.
    fn unsound_granules(&self) -> BTreeMap<u32, Vec<Rows>> {
        let sound: BTreeSet<u32> =
            self.volume.model.objects.iter().filter_map(ObjectState::present).collect();
        let mut found: BTreeMap<u32, Vec<Rows>> = BTreeMap::new();
        for piece in self.volume.model.lanes.iter().flat_map(|l| &l.pieces) {
            if piece.stale && sound.contains(&piece.version) {
                found.entry(piece.version).or_default().push(Rows::at(piece.offset, piece.rows.length()));
            }
        }
        found.values_mut().for_each(|ranges| ranges.sort_unstable());
        found
    }

    /// Gives an object a content as a sync would find it.
    fn take_as_synced(&mut self, object: usize) -> u32 {
        let version = u32::try_from(self.volume.model.versions.len()).unwrap_or(u32::MAX);
        let state = &mut self.volume.model.objects[object];
        let cell = cell_size(state.size) / GRANULE;
        self.volume.model.versions.push(VersionState {
            size: state.size,
            cell,
            data: 0,
            mapped: 0,
            recorded: 1,
        });
        (state.version, state.standing, state.older) = (Some(version), Standing::Same, None);
        version
    }

    fn after_replacement(&mut self, pool: &Pool, name: &str, capacity: ByteLength) -> Result<Vec<String>> {
        let member = pool.member_named(name)?;
        let Some(disk) = self.volume.index(member.row.id) else { return Ok(Vec::new()) };
        let used = member.used_bytes(&pool.catalogue)?;
        if used > capacity {
            let message = format!("{capacity} do not hold the {used} that lie on {name}");
            return Err(Error::new(Kind::Usage, "fate.after", message).remedy("name a larger disk"));
        }
        let mut notes = self.parity_too_small(pool, name, member.row.role, capacity);
        if self.volume.missing.contains(&disk) {
            notes.extend(match member.row.role {
                Role::Data | Role::Cache => self.rebuild_data(pool, disk, name)?,
                Role::Parity => self.rebuild_parity(disk),
            });
        }
        Ok(notes)
    }

    /// What a data disk larger than the parity disks means.
    fn parity_too_small(&self, pool: &Pool, name: &str, role: Role, capacity: ByteLength) -> Vec<String> {
        let space = |m: &sieve_pool::member::Member| {
            sieve_pool::member::usable_bytes(m.spec.as_ref(), m.filesystem.as_ref()).unwrap_or_default()
        };
        match role {
            Role::Data => pool
                .members_of(&self.volume.volume, Role::Parity)
                .filter(|m| space(m) < capacity)
                .map(|m| {
                    let parity = &m.row.name;
                    format!(
                        "{parity} holds {}: what {name} holds beyond that has no parity until {parity} grows",
                        space(m)
                    )
                })
                .collect(),
            Role::Cache => Vec::new(),
            Role::Parity => pool
                .members_of(&self.volume.volume, Role::Data)
                .filter(|m| space(m) > capacity)
                .map(|m| format!("{} holds {}: more than {name} could guard", m.row.name, space(m)))
                .collect(),
        }
    }

    /// The disk comes back with what a rebuild obtains; what does not come back is gone for good.
    fn rebuild_data(&mut self, pool: &Pool, disk: DiskIndex, name: &str) -> Result<Vec<String>> {
        let verdicts = verdicts(&self.volume.model, &self.volume.missing);
        let lost = losses(&self.volume.model, &self.volume.missing);
        let names = self.volume.name_counts(pool)?;
        let (mut gone, mut older) = (Count::default(), Count::default());
        for (position, object) in
            self.volume.model.objects.iter_mut().enumerate().filter(|(_, o)| o.disk == disk)
        {
            let count = |so_far: &mut Count| (0..names[position]).for_each(|_| so_far.add(object.size));
            match verdicts.fates[position] {
                Fate::Untouched | Fate::Rebuilt => {}
                Fate::Older => {
                    count(&mut older);
                    let source = verdicts.sources[position].expect("an older state has a content");
                    object.size = self.volume.model.versions[source as usize].size;
                    (object.version, object.standing, object.older) = (Some(source), Standing::Same, None);
                }
                Fate::Torn | Fate::Gone => {
                    count(&mut gone);
                    self.volume.vanished.insert(position);
                }
            }
        }
        self.refill_lane(disk, &lost.lost);
        self.volume.missing.remove(&disk);
        let newest = self.volume.model.replicas.values().max().copied().unwrap_or(1);
        self.volume.model.replicas.insert(disk, newest);
        let told = |count: Count, what: &str| {
            (count.files > 0).then(|| format!("{} files ({}) of {name} {what}", count.files, count.bytes))
        };
        Ok([told(gone, "do not come back by that"), told(older, "come back in the state of the last sync")]
            .into_iter()
            .flatten()
            .collect())
    }

    /// What comes back of the snapshot's contents can be read on the new disk; the rest is stale.
    fn refill_lane(&mut self, disk: DiskIndex, lost: &BTreeMap<u32, Vec<Rows>>) {
        let present: BTreeSet<u32> = self
            .volume
            .model
            .objects
            .iter()
            .enumerate()
            .filter(|(position, _)| !self.volume.vanished.contains(position))
            .filter_map(|(_, object)| object.present())
            .collect();
        let Some(lane) = self.volume.model.lanes.iter_mut().find(|l| l.disk == disk) else { return };
        let pieces = std::mem::take(&mut lane.pieces);
        for piece in pieces {
            // A content that was given up, or that nobody holds any more, is not written to the new disk.
            let fresh = StatedPiece { stale: !present.contains(&piece.version), ..piece };
            match lost.get(&piece.version) {
                Some(damage) if !fresh.stale => split_by_damage(fresh, damage, &mut lane.pieces),
                _ => lane.pieces.push(fresh),
            }
        }
    }

    /// The parity is computed anew where every lane of a row can be had.
    fn rebuild_parity(&mut self, disk: DiskIndex) -> Vec<String> {
        let lost = losses(&self.volume.model, &self.volume.missing);
        let mut unknown: Vec<Rows> = Vec::new();
        for piece in self.volume.model.lanes.iter().flat_map(|l| &l.pieces) {
            let content = Rows::at(piece.offset, piece.rows.length());
            for range in lost.lost.get(&piece.version).into_iter().flatten() {
                let hit = range.intersection(content);
                if !hit.is_empty() {
                    unknown.push(Rows::at(piece.rows.start() + (hit.start() - piece.offset), hit.length()));
                }
            }
        }
        if let Some(parity) = self.volume.model.parities.iter_mut().find(|p| p.disk == disk) {
            parity.set_invalid(unknown);
        }
        self.volume.missing = self.volume.missing.iter().copied().filter(|d| *d != disk).collect::<LostSet>();
        Vec::new()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("sync", Step::Sync)]
    #[case("  settle ", Step::Settle)]
    #[case("add parity", Step::AddParity)]
    #[case("rm nest-cams/box 7", Step::Remove(RelPath::fixed("nest-cams/box 7")))]
    #[case("rm /notes/", Step::Remove(RelPath::fixed("notes")))]
    #[case("replace cedar with 8TB", Step::Replace { disk: "cedar".into(), capacity: ByteLength::new(8_000_000_000_000) })]
    #[case("replace cedar with 8 TB", Step::Replace { disk: "cedar".into(), capacity: ByteLength::new(8_000_000_000_000) })]
    fn steps_are_read(#[case] text: &str, #[case] step: Step) {
        assert_eq!(Step::parse(text).unwrap(), step);
    }

    #[rstest]
    #[case("")]
    #[case("rm")]
    #[case("rm ..")]
    #[case("replace cedar")]
    #[case("replace cedar with much")]
    #[case("sync now")]
    fn what_is_no_step_is_refused(#[case] text: &str) {
        assert_eq!(Step::parse(text).unwrap_err().kind, Kind::Usage);
    }
}
