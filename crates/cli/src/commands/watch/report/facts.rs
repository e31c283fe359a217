//! What the page says, gathered. Everything is text by now; the page escapes it.

use std::path::Path;

use jiff::tz::TimeZone;
use serde::Serialize;
use sieve_core::agenda::{Hall, Span, judge, play, wanted};
use sieve_core::fate::LossMap;
use sieve_core::health::{Verdict, warranty_left};
use sieve_core::inventory::tail;
use sieve_core::notice::{Condition, Event, Moment, Severity};
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_foresight::holdings::{Breakdown, UsageRow, usage};
use sieve_foresight::risk::{Request, risk};
use sieve_foresight::status::Status;
use sieve_foresight::status::filling_of;
use sieve_foresight::{Look, Others, Outlook, PoolOutlook, agenda};
use sieve_pool::pool::Pool;

use crate::chart::inline;
use crate::commands::agenda::words;
use crate::commands::foresee::regularity::regularity;
use crate::commands::foresee::risk::cause_words;
use crate::commands::watch::elsewhere::{doubts, sentence};
use crate::commands::watch::status as verdicts;
use crate::human::{amounts, count, percent_of, size, time, units};
use crate::progress::Watch;
use crate::shelf::Shelf;
use crate::tell::place;

use super::past::{Line, last_days, trends};

/// Nanoseconds in a day.
const DAY: i64 = 86_400_000_000_000;
/// So many types and folders are told.
const KINDS: usize = 8;

/// All that the page says.
#[derive(Serialize)]
pub(super) struct Facts {
    pool: String,
    when: String,
    version: &'static str,
    /// How its charts become dark.
    dark_charts: String,
    as_of: Option<String>,
    verdict: String,
    verdict_class: &'static str,
    notices: Vec<Notice>,
    guard: Vec<Level>,
    waits: Vec<String>,
    cases: Vec<Case>,
    disks: Vec<Disk>,
    kinds: Option<Kinds>,
    losses: Option<String>,
    risk: Vec<Risk>,
    week: Option<Week>,
    trends: Vec<String>,
    journal: Vec<Line>,
}

#[derive(Serialize)]
struct Notice {
    severity: Severity,
    words: &'static str,
    text: String,
    place: Option<String>,
    command: String,
}

#[derive(Serialize)]
struct Level {
    level: u8,
    files: String,
    size: String,
}

#[derive(Serialize)]
struct Case {
    name: String,
    rows: Vec<Vec<Option<Bay>>>,
}

#[derive(Serialize)]
struct Bay {
    bay: String,
    disk: Option<String>,
    serial: Option<String>,
}

#[derive(Serialize)]
struct Disk {
    name: String,
    bay: Option<String>,
    role: &'static str,
    state: Option<String>,
    percent: u64,
    too_full: bool,
    used: String,
    free: String,
    full_about: Option<String>,
    celsius: Option<String>,
    health: Option<&'static str>,
    health_class: &'static str,
    warranty: Option<String>,
}

#[derive(Serialize)]
struct Kinds {
    types: Vec<Kind>,
    folders: Vec<Kind>,
    disks: Vec<Stack>,
}

#[derive(Serialize)]
struct Kind {
    name: String,
    files: String,
    size: String,
}

#[derive(Serialize)]
struct Stack {
    name: String,
    label: String,
    shares: Vec<String>,
}

#[derive(Serialize)]
struct Risk {
    sentence: String,
    causes: Vec<Cause>,
}

#[derive(Serialize)]
struct Cause {
    name: &'static str,
    often: String,
    bytes: String,
}

#[derive(Serialize)]
struct Week {
    sentence: String,
    clashes: Vec<String>,
    picture: Option<String>,
}

impl Facts {
    /// Gathers them; `status` and `conditions` were looked at before.
    ///
    /// # Errors
    /// What a disk or the database says.
    pub(super) fn gather(pool: &Pool, status: &Status, conditions: &[Condition]) -> Result<Self> {
        let shelf = Shelf::look(&pool.file, None).ok();
        let mut outlook = PoolOutlook::open(pool, Look::WhereShort, &Watch::new(false))?;
        let spec = &pool.spec;
        Ok(Self {
            pool: spec.name.clone(),
            when: time::moment(status.now),
            version: env!("CARGO_PKG_VERSION"),
            dark_charts: inline::dark_rules("chart"),
            as_of: status.as_of.map(time::moment),
            verdict: verdicts::plain_verdict(status),
            verdict_class: match status.verdict {
                sieve_foresight::status::Verdict::Well => "well",
                sieve_foresight::status::Verdict::Waits => "watch",
                sieve_foresight::status::Verdict::ActNow => "bad",
            },
            notices: conditions.iter().map(|condition| notice(&spec.name, condition)).collect(),
            guard: levels(status),
            waits: waits(status).into_iter().chain(elsewhere(pool, &mut outlook, status)?).collect(),
            cases: cases(pool),
            disks: disks(pool, status, shelf.as_ref())?,
            kinds: kinds(pool)?,
            losses: losses(&mut outlook)?,
            risk: risks(pool, &mut outlook, status)?,
            week: week(pool)?,
            trends: trends(pool)?,
            journal: last_days(pool)?,
        })
    }
}

