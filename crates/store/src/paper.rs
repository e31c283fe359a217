//! Pools on paper with a listing of files, read from a file line by line.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::Path;

use serde::Deserialize;
use sieve_core::fate::{Cost, DiskIndex, Fate, Guard, LostSet};
use sieve_core::forecast::{Participant, Pass, assumed_processor, forecast};
use sieve_core::paper::PaperVolume;
use sieve_core::pool::PoolSpec;
use sieve_core::units::ByteLength;

use crate::curves::Curves;
use crate::error::{Error, Kind, Result};
use crate::fate::{Count, FileFate};
use crate::label::Role;
use crate::member::State;
use crate::status::{DiskStatus, GuardLevel, Status};

/// A pool on paper, with its fates when some disks are lost.
pub struct PaperPool {
    volume: PaperVolume,
    fates: Vec<Fate>,
    guards: Vec<Guard>,
}

/// One line of a listing.
#[derive(Deserialize)]
struct Line {
    path: String,
    size_bytes: u64,
}

fn wrong(place: &Path, line: u64, why: &dyn std::fmt::Display) -> Error {
    Error::new(Kind::Usage, "listing.line", format!("{}, line {line}: {why}", place.display())).remedy(
        "a listing has path,size_bytes on each line (CSV), or {\"path\": …, \"size_bytes\": …} (.jsonl)",
    )
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
            Error::new(Kind::Usage, "volume.unknown", format!("there is no volume `{name}`"))
        })?,
    };
    let mut paper = PaperVolume::new(spec, volume)
        .map_err(|e| Error::new(Kind::Usage, "paper.capacity", e.to_string()))?;
    if let Some(path) = listing {
        read_listing(path, |line, file| {
            paper.add(&file.path, ByteLength::new(file.size_bytes)).map_err(|e| wrong(path, line, &e))
        })?;
    }
    let guards = paper.guards();
    Ok(PaperPool { volume: paper, fates: Vec::new(), guards })
}

fn read_listing(path: &Path, mut visit: impl FnMut(u64, Line) -> Result<()>) -> Result<()> {
    let file = File::open(path).map_err(|e| {
        let mut error = Error::io("listing.read", path, e);
        error.kind = Kind::Usage;
        error
    })?;
    let reader = BufReader::with_capacity(1 << 18, file);
    if path.extension().is_some_and(|e| e == "jsonl") {
        for (number, line) in (1..).zip(reader.lines()) {
            let line = line.map_err(|e| wrong(path, number, &e))?;
            if !line.trim().is_empty() {
                visit(number, serde_json::from_str(&line).map_err(|e| wrong(path, number, &e))?)?;
            }
        }
        return Ok(());
    }
    let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(reader);
    let mut record = csv::StringRecord::new();
    let mut is_first = true;
    while reader.read_record(&mut record).map_err(|e| wrong(path, reader_line(&e), &e))? {
        let line = record.position().map_or(0, csv::Position::line);
        let is_heading = std::mem::take(&mut is_first) && record.get(0) == Some("path");
        if is_heading {
            continue;
        }
        let (Some(file), Some(size)) = (record.get(0), record.get(1)) else {
            return Err(wrong(path, line, &"there is no size"));
        };
        let size_bytes =
            size.trim().parse().map_err(|_| wrong(path, line, &format!("`{size}` is no number of bytes")))?;
        visit(line, Line { path: file.into(), size_bytes })?;
    }
    Ok(())
}

fn reader_line(error: &csv::Error) -> u64 {
    error.position().map_or(0, csv::Position::line)
}

impl PaperPool {
    /// Works the fates out when these disks are lost.
    ///
    /// # Errors
    /// When there is no disk of such a name.
    pub fn lose(&mut self, names: &[String]) -> Result<()> {
        let mut lost = LostSet::new();
        for name in names {
            let known = self.volume.disks().iter().map(|d| d.name.clone()).collect::<Vec<_>>().join(", ");
            let index = self.volume.index(name).ok_or_else(|| {
                let message = format!("there is no disk `{name}` in this volume; its disks are {known}");
                Error::new(Kind::Usage, "disk.unknown", message)
            })?;
            lost.insert(index);
        }
        self.fates = self.volume.verdicts(&lost).fates;
        Ok(())
    }

    /// Its disks, data disks first.
    pub fn disk_names(&self) -> Vec<String> {
        self.volume.disks().into_iter().map(|d| d.name).collect()
    }

