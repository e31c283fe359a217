//! What somebody should know of a pool: conditions, each with a sentence and the one command to type.

use std::collections::BTreeMap;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use sieve_actions::agenda::last_runs;
use sieve_core::count::so_many;
use sieve_core::forecast::Duration;
use sieve_core::health::{Check, Rule, Verdict, warranty_left};
use sieve_core::inventory::tail;
use sieve_core::notice::{Condition, Severity};
use sieve_core::pool::DiskSpec;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_pool::journal::{self, Ended};
use sieve_pool::pool::Pool;

use crate::status::{DiskStatus, Status, filling_of};

const SECOND: i64 = 1_000_000_000;
const DAY: i64 = 86_400 * SECOND;
/// Files that are unguarded for longer are told, where the volume does not say.
const UNGUARDED_AT_MOST: i64 = 7 * DAY;
/// What waits on a cache for longer is told.
const WAITS_AT_MOST: i64 = 7 * DAY;
/// Proofs older than this are told.
const PROVEN_WITHIN: i64 = 183 * DAY;
/// A disk that will be full so soon is told, in days.
const FULL_WITHIN: f64 = 30.0;
/// A warranty that ends so soon is told, in days.
const WARRANTY_WITHIN: i64 = 30;
/// A job that took so many times its forecast is told, if it took as long as this, in seconds.
const TIMES_FORECAST: f64 = 2.0;
const LONG: f64 = 60.0;

/// Everything that holds now. `findings` are the reasons that each disk's health was judged by, the worst first.
///
/// # Errors
/// What the database says.
pub fn conditions(
    pool: &Pool,
    status: &Status,
    findings: &BTreeMap<String, Vec<Check>>,
    zone: &TimeZone,
) -> Result<Vec<Condition>> {
    let mut list = List { pool, found: Vec::new() };
    for disk in &status.disks {
        list.presence(disk);
        list.space(disk, zone)?;
    }
    for (disk, checks) in findings {
        list.health(disk, checks);
    }
    list.files(status);
    list.jobs(status, zone)?;
    list.warranties(zone);
    list.found.sort_by(|a, b| (a.severity, &a.code).cmp(&(b.severity, &b.code)));
    Ok(list.found)
}

struct List<'a> {
    pool: &'a Pool,
    found: Vec<Condition>,
}

