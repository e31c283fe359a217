//! Pools on paper with a listing of files.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use sieve_core::fate::{DiskIndex, Exposures, Fate, Guard, LostSet, Shortages, own_trouble};
use sieve_core::forecast::{Participant, Pass, assumed_processor, forecast};
use sieve_core::paper::{PaperDisk, PaperVolume};
use sieve_core::path::RelPath;
use sieve_core::pool::{PoolSpec, Role};
use sieve_core::suggest::unknown;
use sieve_core::units::{ByteLength, VersionId};

use crate::listing;
use crate::status::{DiskStatus, Limited, Stakes, Status, Verdict, every_level, sizes};
use crate::{AtPath, Costs, Missing, Outlook, Step};
use crate::{RiskMember, RiskVolume};
use sieve_core::count::Count;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::{Curves, links};
use sieve_pool::fate::{FileFate, Reason, RowsShort, shortage_of};
use sieve_pool::member::State;

/// A pool on paper, with its fates when some disks are lost.
pub struct PaperPool {
    spec: PoolSpec,
    listing: Option<PathBuf>,
    volume: PaperVolume,
    fates: Vec<Fate>,
    guards: Vec<Guard>,
    shortages: Option<Shortages>,
    /// Paths that are taken to be removed.
    removed: Vec<RelPath>,
}

/// Puts a pool on paper: the volume of that name, or the only one, with the files of a listing.
///
/// # Errors
/// When a capacity is missing, or the listing cannot be read; the message says which line.
pub fn load(spec: &PoolSpec, volume: Option<&str>, listing: Option<&Path>) -> Result<PaperPool> {
    let volume = match (volume, spec.volumes.as_slice()) {
        (None, [only]) => only,
        (None, _) => {
            let message = "the pool file has several volumes, or none";
            return Err(
                Error::new(Kind::Usage, "volume.unknown", message).remedy("choose one with --volume NAME")
            );
        }
        (Some(name), volumes) => volumes.iter().find(|v| v.name == name).ok_or_else(|| {
            let message = unknown("volume", name, volumes.iter().map(|v| v.name.as_str()));
            Error::new(Kind::Usage, "volume.unknown", message)
        })?,
    };
    let mut paper = PaperVolume::new(spec, volume)
        .map_err(|e| Error::new(Kind::Usage, "paper.capacity", e.to_string()))?;
    if let Some(path) = listing.filter(|_| volume.has_cache() || !volume.fast.is_empty()) {
        let mut largest = ByteLength::ZERO;
        listing::read(path, |_, file| {
            largest = largest.max(ByteLength::new(file.size_bytes.unwrap_or(0)));
            Ok(())
        })?;
        paper = paper.expecting(largest);
    }
    if let Some(path) = listing {
        listing::read(path, |line, file| {
            let size = file.size_bytes.ok_or_else(|| listing::wrong(path, line, &"there is no size"))?;
            paper.add(&file.path, ByteLength::new(size)).map_err(|e| listing::wrong(path, line, &e))
        })?;
    }
    let guards = paper.guards();
    Ok(PaperPool {
        spec: spec.clone(),
        listing: listing.map(Path::to_path_buf),
        volume: paper,
        fates: Vec::new(),
        guards,
        shortages: None,
        removed: Vec::new(),
    })
}

impl PaperPool {
    fn is_removed(&self, path: &str) -> bool {
        !self.removed.is_empty()
            && RelPath::new(path).is_ok_and(|path| self.removed.iter().any(|removed| path.is_within(removed)))
    }

