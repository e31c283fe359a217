//! For every content the sets of disks whose loss it does not survive, in a form that any set can be held against.

use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, HashMap};

use super::model::{Composite, DiskIndex, LostSet, Model, ObjectState};
use super::sets::Cost;
use super::sweep::{Segment, sweep};

/// The most disks that a set can hold: 248 data disks, 8 parity disks, and caches.
pub const MOST_DISKS: usize = 320;

/// A set of disks of one volume.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DiskSet([u64; MOST_DISKS / 64]);

impl DiskSet {
    /// Adds a disk.
    ///
    /// # Panics
    /// When its index is not below [`MOST_DISKS`].
    pub fn insert(&mut self, disk: DiskIndex) {
        let index = usize::from(disk.0);
        self.0[index / 64] |= 1 << (index % 64);
    }

    /// Whether it is in the set.
    pub fn contains(&self, disk: DiskIndex) -> bool {
        let index = usize::from(disk.0);
        self.0.get(index / 64).is_some_and(|word| word >> (index % 64) & 1 == 1)
    }

    /// How many disks are in both sets.
    pub fn count_in(&self, other: &Self) -> u32 {
        self.0.iter().zip(&other.0).map(|(a, b)| (a & b).count_ones()).sum()
    }

    /// How many disks are in it and not in the other.
    fn count_beyond(&self, other: &Self) -> u32 {
        self.0.iter().zip(&other.0).map(|(a, b)| (a & !b).count_ones()).sum()
    }

    /// Its disks, in order.
    pub fn iter(&self) -> impl Iterator<Item = DiskIndex> {
        (0..MOST_DISKS as u16).map(DiskIndex).filter(|disk| self.contains(*disk))
    }
}

impl FromIterator<DiskIndex> for DiskSet {
    fn from_iter<I: IntoIterator<Item = DiskIndex>>(disks: I) -> Self {
        let mut set = Self::default();
        disks.into_iter().for_each(|disk| set.insert(disk));
        set
    }
}

/// A content is lost when more than `spare` disks of `within` are.
///
/// For rows of a lane: `within` are the disks whose loss takes something from the row, a good lane or a valid
/// parity, and `spare` is the number of valid parities less the lanes that need them already. That is the theorem,
/// solved for the set of lost disks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Limit {
    /// So many of them may be lost; −1 when the content is lost in any case.
    pub spare: i16,
    /// Which disks count.
    pub within: DiskSet,
}

impl Limit {
    /// Lost with its own disk, whatever else is lost.
    const ALONE: Self = Self { spare: -1, within: DiskSet([0; MOST_DISKS / 64]) };

    fn is_passed_by(&self, lost: &DiskSet) -> bool {
        i64::from(self.within.count_in(lost)) > i64::from(self.spare)
    }

    /// Whether every set that passes `other` passes this one as well.
    fn covers(&self, other: &Self) -> bool {
        i64::from(other.within.count_beyond(&self.within)) + i64::from(self.spare) <= i64::from(other.spare)
    }
}

/// The position of a list of limits in [`Exposures`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ExposureId(u32);

/// Which contents and objects are lost with which sets of disks.
///
/// Contents of one fate under every set share one list of limits; there are few lists, and many contents.
pub struct Exposures {
    lists: Vec<Vec<Limit>>,
    of_version: Vec<ExposureId>,
    /// For each checkpoint that a replica is of: the limits of what replicas know from then on.
    replicas: BTreeMap<u32, ExposureId>,
    missing: DiskSet,
}

const NEVER: ExposureId = ExposureId(0);
const ALONE: ExposureId = ExposureId(1);

impl Exposures {
    /// Computes them in one walk, for the loss of up to `most` disks besides those that are `missing` now.
    pub fn new(model: &Model, missing: &LostSet, most: usize) -> Self {
        let mut lists = Lists::new();
        let mut of_version = vec![NEVER; model.versions.len()];
        let lane_missing: Vec<bool> = model.lanes.iter().map(|l| missing.contains(&l.disk)).collect();
        let parity_missing: Vec<bool> = model.parities.iter().map(|p| missing.contains(&p.disk)).collect();
        let most = i16::try_from(most).unwrap_or(i16::MAX);
        let mut limit = None;
        sweep(model, |segment| {
            if segment.is_new_pattern {
                let found = limit_of(model, segment, &lane_missing, &parity_missing);
                limit = (found.spare < most).then(|| lists.limit(found));
            }
            let Some(limit) = limit else { return };
            let mut expose = |lane: usize| {
                if let Some(piece) = segment.pieces[lane] {
                    let exposure = &mut of_version[piece.version as usize];
                    *exposure = lists.with(*exposure, limit);
                }
            };
            if segment.is_new_pattern {
                (0..segment.pieces.len()).for_each(&mut expose);
            } else {
                segment.entered.iter().copied().for_each(&mut expose);
            }
        });
        let mut replicas = BTreeMap::new();
        for of in model.replicas.values() {
            let holders: DiskSet = model.replicas_with(*of).filter(|disk| !missing.contains(disk)).collect();
            let spare = i16::try_from(holders.count_in(&holders)).unwrap_or(i16::MAX) - 1;
            replicas.insert(*of, lists.list(vec![Limit { spare, within: holders }]));
        }
        Self { lists: lists.lists, of_version, replicas, missing: missing.iter().copied().collect() }
    }