    /// What does not come back when these disks, as positions in [`Self::disk_names`], are lost.
    pub fn cost(&self, lost: &[usize]) -> Cost {
        let lost: LostSet = lost.iter().filter_map(|p| u16::try_from(*p).ok()).map(DiskIndex).collect();
        let fates = self.volume.verdicts(&lost).fates;
        let mut cost = Cost::default();
        self.volume.files().zip(fates).for_each(|((_, size, _), fate)| cost.add(fate, 1, size));
        cost
    }

    /// Calls `visit` with every file.
    ///
    /// # Errors
    /// Those of `visit`.
    pub fn for_each_file(&self, mut visit: impl FnMut(FileFate<'_>) -> Result<()>) -> Result<()> {
        for (position, (path, size_bytes, disk)) in self.volume.files().enumerate() {
            let guard = self.guards[position];
            visit(FileFate {
                volume: self.volume.name(),
                path: path.into(),
                path_hex: None,
                disks: [disk],
                size_bytes,
                fate: self.fates.get(position).copied().unwrap_or(Fate::Untouched),
                guard: guard.level,
                unguarded: guard.reason,
                top_folder: path.split_once('/').map_or(String::new(), |(top, _)| top.into()),
            })?;
        }
        Ok(())
    }

    /// How long the first sync and the rebuild of the fullest disk would take, in words.
    fn durations(&self, spec: &PoolSpec) -> Vec<String> {
        let disks = self.volume.disks();
        if disks.len() == self.volume.data_disks() || disks.iter().all(|d| d.used == ByteLength::ZERO) {
            return Vec::new();
        }
        let curves = Curves::default();
        let participant = |disk: &sieve_core::paper::PaperDisk, end: ByteLength| Participant {
            name: disk.name.clone(),
            end,
            capacity: disk.capacity,
            curve: curves.of(spec.disk(&disk.name), None),
            link: None,
        };
        let told = |what: &str, participants: Vec<Participant>| {
            let processor = Some(assumed_processor());
            let found = forecast(&Pass { disks: participants, links: Vec::new(), processor });
            format!(
                "{what} is likely to take {}, cautiously {}; held up by {}",
                found.likely, found.cautious, found.bottleneck
            )
        };
        let sync = disks.iter().map(|d| participant(d, d.used)).collect();
        let reach = disks[..self.volume.data_disks()].iter().map(|d| d.used).max().unwrap_or_default();
        let rebuild = disks.iter().map(|d| participant(d, d.used.min(reach))).collect();
        vec![told("the first sync", sync), told("a rebuild of the fullest disk", rebuild)]
    }

    /// How the pool is, as far as paper tells.
    ///
    /// # Errors
    /// None of its own.
    pub fn status(&self, spec: &PoolSpec, now: i64) -> Result<Status> {
        let mut disks = Vec::new();
        for (position, disk) in self.volume.disks().into_iter().enumerate() {
            let known = spec.disk(&disk.name);
            let role = if position < self.volume.data_disks() { Role::Data } else { Role::Parity };
            disks.push(DiskStatus {
                volume: self.volume.name().into(),
                role,
                state: State::OnPaper,
                advice: None,
                bay: known.and_then(|d| d.bay.clone()),
                serial: known.and_then(|d| d.serial.clone()),
                used: disk.used,
                free: disk.capacity.minus(disk.used),
                scanned_at: None,
                read_only: false,
                name: disk.name,
            });
        }
        let mut levels: BTreeMap<u8, Count> = BTreeMap::from([(0, Count::default())]);
        let mut unguarded: BTreeMap<sieve_core::fate::Unguarded, Count> = BTreeMap::new();
        self.for_each_file(|file| {
            levels.entry(file.guard).or_default().add(file.size_bytes);
            if let Some(reason) = file.unguarded {
                unguarded.entry(reason).or_default().add(file.size_bytes);
            }
            Ok(())
        })?;
        let top = levels.keys().max().copied().unwrap_or(0);
        let level = |level: u8| {
            let count = levels.get(&level).copied().unwrap_or_default();
            GuardLevel { level, files: count.files, bytes: count.bytes }
        };
        Ok(Status {
            pool: spec.name.clone(),
            disks,
            guard: (0..=top).map(level).collect(),
            unguarded,
            held: Count::default(),
            synced_at: None,
            now,
            conflicts: Vec::new(),
            damaged_cells: 0,
            proven: Vec::new(),
            notes: self.durations(spec),
        })
    }
}