    fn file<'a>(
        &'a self,
        position: usize,
        path: &str,
        size_bytes: ByteLength,
        disks: Vec<&'a str>,
    ) -> FileFate<'a> {
        let guard = self.guards[position];
        FileFate {
            volume: &self.volume.volume().name,
            path: path.into(),
            path_hex: None,
            disks,
            size_bytes,
            fate: self.fates.get(position).copied().unwrap_or(Fate::Untouched),
            guard: guard.level,
            unguarded: guard.reason,
            reason: self.reason(position),
            top_folder: path.split_once('/').map_or(String::new(), |(top, _)| top.into()),
            position,
            content: None,
        }
    }

    /// The reason why a file does not come back, where that was asked for: that of the first of its objects that has one.
    fn reason(&self, position: usize) -> Option<Reason> {
        let shortages = self.shortages.as_ref()?;
        self.fates.get(position).filter(|fate| !fate.is_whole())?;
        let model = self.volume.model();
        let name = |disk: DiskIndex| self.volume.disk_name(disk).to_string();
        let reasons = self.volume.objects_of(position).into_iter().map(|object| {
            let object = &model.objects[object];
            let rows = shortage_of(object, shortages)
                .map(|(shortage, cause)| RowsShort::named(shortage, cause, name, Vec::new()));
            Reason { own: own_trouble(model, object), rows }
        });
        let mut reasons = reasons.collect::<Vec<_>>();
        let told = reasons.iter().position(|reason| reason.own.is_some() || reason.rows.is_some());
        Some(reasons.swap_remove(told.unwrap_or(0)))
    }

    fn unknown_disk(&self, name: &str) -> Error {
        let message = unknown("disk", name, self.volume.disks().iter().map(|d| d.name.as_str()));
        Error::new(Kind::Usage, "disk.unknown", message)
    }

    /// Disks that are passed over together, each so far.
    fn pass(&self, end: impl Fn(&PaperDisk) -> ByteLength) -> Pass {
        let (curves, links) = (Curves::default(), links(&self.spec));
        let participant = |disk: PaperDisk| {
            let spec = self.spec.disk(&disk.name);
            let link = spec.and_then(|spec| spec.link.as_ref());
            Participant {
                end: end(&disk),
                capacity: disk.capacity,
                curve: curves.of(spec, None),
                link: link.and_then(|name| links.iter().position(|link| link.name == *name)),
                name: disk.name,
            }
        };
        // A cache takes no part in parity.
        let disks = self.volume.disks().into_iter().filter(|disk| disk.role != Role::Cache);
        Pass { disks: disks.map(participant).collect(), links, processor: Some(assumed_processor()) }
    }

    /// How long the first sync and the rebuild of the fullest disk would take, in words.
    fn durations(&self) -> Vec<String> {
        let disks = self.volume.disks();
        if disks.iter().all(|d| d.used == ByteLength::ZERO) {
            return vec![
                "it holds nothing: give it files with --files LISTING, to see what becomes of them".into(),
            ];
        }
        if self.volume.volume().parity.is_empty() {
            return Vec::new();
        }
        let told = |what: &str, pass: &Pass| {
            let found = forecast(pass);
            format!(
                "{what} is likely to take {}, cautiously {}; held up by {}",
                found.likely, found.cautious, found.bottleneck
            )
        };
        let data = disks.iter().filter(|disk| disk.role == Role::Data);
        let reach = data.map(|d| d.used).max().unwrap_or_default();
        vec![
            told("the first sync", &self.pass(|d| d.used)),
            told("a rebuild of the fullest disk", &self.pass(|d| d.used.min(reach))),
        ]
    }

    fn disk_status(&self, spec: &PoolSpec, disk: PaperDisk) -> DiskStatus {
        let known = spec.disk(&disk.name);
        DiskStatus {
            volume: self.volume.volume().name.clone(),
            role: disk.role,
            state: State::OnPaper,
            advice: None,
            bay: known.and_then(|d| d.bay.clone()),
            serial: known.and_then(|d| d.serial.clone()),
            used: disk.used,
            free: disk.capacity.minus(disk.used),
            scanned_at: None,
            read_only: false,
            name: disk.name,
        }
    }

    /// How the pool is, as far as paper tells.
    ///
    /// # Errors
    /// None of its own.
    pub fn status(&self, spec: &PoolSpec, now: i64) -> Result<Status> {
        let disks: Vec<_> =
            self.volume.disks().into_iter().map(|disk| self.disk_status(spec, disk)).collect();
        let mut levels: BTreeMap<u8, Count> = BTreeMap::from([(0, Count::default())]);
        let mut unguarded: BTreeMap<sieve_core::fate::Unguarded, Count> = BTreeMap::new();
        let mut stakes = Stakes::default();
        let is_guarded = self.volume.volume().has_guard();
        self.for_each_file(&mut |file| {
            levels.entry(file.guard).or_default().add(file.size_bytes);
            let is_on_purpose = file.unguarded.is_some() && !is_guarded;
            stakes.add(file.size_bytes, file.fate, file.guard, is_on_purpose);
            if let Some(reason) = file.unguarded.filter(|_| !is_on_purpose) {
                unguarded.entry(reason).or_default().add(file.size_bytes);
            }
            Ok(())
        })?;
        let mut status = Status {
            pool: spec.name.clone(),
            verdict: Verdict::Well,
            stakes,
            at_work: None,
            volumes: vec![sizes(self.volume.volume(), &disks, self.volume.limit().map(|(_, limit)| limit))],
            disks,
            guard: every_level(&levels),
            unguarded,
            unguarded_since: None,
            sync_would_guard: None,
            held: Count::default(),
            synced_at: None,
            verified_at: None,
            next: None,
            as_of: None,
            now,
            conflicts: Vec::new(),
            damaged_cells: 0,
            proven: Vec::new(),
            limits: self
                .volume
                .limit()
                .map(|(used, limit)| Limited { volume: self.volume.volume().name.clone(), used, limit })
                .into_iter()
                .collect(),
            caches: Vec::new(),
            out_of_sight: Vec::new(),
            suspicious: None,
            damaged_tables: Vec::new(),
            notes: self.durations(),
            differs: Vec::new(),
        };
        status.verdict = status.judge();
        Ok(status)
    }
}