impl List<'_> {
    fn add(
        &mut self,
        code: impl Into<String>,
        severity: Severity,
        text: impl Into<String>,
        command: impl Into<String>,
    ) {
        self.found.push(Condition {
            code: code.into(),
            severity,
            disk: None,
            bay: None,
            serial_tail: None,
            text: text.into(),
            command: command.into(),
        });
    }

    fn add_of(&mut self, disk: &str, what: &str, severity: Severity, text: String, command: String) {
        let spec = self.pool.spec.disk(disk);
        self.found.push(Condition {
            code: format!("{what}:{disk}"),
            severity,
            disk: Some(disk.to_string()),
            bay: spec.and_then(|spec| spec.bay.clone()),
            serial_tail: spec
                .and_then(|spec| spec.serial.as_deref())
                .map(|serial| tail(serial).1.to_string()),
            text,
            command,
        });
    }

    fn presence(&mut self, disk: &DiskStatus) {
        let name = &disk.name;
        if let Some(advice) = disk.advice.as_ref().filter(|_| !disk.state.is_usable()) {
            let text = format!("{}; if it is dead, see what is lost with it", advice.message);
            self.add_of(
                name,
                "disk-missing",
                Severity::ActNow,
                text,
                format!("zinc-sieve fate --lose {name}"),
            );
        }
        if disk.read_only {
            let text =
                format!("{name} takes no writes: its filesystem was mounted read-only, often after errors");
            self.add_of(name, "disk-read-only", Severity::ActNow, text, format!("zinc-sieve health {name}"));
        }
    }

    fn space(&mut self, disk: &DiskStatus, zone: &TimeZone) -> Result<()> {
        if !disk.state.is_usable() {
            return Ok(());
        }
        let all = disk.used.plus(disk.free);
        let threshold = self.pool.spec.thresholds.too_full;
        if all > ByteLength::ZERO && threshold.exceeded_by(disk.used.exact(), all.exact()) {
            let full = disk.used.exact() as f64 / all.exact() as f64 * 100.0;
            let text = format!("{} is {full:.0} % full, {} are free", disk.name, disk.free);
            self.add_of(&disk.name, "disk-full", Severity::Soon, text, "zinc-sieve status".into());
        }
        if let Some(filling) = filling_of(self.pool, disk)?.filter(|filling| filling.likely <= FULL_WITHIN) {
            let at = self.pool.machine.now().saturating_add((filling.likely * DAY as f64) as i64);
            let text = format!("{} will be full on about {}", disk.name, day(at, zone));
            self.add_of(&disk.name, "disk-fills", Severity::Soon, text, "zinc-sieve usage".into());
        }
        Ok(())
    }

    fn health(&mut self, disk: &str, checks: &[Check]) {
        let Some(worst) = checks.first() else { return };
        let others = checks.iter().filter(|check| check.verdict == worst.verdict).count() - 1;
        let more = match others {
            0 => String::new(),
            1 => ", and one more reason".into(),
            others => format!(", and {others} more reasons"),
        };
        let command = format!("zinc-sieve health {disk}");
        let (severity, what) = match (worst.verdict, worst.rule) {
            (Verdict::Fine, _) => return,
            (_, Rule::Temperature) => (Severity::Soon, "disk-hot"),
            (_, Rule::SlowLink) => (Severity::Information, "link-slow"),
            // A test that is long ago is what the agenda is for.
            (Verdict::Watch, Rule::NoRecentTest) => (Severity::Information, "self-test-overdue"),
            (Verdict::Watch, _) => (Severity::Information, "disk-watch"),
            (Verdict::ReplaceSoon, _) => (Severity::Soon, "disk-failing"),
            (Verdict::DoNotUse, _) => (Severity::ActNow, "disk-failing"),
        };
        let text = format!("{disk}, {}: {}{more}", worst.verdict.words(), worst.reason);
        self.add_of(disk, what, severity, text, command);
    }

    fn files(&mut self, status: &Status) {
        if status.stakes.lost.files > 0 {
            let text = format!("{} cannot be had as before", so_many(status.stakes.lost.files, "file"));
            self.add("files-lost", Severity::ActNow, text, "zinc-sieve status");
        }
        if status.damaged_cells > 0 {
            let text = format!("there is damage in {}", so_many(status.damaged_cells, "place"));
            self.add("damage", Severity::ActNow, text, "zinc-sieve verify --mend");
        }
        if let Some(advice) = &status.suspicious {
            let text = format!("a sync waits for an answer: {}", advice.message);
            self.add("sync-suspicious", Severity::ActNow, text, "zinc-sieve sync");
        }
        self.unguarded(status);
        for cache in &status.caches {
            let Some(since) = cache.since.filter(|since| status.now.saturating_sub(*since) > WAITS_AT_MOST)
            else {
                continue;
            };
            let wait = if cache.waits.files == 1 { "waits" } else { "wait" };
            let text = format!(
                "{} of {} {wait} on the cache, the first for {}",
                so_many(cache.waits.files, "file"),
                cache.volume,
                long(status.now.saturating_sub(since))
            );
            self.add(format!("cache-waits:{}", cache.volume), Severity::Soon, text, "zinc-sieve settle");
        }
    }

    fn unguarded(&mut self, status: &Status) {
        let unguarded: u64 = status.unguarded.values().map(|count| count.files).sum();
        let most = self.pool.spec.volumes.iter().filter_map(|volume| volume.unguarded_at_most);
        let most = most.fold(f64::INFINITY, f64::min);
        let most = if most.is_finite() { (most * SECOND as f64) as i64 } else { UNGUARDED_AT_MOST };
        let age = status.now.saturating_sub(status.synced_at.unwrap_or(0));
        if unguarded > 0 && age > most {
            let ago = status
                .synced_at
                .map_or("there was no sync yet".into(), |_| format!("the last sync was {} ago", long(age)));
            let are = if unguarded == 1 { "is" } else { "are" };
            let text = format!("{} {are} unguarded; {ago}", so_many(unguarded, "file"));
            self.add("unguarded", Severity::Soon, text, "zinc-sieve sync");
        }
    }

    fn jobs(&mut self, status: &Status, zone: &TimeZone) -> Result<()> {
        let last = last_runs(self.pool)?;
        for (position, job) in self.pool.spec.agenda.jobs.iter().enumerate() {
            let Some(run) = last.get(&position) else { continue };
            let period = (job.when.period() * DAY as f64) as i64;
            if status.now.saturating_sub(run.ended) > period.saturating_mul(2).saturating_add(DAY) {
                let text =
                    format!("{} was last done {} ago", job.name, long(status.now.saturating_sub(run.ended)));
                self.add(format!("overdue:{}", job.name), Severity::Soon, text, "zinc-sieve agenda --due");
            }
            if matches!(run.how, Ended::Failed | Ended::Refused) {
                let why = run.said.as_deref().unwrap_or("see the journal");
                let text = format!("{} could not be done: {why}", job.name);
                self.add(
                    format!("job-failed:{}", job.name),
                    Severity::Soon,
                    text,
                    "zinc-sieve journal --failed",
                );
            }
        }
        self.slow_jobs(status)?;
        let oldest = status.proven.iter().map(|proof| proof.at).max();
        let has_guard = self.pool.spec.volumes.iter().any(|volume| !volume.parity.is_empty());
        if has_guard && oldest.is_some_and(|at| status.now.saturating_sub(at) > PROVEN_WITHIN) {
            let at = day(oldest.unwrap_or(0), zone);
            let text = format!("no prediction was proven by a drill since {at}");
            let disk = self
                .pool
                .spec
                .volumes
                .iter()
                .find_map(|volume| volume.data.first())
                .cloned()
                .unwrap_or_default();
            self.add("drill-overdue", Severity::Information, text, format!("zinc-sieve drill --lose {disk}"));
        }
        Ok(())
    }

    fn slow_jobs(&mut self, status: &Status) -> Result<()> {
        let recent = status.now.saturating_sub(2 * DAY);
        let slow = journal::last(&*self.pool.home, 1, |entry| {
            let (Some(took), Some(forecast)) = (entry.seconds, entry.forecast_seconds) else { return false };
            entry.at > recent && took > LONG && took > forecast * TIMES_FORECAST
        })?;
        if let Some(entry) = slow.first() {
            let of = |seconds: Option<f64>| Duration::from_seconds(seconds.unwrap_or(0.0));
            let text = format!(
                "the last {} took {}, {} had been forecast",
                entry.did.word(),
                of(entry.seconds),
                of(entry.forecast_seconds)
            );
            let code = format!("slow:{}", entry.did.word());
            self.add(code, Severity::Information, text, "zinc-sieve bench --read-disks");
        }
        Ok(())
    }

    fn warranties(&mut self, zone: &TimeZone) {
        let now = Timestamp::from_nanosecond(i128::from(self.pool.machine.now())).unwrap_or_default();
        let today = now.to_zoned(zone.clone()).date();
        let ending: Vec<(DiskSpec, i64)> = self
            .pool
            .spec
            .disks
            .iter()
            .filter(|disk| self.pool.spec.volume_of(&disk.name).is_some())
            .filter_map(|disk| Some((disk.clone(), warranty_left(disk, today)?)))
            .filter(|(_, left)| (0..=WARRANTY_WITHIN).contains(left))
            .collect();
        for (disk, left) in ending {
            let end = today.checked_add(left.days()).unwrap_or(today);
            let text = format!("the warranty of {} ends on {end}", disk.name);
            self.add_of(
                &disk.name,
                "warranty",
                Severity::Information,
                text,
                format!("zinc-sieve health --self-test long {}", disk.name),
            );
        }
    }
}

fn long(nanoseconds: i64) -> String {
    Duration::from_seconds(SignedDuration::from_nanos(nanoseconds).as_secs_f64()).to_string()
}

fn day(at: i64, zone: &TimeZone) -> String {
    let stamp = Timestamp::from_nanosecond(i128::from(at)).unwrap_or_default();
    stamp.to_zoned(zone.clone()).date().to_string()
}