    /// Whether what has these limits is lost with these disks.
    pub fn is_lost(&self, exposure: ExposureId, lost: &DiskSet) -> bool {
        self.lists[exposure.0 as usize].iter().any(|limit| limit.is_passed_by(lost))
    }

    /// The disks that count in any of these lists of limits.
    pub(super) fn disks_of(&self, exposures: impl Iterator<Item = ExposureId>) -> DiskSet {
        exposures.flat_map(|id| &self.lists[id.0 as usize]).flat_map(|limit| limit.within.iter()).collect()
    }

    /// The limits of what replicas know from a checkpoint on.
    fn of_recorded(&self, recorded: u32) -> ExposureId {
        let known = self.replicas.range(recorded.max(1)..).next().filter(|_| recorded > 0);
        known.map_or(ALONE, |(_, limits)| *limits)
    }

    /// The limits of an object's present content: if its own disk is lost and one of them is passed, it does not
    /// come back as it is.
    pub fn of(&self, model: &Model, object: &ObjectState) -> ExposureId {
        if let Some(recorded) = object.catalogued {
            return self.of_recorded(recorded);
        }
        let Some(index) = object.present() else { return ALONE };
        let version = &model.versions[index as usize];
        match version.is_complete() {
            false => ALONE,
            true if version.data == 0 => self.of_recorded(version.recorded),
            true => self.of_version[index as usize],
        }
    }

    /// Sums the objects up by disk and limits: what any set of disks costs follows from that.
    ///
    /// `names` gives how many names of files each object has, in the model's order.
    pub fn stakes(self, model: &Model, names: impl Fn(usize) -> u32) -> Stakes {
        let mut classes: HashMap<(DiskIndex, ExposureId), Cost> = HashMap::new();
        let composites = self.composite_stakes(model, &names);
        let mut is_part = vec![false; if composites.is_empty() { 0 } else { model.objects.len() }];
        for object in model.composites.iter().flat_map(Composite::objects) {
            is_part[object as usize] = true;
        }
        for (position, object) in model.objects.iter().enumerate() {
            if is_part.get(position).copied().unwrap_or(false) {
                continue;
            }
            let exposure = self.of(model, object);
            if exposure != NEVER {
                classes.entry((object.disk, exposure)).or_default().count(names(position), object.size);
            }
        }
        let mut of_missing = Vec::new();
        let mut by_disk: Vec<Vec<_>> = Vec::new();
        for ((disk, exposure), cost) in classes {
            if self.missing.contains(disk) {
                of_missing.push((exposure, cost));
                continue;
            }
            let index = usize::from(disk.0);
            if by_disk.len() <= index {
                by_disk.resize(index + 1, Vec::new());
            }
            by_disk[index].push((exposure, cost));
        }
        Stakes { exposures: self, of_missing, by_disk, composites }
    }

    /// What each file of several objects costs when it is lost: once, whatever it consists of.
    fn composite_stakes(&self, model: &Model, names: &impl Fn(usize) -> u32) -> Vec<(PartsKey, Cost)> {
        let stake = |composite: &Composite| {
            let size = |object: &u32| model.objects[*object as usize].size;
            let copy = composite.copies.iter().map(size).max();
            let bytes =
                copy.unwrap_or_else(|| composite.pieces.iter().filter_map(|p| p.first()).map(size).sum());
            let mut cost = Cost::default();
            cost.count(composite.objects().next().map_or(0, |first| names(first as usize)), bytes);
            (PartsKey::new(model, composite, self), cost)
        };
        let mut stakes: HashMap<PartsKey, Cost> = HashMap::new();
        for (key, cost) in model.composites.iter().map(stake) {
            let sum = stakes.entry(key).or_default();
            *sum = sum.plus(cost);
        }
        stakes.into_iter().collect()
    }
}

/// Objects, as far as it matters for whether they are lost.
pub(super) type Parts = Vec<(DiskIndex, ExposureId)>;

/// What decides over files of several objects: most of them share it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct PartsKey {
    /// Of each of these one is needed, if there are any and no copy is left.
    pub(super) pieces: Vec<Parts>,
    /// One of these is enough.
    pub(super) copies: Parts,
}

impl PartsKey {
    pub(super) fn new(model: &Model, composite: &Composite, exposures: &Exposures) -> Self {
        let part = |position: &u32| {
            let object = &model.objects[*position as usize];
            (object.disk, exposures.of(model, object))
        };
        Self {
            pieces: composite.pieces.iter().map(|piece| piece.iter().map(part).collect()).collect(),
            copies: composite.copies.iter().map(part).collect(),
        }
    }

