//! How much to worry about a pool: its disks, its rebuilds and its habits brought to the process of failures.

mod folders;

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;

use sieve_core::agenda::Task;
use sieve_core::health::age_in_years;
use sieve_core::pool::{JobSpec, Landing, Media, PoolSpec};
use sieve_core::risk::{
    Advice, Assessment, Comparison, Conditions, DAYS, Figure, FolderOnDisk, Habit, HabitSource, Market, Odds,
    RateEnd, RiskDisk, Simulated, Subject, UnitPrice, YearlyRate, advise, assess, closed_form, compare,
    default_unreadable_per_bit, simulate, yearly_rate,
};

use super::{RiskMember, RiskVolume};
use crate::{Others, Outlook};
use folders::folders;
pub use folders::{FolderRisk, ForGood};
use sieve_disk::Result;

/// What is asked for.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// What disks report of themselves, by name.
    pub findings: BTreeMap<String, Finding>,
    /// Today, for the age of disks.
    pub today: jiff::civil::Date,
    /// Play so many years.
    pub simulate: Option<f64>,
    /// The seed of the play.
    pub seed: u64,
    /// Work out what would help.
    pub advise: bool,
}

/// What a disk reports of itself, as far as it changes how likely it is to fail.
#[derive(Clone, Copy, Debug)]
pub struct Finding {
    /// So many times as likely over a year.
    pub raised: f64,
    /// Its hours of power, for its age where no date is known.
    pub hours: Option<u64>,
}

/// Where the interval of the syncs comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IntervalSource {
    /// The pool file.
    Given,
    /// The jobs of the agenda.
    Agenda,
    /// The journal.
    Observed,
    /// Nothing is known.
    Assumed,
}

/// How much to worry about one volume.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct VolumeRisk {
    /// The volume.
    pub volume: String,
    /// Its disks.
    pub disks: Vec<DiskRisk>,
    /// Days from one sync to the next.
    pub sync_every_days: f64,
    /// Where that comes from.
    pub sync_every_source: IntervalSource,
    /// What comes in a day.
    pub arrives: Arriving,
    /// So many times likelier a disk fails while another of its batch is being rebuilt.
    pub batch_factor: f64,
    /// Some of its disks are caches.
    pub has_cache: bool,
    /// What is to be expected in a year, by cause.
    pub odds: Odds,
    /// All causes together.
    pub total: Figure,
    /// The probability of losing anything within a year.
    pub any_in_a_year: f64,
    /// The same if disks fail as in the best populations that were published, and as in the worst.
    pub range: Range,
    /// How often a year more disks fail together than were reckoned with.
    #[serde(rename = "beyond_a_year")]
    pub beyond: f64,
    /// What of the total no other machine has, where the pool file names some.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub for_good: Option<ForGood>,
    /// By top folder, the most first.
    pub folders: Vec<FolderRisk>,
    /// The play, where it was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub simulated: Option<Simulated>,
    /// The play against the closed form.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub comparison: Vec<Comparison>,
    /// What would help, the best first, where it was asked for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub advice: Vec<Advice>,
}

/// Both ends of an answer.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Range {
    /// The probability of losing anything within a year, at the low and at the high end.
    #[serde(serialize_with = "sieve_core::pairs::low_high")]
    #[schemars(with = "sieve_core::pairs::LowHigh")]
    pub any_in_a_year: [f64; 2],
    /// Bytes to be expected to be lost in a year, at both ends.
    #[serde(rename = "bytes_a_year", serialize_with = "sieve_core::pairs::low_high")]
    #[schemars(with = "sieve_core::pairs::LowHigh")]
    pub bytes: [f64; 2],
}

/// What comes to a volume in a day.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Arriving {
    /// Files.
    #[serde(rename = "files_a_day")]
    pub files: f64,
    /// Bytes.
    #[serde(rename = "bytes_a_day")]
    pub bytes: f64,
    /// Where that comes from.
    pub source: HabitSource,
    /// Bytes that wait on caches on average; none where what lies there now is counted.
    pub waiting_bytes: Option<f64>,
}

/// How regularly something was done, by the journal.
#[derive(Clone, Copy, Debug, Default)]
pub struct Regularity {
    /// Days from sync to sync.
    pub syncs: Option<f64>,
    /// Days from settling to settling.
    pub settlings: Option<f64>,
}

/// One disk.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DiskRisk {
    /// Its name.
    #[serde(rename = "disk")]
    pub name: String,
    /// How likely it is to fail within a year.
    pub rate: YearlyRate,
    /// Its batch.
    pub batch: Option<String>,
    /// It is missing now.
    pub is_missing: bool,
    /// It is a cache.
    pub is_cache: bool,
    /// Days from its failure until it is replaced and rebuilt.
    pub window_days: f64,
    /// Hours of these that the rebuild takes.
    pub rebuild_hours: f64,
    /// The share of its bits that cannot be read.
    pub unreadable_per_bit: f64,
}

