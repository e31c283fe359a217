//! Which copies are owed, and which follow another.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{apart, gone, versions};
use sieve_core::amounts::Amounts;
use sieve_core::checksum::ContentSum;
use sieve_core::count::Count;
use sieve_core::fate::Standing;
use sieve_core::mirror::{Copy, Knowledge, Verdict, judge};
use sieve_core::path::RelPath;
use sieve_core::placement::{Placement, Placer};
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{ByteLength, DiskId, ObjectId};
use sieve_disk::Result;
use sieve_disk::copying;
use sieve_disk::event::{Observer, heed};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::scan::doubts::resolve_doubts;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What the copies of a volume lack.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct MirrorPlan {
    /// Copies that are to be made.
    pub missing: Count,
    /// Copies that are outdated, and follow the newest one; what they were is held.
    pub outdated: Count,
    /// Files whose copies went separate ways: both stay.
    pub conflicts: Vec<String>,
    /// Files of which one copy was removed behind our back: it is not made again unasked.
    pub removed: Vec<String>,
    /// Bytes to write, by disk.
    pub written_bytes: Amounts,
    #[serde(skip)]
    pub(super) apart: Vec<RelPath>,
    #[serde(skip)]
    pub(super) steps: Vec<Step>,
    /// Contents that were read to be compared, and may be recorded.
    #[serde(skip)]
    pub(super) read: Vec<(ObjectRow, ContentSum)>,
}

impl MirrorPlan {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty() && self.read.is_empty()
    }
}

/// One file whose copies are brought up to date.
#[derive(Clone, Debug)]
pub(super) struct Step {
    pub(super) path: RelPath,
    pub(super) from: Vec<DiskId>,
    pub(super) to: Vec<DiskId>,
}

/// Looks at the copies of a volume, as it was last scanned; what has to be compared and is not known is read.
///
/// # Errors
/// What a disk or the database says.
pub fn plan(pool: &Pool, volume: &VolumeSpec, observer: &dyn Observer) -> Result<MirrorPlan> {
    let members: Vec<&Member> = pool.members_of(&volume.name, Role::Data).collect();
    let mut free = Vec::new();
    for member in &members {
        resolve_doubts(pool, member, observer)?;
        free.push(member.free_bytes(&pool.catalogue)?);
    }
    let mut gone_names: HashMap<DiskId, BTreeSet<RelPath>> = HashMap::new();
    for member in &members {
        let names = gone::all(pool.catalogue.reading(), member.row.id)?.into_iter().map(|row| row.path);
        gone_names.insert(member.row.id, names.collect());
    }
    let placer = Placer::new(Placement::Emptiest, free);
    let copies = volume.copies.min(members.len());
    let apart = apart::all(pool.catalogue.reading(), &volume.name)?;
    let (plan, linked) = (MirrorPlan::default(), HashMap::new());
    let mut planner = Planner { pool, observer, members, copies, placer, gone_names, apart, linked, plan };
    planner.all()?;
    Ok(planner.plan)
}

struct Planner<'a> {
    pool: &'a Pool,
    observer: &'a dyn Observer,
    members: Vec<&'a Member>,
    /// How many copies each file is to have.
    copies: usize,
    placer: Placer,
    gone_names: HashMap<DiskId, BTreeSet<RelPath>>,
    /// Files whose copies went separate ways before.
    apart: BTreeSet<RelPath>,
    /// For the objects with several names the disks that have, or will have, any of these: the others come there too, so that
    /// a copy has all names of its file.
    linked: HashMap<ObjectId, BTreeSet<usize>>,
    plan: MirrorPlan,
}

