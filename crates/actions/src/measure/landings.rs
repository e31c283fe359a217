//! How fast copies really go in and come out again, landing by landing: figures for `ingest`.

use std::time::Instant;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::pool::{Tier, VolumeKind, VolumeSpec};
use sieve_core::units::{ByteLength, Rate};

use sieve_catalogue::label::Role;
use sieve_disk::durable;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::read_small;
use sieve_disk::workspace::Workspace;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

/// The version of the format that this program writes, and the newest it reads.
const FORMAT: u32 = 1;
/// How much is written at once.
const STEP: usize = 1 << 20;

/// Where copies land.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Ground {
    /// On the cache.
    Cache,
    /// On the data disks.
    Disks,
    /// On the fast disks of a tiered volume.
    Fast,
    /// On the slow ones.
    Slow,
}

impl Ground {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Cache => "cache",
            Self::Disks => "disks",
            Self::Fast => "fast",
            Self::Slow => "slow",
        }
    }
}

/// What one landing does.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Figures {
    /// The volume.
    pub volume: String,
    /// The landing.
    pub landing: Ground,
    /// The disk that was measured: the one with the most room.
    pub disk: String,
    /// How much was copied.
    pub bytes: ByteLength,
    /// Bytes per second onto it, made durable.
    #[serde(rename = "write_bytes_per_second", alias = "write")]
    pub write: Rate,
    /// Bytes per second back from it.
    #[serde(rename = "read_bytes_per_second", alias = "read")]
    pub read: Rate,
    /// When, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub at: i64,
}

#[derive(Serialize, Deserialize, JsonSchema)]
struct File {
    format: u32,
    landings: Vec<Figures>,
}

fn path() -> RelPath {
    OurPlace::Landings.path()
}

/// What was measured of a volume; nothing where it never was.
///
/// # Errors
/// When the file is damaged or newer.
pub fn known(pool: &Pool, volume: &str) -> Result<Vec<Figures>> {
    Ok(all(pool)?.into_iter().filter(|figures| figures.volume == volume).collect())
}

fn all(pool: &Pool) -> Result<Vec<Figures>> {
    if pool.home.stat(&path())?.is_none() {
        return Ok(Vec::new());
    }
    let place = sieve_disk::full_path(&*pool.home, &path());
    let wrong = |why: String| {
        Error::new(Kind::Corrupt, "landings.damaged", format!("{}: {why}", place.display()))
            .remedy("remove this file: zinc-sieve measure makes it anew")
    };
    let file: File = serde_json::from_slice(&read_small(&*pool.home, &path(), 1 << 20)?)
        .map_err(|e| wrong(e.to_string()))?;
    if file.format > FORMAT {
        return Err(wrong(format!(
            "it has format {}, this program knows formats up to {FORMAT}",
            file.format
        )));
    }
    Ok(file.landings)
}

/// The landings of a volume, each with the disk of it that has the most room.
fn grounds<'a>(pool: &'a Pool, volume: &'a VolumeSpec) -> Result<Vec<(Ground, &'a Member)>> {
    let ground = |member: &Member| match (member.row.role, volume.kind) {
        (Role::Cache, _) => Some(Ground::Cache),
        (Role::Data, VolumeKind::Tiered) if volume.tier_of(&member.row.name) == Tier::Fast => {
            Some(Ground::Fast)
        }
        (Role::Data, VolumeKind::Tiered) => Some(Ground::Slow),
        (Role::Data, _) => Some(Ground::Disks),
        (Role::Parity, _) => None,
    };
    let mut found: Vec<(Ground, &Member, ByteLength)> = Vec::new();
    for member in pool.file_members(&volume.name).filter(|member| member.writable().is_ok()) {
        let (Some(ground), free) = (ground(member), member.free_bytes(&pool.catalogue)?) else { continue };
        match found.iter_mut().find(|(known, ..)| *known == ground) {
            Some(best) if best.2 < free => (best.1, best.2) = (member, free),
            Some(_) => {}
            None => found.push((ground, member, free)),
        }
    }
    Ok(found.into_iter().map(|(ground, member, _)| (ground, member)).collect())
}