impl Outlook for PaperPool {
    fn spec(&self) -> &PoolSpec {
        &self.spec
    }

    fn disk_names(&self) -> Vec<String> {
        self.volume.disks().into_iter().map(|d| d.name).collect()
    }

    fn missing(&self) -> Vec<Missing> {
        Vec::new()
    }

    fn after(&mut self, step: &Step) -> Result<Vec<String>> {
        match step {
            Step::Sync => Ok(vec!["on paper every file counts as synced".into()]),
            Step::Settle => Ok(vec!["on paper nothing waits on a cache".into()]),
            Step::AddParity => {
                self.volume.add_parity();
                self.guards = self.volume.guards();
                Ok(Vec::new())
            }
            Step::Remove(path) => {
                self.removed.push(path.clone());
                Ok(Vec::new())
            }
            Step::Replace { disk, capacity } => {
                let mut spec = self.spec.clone();
                let known = spec.disks.iter_mut().find(|d| d.name == *disk);
                known.ok_or_else(|| self.unknown_disk(disk))?.capacity = Some(*capacity);
                let removed = std::mem::take(&mut self.removed);
                *self = load(&spec, Some(&self.volume.volume().name), self.listing.as_deref())?;
                self.removed = removed;
                Ok(vec![format!("every file is placed anew, with {capacity} on {disk}")])
            }
        }
    }

    fn lose(&mut self, names: &[String], with_reasons: bool) -> Result<()> {
        let mut lost = LostSet::new();
        for name in names {
            lost.insert(self.volume.index(name).ok_or_else(|| self.unknown_disk(name))?);
        }
        self.fates = self.volume.fates(&lost);
        self.shortages = with_reasons.then(|| Shortages::new(self.volume.model(), &lost, |_| true));
        Ok(())
    }

    fn for_each_file(&self, visit: &mut dyn FnMut(FileFate<'_>) -> Result<()>) -> Result<()> {
        for (position, (path, size, disks)) in self.volume.files().enumerate() {
            if !self.is_removed(path) {
                visit(self.file(position, path, size, disks))?;
            }
        }
        Ok(())
    }

    fn files_at(&self, path: &RelPath, visit: &mut AtPath<'_>) -> Result<()> {
        let wanted = path.to_string();
        for (position, (path, size, disks)) in self.volume.files().enumerate() {
            if path == wanted && !self.is_removed(path) {
                let model = self.volume.model();
                let objects = self.volume.objects_of(position).into_iter();
                let rows = objects.flat_map(|object| model.rows_of(&model.objects[object])).collect();
                visit(self.file(position, path, size, disks), rows)?;
            }
        }
        Ok(())
    }

    fn risk_volumes(&self) -> Result<Vec<RiskVolume>> {
        let model = self.volume.model();
        let disks = self.volume.disks();
        let members = disks.iter().map(|disk| RiskMember {
            name: disk.name.clone(),
            spec: self.spec.disk(&disk.name).cloned().unwrap_or_default(),
            capacity: disk.capacity,
            free: (disk.role == Role::Data).then(|| disk.capacity.minus(disk.used)),
            rebuild_hours: forecast(&self.pass(|d| d.used.min(disk.used))).likely.hours(),
        });
        let names = self.volume.name_counts(|path| !self.is_removed(path));
        Ok(vec![RiskVolume {
            name: self.volume.volume().name.clone(),
            now: model.clone(),
            synced: model.clone(),
            missing: LostSet::new(),
            names,
            seen: None,
            disks: members.collect(),
            sync_hours: None,
        }])
    }

    fn checksum(&self, _content: VersionId) -> Result<Option<[u8; 32]>> {
        Ok(None)
    }

    fn costs(&self, most: usize) -> Result<Costs> {
        let model = self.volume.model();
        let counts = self.volume.name_counts(|path| !self.is_removed(path));
        let names = |position: usize| counts[position];
        let stakes = Exposures::new(model, &LostSet::new(), most).stakes(model, names);
        let names = self.disk_names();
        let indices = names.iter().map(|name| self.volume.index(name)).collect();
        Ok(Costs { names, volumes: vec![(stakes, indices)] })
    }
}