impl Planner<'_> {
    fn all(&mut self) -> Result<()> {
        let mut by_path: BTreeMap<RelPath, Vec<(usize, ObjectRow)>> = BTreeMap::new();
        for (disk, member) in self.members.iter().enumerate() {
            objects::for_each_name(self.pool.catalogue.reading(), member.row.id, |path, object| {
                if !path.is_held() {
                    by_path.entry(path).or_default().push((disk, object));
                }
                Ok(())
            })?;
        }
        self.linked = linked(&by_path);
        by_path.into_iter().try_for_each(|(path, copies)| self.file(&path, &copies))
    }

    fn file(&mut self, path: &RelPath, copies: &[(usize, ObjectRow)]) -> Result<()> {
        let mut judged = Vec::new();
        let mut read = Vec::new();
        if copies.len() > 1 {
            for (disk, object) in copies.iter().filter(|(_, object)| object.standing != Standing::Suspect) {
                judged.extend(self.copy(path, *disk, object, &mut read)?);
            }
        }
        let size = copies.iter().map(|(_, object)| object.size).max().unwrap_or_default();
        let verdict = match judge(&judged) {
            // What went apart once is not made one by whoever was recorded last.
            Verdict::Outdated { .. } if self.apart.contains(path) => Verdict::Conflict,
            verdict => verdict,
        };
        let (from, mut to) = match verdict {
            Verdict::Conflict => {
                self.plan.conflicts.push(path.to_string());
                self.plan.apart.push(path.clone());
                return Ok(());
            }
            Verdict::Outdated { newest, behind } => {
                let content = judged.iter().find(|copy| copy.disk == newest).map(|copy| copy.content);
                let same = judged.iter().filter(|copy| Some(copy.content) == content);
                let from: Vec<usize> = same.map(|copy| copy.disk).collect();
                behind.iter().for_each(|_| self.plan.outdated.add(size));
                (from, behind)
            }
            Verdict::InStep => (copies.iter().map(|(disk, _)| *disk).collect(), Vec::new()),
        };
        self.plan.read.append(&mut read);
        to.extend(self.places_for_more(path, copies, size));
        if !to.is_empty() {
            self.add(path, &from, &to, size);
        }
        Ok(())
    }

    /// One copy as the judge wants to see it; nothing when it cannot be read now.
    fn copy(
        &self,
        path: &RelPath,
        disk: usize,
        object: &ObjectRow,
        read: &mut Vec<(ObjectRow, ContentSum)>,
    ) -> Result<Option<Copy>> {
        let reading = self.pool.catalogue.reading();
        let recorded = object.version.map(|version| versions::get(reading, version)).transpose()?;
        let recorded = recorded.filter(|version| !version.unfinished);
        if let (Some(version), Standing::Same) = (&recorded, object.standing) {
            let knowledge = Knowledge::Recorded(version.id.get());
            return Ok(Some(Copy { disk, content: version.sum.whole, knowledge }));
        }
        let mut file = self.members[disk].usable()?.open(path)?;
        let stat = file.stat()?;
        let Some(sum) = copying::checksum(&mut *file, stat.size, |_| heed(self.observer))? else {
            return Ok(None);
        };
        if !object.matches(&file.stat()?) {
            return Ok(None); // it is being written: the next sync looks again
        }
        let knowledge = recorded.map_or(Knowledge::New, |version| Knowledge::ChangedFrom(version.sum.whole));
        let content = sum.whole;
        read.push((object.clone(), sum));
        Ok(Some(Copy { disk, content, knowledge }))
    }

    /// Disks for the copies that are owed, where nobody removed one.
    fn places_for_more(
        &mut self,
        path: &RelPath,
        copies: &[(usize, ObjectRow)],
        size: ByteLength,
    ) -> Vec<usize> {
        let owed = self.copies.saturating_sub(copies.len());
        if owed == 0 {
            return Vec::new();
        }
        let lacking: Vec<usize> =
            (0..self.members.len()).filter(|disk| copies.iter().all(|(has, _)| has != disk)).collect();
        let was_removed =
            |disk: &usize| self.gone_names.get(&self.members[*disk].row.id).is_some_and(|g| g.contains(path));
        if lacking.iter().any(was_removed) {
            self.plan.removed.push(path.to_string());
            return Vec::new();
        }
        let others: BTreeSet<usize> =
            copies.iter().filter_map(|(_, object)| self.linked.get(&object.id)).flatten().copied().collect();
        let (with_other_names, without): (Vec<usize>, Vec<usize>) =
            lacking.into_iter().partition(|disk| others.contains(disk));
        let mut found: Vec<usize> = with_other_names.into_iter().take(owed).collect();
        let more = owed - found.len();
        if more > 0 {
            found.extend(
                self.placer.place_copies(path, size, &without, more, ByteLength::ZERO).unwrap_or_default(),
            );
        }
        for (_, object) in copies {
            self.linked.entry(object.id).and_modify(|disks| disks.extend(&found));
        }
        found.into_iter().inspect(|_| self.plan.missing.add(size)).collect()
    }

    fn add(&mut self, path: &RelPath, from: &[usize], to: &[usize], size: ByteLength) {
        let id = |disk: &usize| self.members[*disk].row.id;
        for disk in to {
            self.plan.written_bytes.add(&self.members[*disk].row.name, size);
        }
        self.plan.steps.push(Step {
            path: path.clone(),
            from: from.iter().map(id).collect(),
            to: to.iter().map(id).collect(),
        });
    }
}

/// For each object with several names the disks on which any of these is.
fn linked(by_path: &BTreeMap<RelPath, Vec<(usize, ObjectRow)>>) -> HashMap<ObjectId, BTreeSet<usize>> {
    let mut names: HashMap<ObjectId, u32> = HashMap::new();
    by_path.values().flatten().for_each(|(_, object)| *names.entry(object.id).or_default() += 1);
    names.retain(|_, count| *count > 1);
    let mut linked: HashMap<ObjectId, BTreeSet<usize>> = HashMap::new();
    for copies in by_path.values() {
        let on: BTreeSet<usize> = copies.iter().map(|(disk, _)| *disk).collect();
        for (_, object) in copies.iter().filter(|(_, object)| names.contains_key(&object.id)) {
            linked.entry(object.id).or_default().extend(&on);
        }
    }
    linked
}