/// Days until a successor is in the bay of a disk that failed, where nobody says.
const REPLACE_WITHIN: f64 = 3.0;
/// Days from sync to sync, where nobody says and the journal does not tell.
const SYNC_EVERY: f64 = 7.0;
/// So many times likelier a disk fails while another of its batch is being rebuilt, where nobody says.
const BATCH_FACTOR: f64 = 3.0;
/// Bytes per second of a move from disk to disk, through one processor.
const MOVE_RATE: f64 = 1e8;

/// Works the risk out for each volume.
///
/// # Errors
/// What a disk or the database says.
pub fn risk(
    outlook: &mut dyn Outlook,
    request: &Request,
    done: Regularity,
    others: &Others,
) -> Result<Vec<VolumeRisk>> {
    outlook.lose(&[], false)?;
    let spec = outlook.spec().clone();
    let volumes = outlook.risk_volumes()?;
    volumes.into_iter().map(|volume| of_volume(outlook, &spec, volume, (request, done, others))).collect()
}

/// How many days there are between syncs of a volume, and who says so. An agenda may be new, or not be followed: the longer of
/// what it says and what was done counts.
fn interval(spec: &PoolSpec, volume: &str, done: Regularity) -> (f64, IntervalSource) {
    if let Some(days) = spec.risk.sync_every {
        return (days, IntervalSource::Given);
    }
    match (planned(spec, Task::Sync, volume), done.syncs) {
        (Some(days), seen) if seen.is_none_or(|seen| seen <= days) => (days, IntervalSource::Agenda),
        (_, Some(days)) => (days, IntervalSource::Observed),
        (_, None) => (SYNC_EVERY, IntervalSource::Assumed),
    }
}

/// Days from one run of a task to the next, by the most frequent job for this volume.
fn planned(spec: &PoolSpec, task: Task, volume: &str) -> Option<f64> {
    let is_for_it = |job: &&JobSpec| {
        job.task == task && job.disks.is_empty() && job.volume.as_ref().is_none_or(|name| name == volume)
    };
    spec.agenda.jobs.iter().filter(is_for_it).map(|job| job.when.period()).min_by(f64::total_cmp)
}

fn of_volume(
    outlook: &dyn Outlook,
    spec: &PoolSpec,
    volume: RiskVolume,
    (request, done, others): (&Request, Regularity, &Others),
) -> Result<VolumeRisk> {
    let (interval, source) = interval(spec, &volume.name, done);
    let settling = settling(spec, &volume, done);
    let habit = habit(spec, &volume, settling);
    let disks: Vec<DiskRisk> = (0..)
        .zip(&volume.disks)
        .map(|(position, m)| disk_risk(spec, &volume, position, m, request))
        .collect();
    let conditions = conditions(spec, &disks, interval);
    let subject = Subject {
        now: &volume.now,
        synced: &volume.synced,
        missing: &volume.missing,
        names: &volume.names,
        habit: &habit,
    };
    let assessment = assess(&subject, &conditions);
    let parts = folders(outlook, &volume, &assessment, &subject, others)?;
    let simulated = request.simulate.map(|years| simulate(&assessment.process, years, request.seed));
    let comparison = simulated.as_ref().map(|s| compare(&assessment.odds, s)).unwrap_or_default();
    let advice = if request.advise {
        advise(&subject, &conditions, &assessment, &market(spec, &volume, parts.on_disks, settling))
    } else {
        Vec::new()
    };
    let range = range(&assessment, &disks);
    let odds = assessment.odds;
    let day = habit.a_day();
    Ok(VolumeRisk {
        volume: volume.name,
        has_cache: disks.iter().any(|disk| disk.is_cache),
        disks,
        sync_every_days: interval,
        sync_every_source: source,
        batch_factor: conditions.batch_factor,
        arrives: Arriving {
            files: day.files,
            bytes: day.bytes,
            source: habit.source,
            waiting_bytes: habit.waiting.map(|waiting| waiting.bytes),
        },
        range,
        beyond: assessment.beyond,
        total: odds.total(),
        any_in_a_year: odds.any_in_a_year(),
        odds,
        for_good: (!others.is_empty()).then_some(parts.for_good),
        folders: parts.folders,
        simulated,
        comparison,
        advice,
    })
}

/// What is assumed about the failures of these disks.
fn conditions(spec: &PoolSpec, disks: &[DiskRisk], interval: f64) -> Conditions {
    Conditions {
        disks: disks.iter().map(as_process_disk).collect(),
        per_bit: disks.iter().map(|d| d.unreadable_per_bit).collect(),
        batch_factor: spec.risk.batch_factor.unwrap_or(BATCH_FACTOR),
        sync_interval: interval,
    }
}