    /// Whether the file is lost with these disks: all of its copies, and all that have one of its pieces.
    pub(super) fn is_lost(&self, exposures: &Exposures, lost: &DiskSet) -> bool {
        let part_is_lost = |(disk, exposure): &(DiskIndex, ExposureId)| {
            (lost.contains(*disk) || exposures.missing.contains(*disk)) && exposures.is_lost(*exposure, lost)
        };
        self.copies.iter().all(part_is_lost)
            && (self.pieces.is_empty() || self.pieces.iter().any(|piece| piece.iter().all(part_is_lost)))
    }
}

/// What is at stake on each disk, by limits.
pub struct Stakes {
    /// The limits that they are grouped by.
    pub exposures: Exposures,
    of_missing: Vec<(ExposureId, Cost)>,
    by_disk: Vec<Vec<(ExposureId, Cost)>>,
    composites: Vec<(PartsKey, Cost)>,
}

impl Stakes {
    /// What does not come back in its present state when these disks are lost, besides those missing now.
    ///
    /// Exact for as many disks as the exposures were computed for.
    pub fn cost(&self, lost: &DiskSet) -> Cost {
        let of_lost = lost.iter().filter_map(|disk| self.by_disk.get(usize::from(disk.0))).flatten();
        let at_stake = self.of_missing.iter().chain(of_lost);
        let lost_ones = at_stake.filter(|(exposure, _)| self.exposures.is_lost(*exposure, lost));
        let single = lost_ones.fold(Cost::default(), |sum, (_, cost)| sum.plus(*cost));
        let is_lost = |(key, _): &&(PartsKey, Cost)| key.is_lost(&self.exposures, lost);
        self.composites.iter().filter(is_lost).fold(single, |sum, (_, cost)| sum.plus(*cost))
    }
}

/// Lists of limits, each kept once; what a limit added to a list gives is remembered.
struct Lists {
    lists: Vec<Vec<Limit>>,
    ids: HashMap<Vec<Limit>, ExposureId>,
    limits: Vec<Limit>,
    limit_ids: HashMap<Limit, u32>,
    added: HashMap<(ExposureId, u32), ExposureId>,
}

impl Lists {
    fn new() -> Self {
        let mut lists = Self {
            lists: Vec::new(),
            ids: HashMap::new(),
            limits: Vec::new(),
            limit_ids: HashMap::new(),
            added: HashMap::new(),
        };
        let (never, alone) = (lists.list(Vec::new()), lists.list(vec![Limit::ALONE]));
        debug_assert_eq!((never, alone), (NEVER, ALONE));
        lists
    }

    fn limit(&mut self, limit: Limit) -> u32 {
        match self.limit_ids.entry(limit) {
            Entry::Occupied(known) => *known.get(),
            Entry::Vacant(free) => {
                self.limits.push(limit);
                *free.insert(u32::try_from(self.limits.len() - 1).unwrap_or(u32::MAX))
            }
        }
    }

    fn list(&mut self, list: Vec<Limit>) -> ExposureId {
        match self.ids.entry(list) {
            Entry::Occupied(known) => *known.get(),
            Entry::Vacant(free) => {
                self.lists.push(free.key().clone());
                let id = u32::try_from(self.lists.len() - 1).unwrap_or(u32::MAX);
                *free.insert(ExposureId(id))
            }
        }
    }

    /// The list with a limit more, and without those that it makes needless.
    fn with(&mut self, exposure: ExposureId, limit: u32) -> ExposureId {
        if let Some(known) = self.added.get(&(exposure, limit)) {
            return *known;
        }
        let added = self.limits[limit as usize];
        let mut list = self.lists[exposure.0 as usize].clone();
        if !list.iter().any(|known| known.covers(&added)) {
            list.retain(|known| !added.covers(known));
            list.push(added);
            list.sort_unstable();
        }
        let id = self.list(list);
        self.added.insert((exposure, limit), id);
        id
    }
}

fn limit_of(model: &Model, segment: &Segment<'_>, lane_missing: &[bool], parity_missing: &[bool]) -> Limit {
    let mut limit = Limit { spare: 0, within: DiskSet::default() };
    for ((parity, usable), gone) in model.parities.iter().zip(segment.valid).zip(parity_missing) {
        if *usable && !gone {
            limit.spare += 1;
            limit.within.insert(parity.disk);
        }
    }
    for ((lane, piece), gone) in model.lanes.iter().zip(segment.pieces).zip(lane_missing) {
        match piece {
            Some(piece) if piece.stale || *gone => limit.spare -= 1,
            Some(_) => limit.within.insert(lane.disk),
            None => {}
        }
    }
    limit.spare = limit.spare.max(-1);
    limit
}