fn notice(pool: &str, condition: &Condition) -> Notice {
    let event =
        Event { pool: pool.into(), moment: Moment::Begins, at: 0, since: 0, condition: condition.clone() };
    Notice {
        severity: condition.severity,
        words: condition.severity.words(),
        text: condition.text.clone(),
        place: place(&event),
        command: condition.command.clone(),
    }
}

fn levels(status: &Status) -> Vec<Level> {
    let level = |level: &sieve_foresight::status::GuardLevel| Level {
        level: level.level,
        files: count(level.files),
        size: size(level.bytes),
    };
    status.guard.iter().map(level).collect()
}

/// What other machines have, where the pool file names some.
fn elsewhere(pool: &Pool, outlook: &mut PoolOutlook<'_>, status: &Status) -> Result<Vec<String>> {
    let others = Others::read(&pool.spec, &pool.file, status.now);
    if others.is_empty() {
        return Ok(Vec::new());
    }
    outlook.lose(&[], false)?;
    let totals = others.totals(outlook)?;
    Ok(std::iter::once(sentence(&totals)).chain(doubts(&others)).collect())
}

fn waits(status: &Status) -> Vec<String> {
    let mut lines = Vec::new();
    match status.synced_at {
        Some(at) => lines.push(format!("The last sync was {}.", time::ago(at, status.now))),
        None => lines.push("There was no sync yet.".into()),
    }
    for cache in status.caches.iter().filter(|cache| cache.waits.files > 0) {
        let files = units::files(cache.waits.files);
        lines.push(format!("{files} of {} wait on the cache, {}.", cache.volume, size(cache.waits.bytes)));
    }
    for proof in &status.proven {
        lines.push(format!(
            "The loss of {} was proven {}.",
            proof.lost.join(", "),
            time::ago(proof.at, status.now)
        ));
    }
    lines
}

fn cases(pool: &Pool) -> Vec<Case> {
    let in_bay = |bay: &String| pool.spec.disks.iter().find(|disk| disk.bay.as_ref() == Some(bay));
    let bay = |bay: &Option<String>| {
        let bay = bay.as_ref()?;
        let disk = in_bay(bay);
        let serial = disk.and_then(|disk| disk.serial.as_deref()).map(|serial| tail(serial).1.to_string());
        Some(Bay { bay: bay.clone(), disk: disk.map(|disk| disk.name.clone()), serial })
    };
    let rows =
        |rows: &Vec<Vec<Option<String>>>| rows.iter().map(|row| row.iter().map(bay).collect()).collect();
    pool.spec.cases.iter().map(|case| Case { name: case.name.clone(), rows: rows(&case.rows) }).collect()
}

fn disks(pool: &Pool, status: &Status, shelf: Option<&Shelf>) -> Result<Vec<Disk>> {
    let items = shelf.map(Shelf::items).unwrap_or_default();
    let today = time::date(status.now);
    let mut all = Vec::new();
    for disk in &status.disks {
        let spec = pool.spec.disk(&disk.name);
        let item = items.iter().find(|item| item.name == Some(disk.name.as_str()) && item.found.is_some());
        let judged = item.zip(shelf).and_then(|(item, shelf)| shelf.judge(item).ok());
        let verdict = judged.map(|judged| judged.checks.first().map_or(Verdict::Fine, |check| check.verdict));
        let all_bytes = disk.used.plus(disk.free).exact().max(1);
        let filling = filling_of(pool, disk)?;
        let days = spec.and_then(|spec| warranty_left(spec, today));
        all.push(Disk {
            name: disk.name.clone(),
            bay: disk.bay.clone(),
            role: disk.role.word(),
            state: disk.advice.as_ref().filter(|_| !disk.state.is_usable()).map(|_| "not there".to_string()),
            percent: (disk.used.exact() as f64 / all_bytes as f64 * 100.0).round() as u64,
            too_full: pool.spec.thresholds.too_full.exceeded_by(disk.used.exact(), all_bytes),
            used: size(disk.used),
            free: size(disk.free),
            full_about: filling.map(|filling| {
                time::date(status.now.saturating_add((filling.likely * DAY as f64) as i64)).to_string()
            }),
            celsius: item.and_then(|item| item.found?.celsius).map(|celsius| format!("{celsius:.0}")),
            health: verdict.map(Verdict::words),
            health_class: match verdict {
                None => "",
                Some(Verdict::Fine) => "well",
                Some(Verdict::Watch) => "watch",
                Some(_) => "bad",
            },
            warranty: days.map(|days| if days < 0 { "ended".into() } else { format!("{days} days") }),
        });
    }
    Ok(all)
}