/// Days from one settling of a volume to the next, and days that files wait at least; none where nothing tells.
fn settling(spec: &PoolSpec, volume: &RiskVolume, done: Regularity) -> Option<(f64, f64)> {
    let of = spec.volume(&volume.name)?;
    let every = match (planned(spec, Task::Settle, &volume.name), done.settlings) {
        _ if of.cache.settle_every.is_some() => of.cache.settle_every?,
        (Some(planned), Some(seen)) => planned.max(seen),
        (planned, seen) => planned.or(seen)?,
    };
    // What stays on the cache for good waits for nothing: then what lies there now is all that is known.
    let settles = of.has_cache() && of.folders.iter().all(|folder| folder.landing != Some(Landing::Stay));
    settles.then_some((every, of.cache.settle_after))
}

fn habit(spec: &PoolSpec, volume: &RiskVolume, settling: Option<(f64, f64)>) -> Habit {
    let count = volume.disks.len();
    let habit = match (spec.risk.arrives_a_day, volume.seen) {
        (Some(bytes), _) => Habit::given(&volume.now, &volume.names, count, bytes.exact() as f64),
        (None, Some(days)) => Habit::observed(&volume.now, &volume.names, count, days),
        (None, None) => Habit::unknown(count),
    };
    match (settling, spec.volume(&volume.name)) {
        // What comes waits on average for half the time from one settling to the next, and as long as it must.
        (Some((every, after)), Some(of)) => habit.waiting_for(every / 2.0 + after, of.cache.copies as u32),
        _ => habit,
    }
}

/// The answer at both ends of the published rates.
fn range(assessment: &Assessment, disks: &[DiskRisk]) -> Range {
    let [low, high] = [RateEnd::Low, RateEnd::High].map(|end| {
        let mut process = assessment.process.clone();
        for (disk, known) in process.disks.iter_mut().zip(disks).filter(|(_, known)| !known.is_missing) {
            disk.rate = known.rate.per_year_at(end);
        }
        closed_form(&process)
    });
    Range {
        any_in_a_year: [low.any_in_a_year(), high.any_in_a_year()],
        bytes: [low.total().bytes, high.total().bytes],
    }
}

fn disk_risk(
    spec: &PoolSpec,
    volume: &RiskVolume,
    position: u16,
    member: &RiskMember,
    request: &Request,
) -> DiskRisk {
    let finding = request.findings.get(&member.name);
    let age = age_in_years(&member.spec, request.today, finding.and_then(|f| f.hours));
    let usual = default_unreadable_per_bit(member.spec.media);
    DiskRisk {
        name: member.name.clone(),
        rate: yearly_rate(&member.spec, age, finding.map_or(1.0, |f| f.raised)),
        batch: member.spec.batch.clone(),
        is_cache: spec.volume(&volume.name).is_some_and(|of| of.cache.disks.contains(&member.name)),
        is_missing: volume.missing.contains(&sieve_core::fate::DiskIndex(position)),
        window_days: spec.risk.replace_within.unwrap_or(REPLACE_WITHIN) + member.rebuild_hours / 24.0,
        rebuild_hours: member.rebuild_hours,
        unreadable_per_bit: spec.risk.unreadable_per_bit.unwrap_or(usual),
    }
}

fn as_process_disk(disk: &DiskRisk) -> RiskDisk {
    RiskDisk {
        name: disk.name.clone(),
        rate: if disk.is_missing { 0.0 } else { disk.rate.per_year() },
        batch: disk.batch.clone(),
        window: disk.window_days / DAYS,
        is_cache: disk.is_cache,
    }
}

fn market(
    spec: &PoolSpec,
    volume: &RiskVolume,
    folders: Vec<FolderOnDisk>,
    settling: Option<(f64, f64)>,
) -> Market {
    Market {
        sync_hours: volume.sync_hours,
        rebuild_hours: volume.disks.iter().map(|d| d.rebuild_hours * volume.disks.len() as f64).collect(),
        capacities: volume.disks.iter().map(|d| d.capacity).collect(),
        free: volume.disks.iter().map(|d| d.free).collect(),
        media: volume.disks.iter().map(|d| d.spec.media).collect(),
        prices: [Media::Hdd, Media::Ssd, Media::Nvme]
            .into_iter()
            .filter_map(|m| unit_price(spec, m))
            .collect(),
        folders,
        settling,
        move_rate: MOVE_RATE,
    }
}

/// What disks of a kind cost on average, in the first currency that one of them has a price in.
fn unit_price(spec: &PoolSpec, media: Media) -> Option<UnitPrice> {
    let of_kind = spec.disks.iter().filter(|disk| disk.media.unwrap_or(Media::Hdd) == media);
    let priced: Vec<(f64, &str)> = of_kind
        .filter_map(|disk| {
            let (price, capacity) = (disk.price.as_ref()?, disk.capacity?);
            Some((price.hundredths as f64 / capacity.exact() as f64, price.currency.as_str()))
        })
        .collect();
    let (_, currency) = priced.first()?;
    let same: Vec<f64> = priced.iter().filter(|(_, c)| c == currency).map(|(price, _)| *price).collect();
    let per_byte = same.iter().sum::<f64>() / same.len() as f64;
    Some(UnitPrice { media, per_byte, currency: (*currency).to_string() })
}