/// Copies so much to each landing and back, and keeps the figures.
///
/// # Crash safety
/// What is written is an unfinished file: it goes at the end, and after a crash at the next start.
///
/// # Errors
/// When a disk has too little room, another long writer is at work, or what a disk says.
pub fn measure(
    pool: &Pool,
    volume: &VolumeSpec,
    amount: ByteLength,
    observer: &dyn Observer,
) -> Result<Vec<Figures>> {
    pool.expect_long()?;
    let grounds = grounds(pool, volume)?;
    for (_, member) in &grounds {
        let free = member.free_bytes(&pool.catalogue)?;
        if free < amount {
            let message = format!("{} has {free} free, and {amount} are to be copied", member.row.name);
            return Err(
                Error::new(Kind::Usage, "measure.no-room", message).remedy("choose a smaller --amount")
            );
        }
    }
    let total = amount.exact().saturating_mul(2 * grounds.len() as u64);
    observer.event(Event::Stage { name: "measuring", total, unit: Unit::Bytes });
    let mut measured = Vec::new();
    for (landing, member) in grounds {
        let (write, read) = copy_there_and_back(pool, member, amount, observer)?;
        measured.push(Figures {
            volume: volume.name.clone(),
            landing,
            disk: member.row.name.clone(),
            bytes: amount,
            write,
            read,
            at: pool.machine.now(),
        });
    }
    keep(pool, &volume.name, &measured)?;
    Ok(measured)
}

fn keep(pool: &Pool, volume: &str, measured: &[Figures]) -> Result<()> {
    let mut landings = all(pool)?;
    landings.retain(|figures| figures.volume != volume);
    landings.extend_from_slice(measured);
    let text = serde_json::to_vec_pretty(&File { format: FORMAT, landings })
        .map_err(|e| Error::new(Kind::Internal, "landings.write", e.to_string()))?;
    durable::make_own_folder(&*pool.home, &OurPlace::Folder.path())?;
    durable::write_file(&*pool.home, &path(), &text)
}

fn copy_there_and_back(
    pool: &Pool,
    member: &Member,
    amount: ByteLength,
    observer: &dyn Observer,
) -> Result<(Rate, Rate)> {
    let disk = member.writable()?;
    let mut space = Workspace::begin(disk, pool.machine.random())?;
    let file = space.next_path();
    // Bytes that no disk shrinks.
    let mut bytes = vec![0; STEP];
    blake3::Hasher::new().update(&pool.machine.random().to_le_bytes()).finalize_xof().fill(&mut bytes);
    let rate = |begun: Instant| {
        Rate::from_per_second(amount.exact() as f64 / begun.elapsed().as_secs_f64().max(1e-9))
    };
    let begun = Instant::now();
    let mut output = disk.create(&file)?;
    let mut offset = 0;
    while offset < amount.exact() {
        let count = usize::try_from((amount.exact() - offset).min(STEP as u64)).unwrap_or(STEP);
        bytes[..8].copy_from_slice(&offset.to_le_bytes());
        output.write_at(&bytes[..count], offset)?;
        offset += count as u64;
        observer.event(Event::Advanced { by: count as u64 });
    }
    output.sync()?;
    let write = rate(begun);
    output.let_go(0, 0);
    drop(output);
    let begun = Instant::now();
    let mut input = disk.open(&file)?;
    let mut offset = 0;
    loop {
        let count = input.read_at(&mut bytes, offset)?;
        if count == 0 {
            break;
        }
        offset += count as u64;
        observer.event(Event::Advanced { by: count as u64 });
    }
    let read = rate(begun);
    space.finish()?;
    Ok((write, read))
}