fn kinds(pool: &Pool) -> Result<Option<Kinds>> {
    let (types, folders) = (usage(pool, Breakdown::Type)?, usage(pool, Breakdown::Folder)?);
    if types.is_empty() {
        return Ok(None);
    }
    let kind = |row: &UsageRow| Kind {
        name: row.key.clone(),
        files: count(row.total.files),
        size: size(row.total.bytes),
    };
    let told = |rows: &[UsageRow]| rows.iter().take(KINDS).map(kind).collect();
    let mut disks = Vec::new();
    for member in pool.members.iter().filter(|member| member.row.role.holds_files()) {
        let name = &member.row.name;
        let of = |row: &UsageRow| row.by_disk.get(name).map(|count| count.bytes).unwrap_or_default();
        let all = types.iter().map(of).sum::<ByteLength>().exact().max(1) as f64;
        let share = |row: &UsageRow| of(row).exact() as f64 / all * 100.0;
        let label: Vec<String> = types
            .iter()
            .take(KINDS)
            .filter(|row| share(row) >= 1.0)
            .map(|row| format!("{} {:.0} %", row.key, share(row)))
            .collect();
        let shares = types.iter().take(KINDS).map(|row| format!("{:.1}", share(row))).collect();
        disks.push(Stack { name: name.clone(), label: label.join(", "), shares });
    }
    Ok(Some(Kinds { types: told(&types), folders: told(&folders), disks }))
}

fn losses(outlook: &mut PoolOutlook<'_>) -> Result<Option<String>> {
    outlook.lose(&[], false)?;
    let costs = outlook.costs(2)?;
    if costs.names.len() < 2 {
        return Ok(None);
    }
    inline::losses(&LossMap::new(costs.names.clone(), |set| costs.of(set)))
}

fn risks(pool: &Pool, outlook: &mut PoolOutlook<'_>, status: &Status) -> Result<Vec<Risk>> {
    let today = time::date(status.now);
    let request = Request { findings: Default::default(), today, simulate: None, seed: 0, advise: false };
    let others = Others::read(&pool.spec, &pool.file, status.now);
    let volumes = risk(outlook, &request, regularity(pool, status.now)?, &others)?;
    let of = |volume: &sieve_foresight::risk::VolumeRisk| {
        let causes = volume.odds.causes.iter().map(|(cause, figure)| Cause {
            name: cause_words(*cause),
            often: amounts::often(figure.events),
            bytes: amounts::bytes(figure.bytes),
        });
        let [low, high] = volume.range.any_in_a_year;
        let sentence = format!(
            "{}: the chance of losing anything within a year is about {} (between {} and {}).",
            volume.volume,
            percent_of(volume.any_in_a_year),
            percent_of(low),
            percent_of(high)
        );
        Risk { sentence, causes: causes.collect() }
    };
    Ok(volumes.iter().map(of).collect())
}

fn week(pool: &Pool) -> Result<Option<Week>> {
    if pool.spec.agenda.jobs.is_empty() {
        return Ok(None);
    }
    let (outline, zone) = (agenda::outline(pool)?, TimeZone::system());
    let (setting, now) = (&outline.setting, pool.machine.now().div_euclid(1_000_000_000));
    let judged = judge(setting, now, &zone);
    let hall = Hall::of(setting, Span { from: now, until: now + 7 * 86_400 }, &zone);
    let played = play(setting, &hall, &wanted(setting, &hall, &zone));
    let sentence = match judged.clashes.len() {
        0 => "Nothing collides.".to_string(),
        1 => "One thing collides.".to_string(),
        number => format!("{number} things collide."),
    };
    let told = |clash: &sieve_core::agenda::Clash| {
        let (what, mend) = words::sentence(setting, clash);
        format!("{what}: {mend}.")
    };
    let clashes = judged.clashes.iter().map(told).collect();
    let picture = inline::week(&pool.spec.name, setting, &hall, &played)?;
    Ok(Some(Week { sentence, clashes, picture }))
}

/// The file as it is told to whoever asked for it.
pub(super) fn told(path: &Path) -> String {
    format!("wrote {}", path.display())
}
