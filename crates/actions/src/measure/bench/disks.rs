//! How fast the disks of a pool can be read, one at a time and all at once, beside what the processor hashes: the least of
//! them holds a sync up.

use std::sync::Barrier;
use std::time::Instant;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, Rate};

use super::timing::{Lanes, best_rates};
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_disk::Disk;
use sieve_disk::Result;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

/// Bytes that are read in one go.
const STEP: usize = 1 << 20;

/// How fast one disk is read.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DiskFigures {
    /// The disk.
    pub disk: String,
    /// What it does.
    pub role: Role,
    /// Bytes that were read of it each time; a disk with nothing on it has no figures.
    #[serde(rename = "sample_bytes")]
    pub sample: ByteLength,
    /// While nothing else is read.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(rename = "alone_bytes_per_second")]
    pub alone: Option<Rate>,
    /// While all disks are read.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(rename = "together_bytes_per_second")]
    pub together: Option<Rate>,
}

/// What a pool's disks and the processor allow.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PoolFigures {
    /// Disk by disk.
    pub disks: Vec<DiskFigures>,
    /// What one thread hashes.
    #[serde(rename = "hash_one_bytes_per_second")]
    pub hash_one: Rate,
    /// What as many threads as there are processors hash.
    #[serde(rename = "hash_all_bytes_per_second")]
    pub hash_all: Rate,
}

/// What is read of a disk: the largest files of a data disk, the image of a parity disk.
struct Sample<'a> {
    member: &'a Member,
    disk: &'a dyn Disk,
    parts: Vec<(RelPath, u64)>,
}

impl Sample<'_> {
    fn bytes(&self) -> u64 {
        self.parts.iter().map(|(_, length)| length).sum()
    }

    /// Reads it once, from the disk and not from memory as far as the system allows.
    fn read(&self) -> Result<Rate> {
        let mut buffer = vec![0; STEP];
        let begun = Instant::now();
        for (path, length) in &self.parts {
            let mut file = self.disk.open(path)?;
            file.let_go(0, 0);
            let mut offset = 0;
            while offset < *length {
                let count = file.read_at(&mut buffer, offset)?;
                if count == 0 {
                    break;
                }
                offset += count as u64;
            }
        }
        Ok(Rate::from_per_second(self.bytes() as f64 / begun.elapsed().as_secs_f64().max(1e-9)))
    }
}

/// Measures the disks that are there; nothing is written.
///
/// # Errors
/// What a disk or the database says.
pub fn pool_figures(pool: &Pool, amount: ByteLength) -> Result<PoolFigures> {
    let mut samples = Vec::new();
    for member in pool.members.iter().filter(|member| member.state.is_usable()) {
        let disk = &**member.usable()?;
        samples.push(Sample { member, disk, parts: parts_of(pool, member, disk, amount)? });
    }
    let alone = samples.iter().map(Sample::read).collect::<Result<Vec<_>>>()?;
    let start = Barrier::new(samples.len().max(1));
    let together = std::thread::scope(|scope| {
        let read = |sample: &Sample<'_>| {
            start.wait();
            sample.read()
        };
        let threads: Vec<_> = samples.iter().map(|sample| scope.spawn(move || read(sample))).collect();
        let joined = threads.into_iter().map(|thread| thread.join().expect("reading does not panic"));
        joined.collect::<Result<Vec<_>>>()
    })?;
    let figures = samples.iter().zip(alone.into_iter().zip(together)).map(|(sample, (alone, together))| {
        let has_any = sample.bytes() > 0;
        DiskFigures {
            disk: sample.member.row.name.clone(),
            role: sample.member.row.role,
            sample: ByteLength::new(sample.bytes()),
            alone: has_any.then_some(alone),
            together: has_any.then_some(together),
        }
    });
    let disks = figures.collect();
    let (hash_one, hash_all) = hashing();
    Ok(PoolFigures { disks, hash_one, hash_all })
}

fn parts_of(
    pool: &Pool,
    member: &Member,
    disk: &dyn Disk,
    amount: ByteLength,
) -> Result<Vec<(RelPath, u64)>> {
    let files = match member.row.role {
        Role::Data | Role::Cache => objects::largest(pool.catalogue.reading(), member.row.id, 1000)?,
        Role::Parity => segments(disk)?,
    };
    let (mut parts, mut left) = (Vec::new(), amount.exact());
    for (path, size) in files {
        let length = size.exact().min(left);
        if length > 0 && disk.stat(&path)?.is_some() {
            parts.push((path, length));
            left -= length;
        }
    }
    Ok(parts)
}

fn segments(disk: &dyn Disk) -> Result<Vec<(RelPath, ByteLength)>> {
    let folder = OurPlace::Parity.path();
    let mut found = Vec::new();
    if disk.stat(&folder)?.is_some() {
        for (name, stat) in disk.read_folder(&folder)? {
            if let Ok(path) = folder.join(&name)
                && name.starts_with(b"segment-")
            {
                found.push((path, stat.size));
            }
        }
    }
    found.sort();
    Ok(found)
}

/// What one thread and what all of them hash.
fn hashing() -> (Rate, Rate) {
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let data = Lanes::filled(threads, 16 * STEP);
    let lanes = data.all();
    let hash = |lane: &[u8]| {
        std::hint::black_box(blake3::hash(lane));
    };
    let mut one = || hash(lanes[0]);
    let mut all = || {
        std::thread::scope(|scope| {
            for lane in &lanes {
                scope.spawn(|| hash(lane));
            }
        });
    };
    let time = std::time::Duration::from_millis(200);
    let rates = best_rates(16 * STEP as u64, time, &mut [&mut one, &mut all]);
    (rates[0], Rate::from_per_second(rates[1].per_second() * threads as f64))
}
