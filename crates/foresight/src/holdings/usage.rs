//! What kind of file takes how much on which disk.

use std::collections::{BTreeMap, HashSet};

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::{objects, samples};
use sieve_core::count::Count;
use sieve_core::path::{RelPath, shown};
use sieve_disk::Result;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

/// Nanoseconds in a day.
const DAY: i64 = 86_400_000_000_000;

/// Growth is told over so many days.
const GROWTH_DAYS: i64 = 30;

/// By what it is broken down.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Breakdown {
    /// By the end of the name, "wav".
    Type,
    /// By top folder.
    Folder,
    /// By disk alone.
    Disk,
    /// By owner.
    Owner,
    /// By how long ago a file was changed.
    Age,
}

/// One kind of file.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct UsageRow {
    /// Which: a type, a folder, a disk, an owner's number, an age in days from which on it counts.
    pub key: String,
    /// What it takes on each disk.
    pub by_disk: BTreeMap<String, Count>,
    /// In all.
    pub total: Count,
}

/// What takes how much where, the largest first. A file with several names counts once, a copy on each disk that has one.
///
/// # Errors
/// What the database says.
pub fn usage(pool: &Pool, by: Breakdown) -> Result<Vec<UsageRow>> {
    let mut rows: BTreeMap<String, UsageRow> = BTreeMap::new();
    for member in pool.members.iter().filter(|member| member.row.role.holds_files()) {
        let mut add = |key: String, count: Count| {
            let row = rows.entry(key).or_default();
            let on_disk = row.by_disk.entry(member.row.name.clone()).or_default();
            *on_disk = on_disk.plus(count);
            row.total = row.total.plus(count);
        };
        let reading = pool.catalogue.reading();
        match by {
            Breakdown::Type => each_file(pool, member, |path, count| add(type_of(path), count))?,
            Breakdown::Folder => each_file(pool, member, |path, count| add(folder_of(path), count))?,
            Breakdown::Disk => add(member.row.name.clone(), objects::taken(reading, member.row.id)?),
            Breakdown::Owner => {
                for (owner, count) in objects::by_owner(reading, member.row.id)? {
                    add(owner.to_string(), count);
                }
            }
            Breakdown::Age => {
                for (days, count) in objects::by_age(reading, member.row.id, pool.machine.now(), &AGES)? {
                    add(format!("{days:04}"), count);
                }
            }
        }
    }
    let mut rows: Vec<UsageRow> = rows.into_iter().map(|(key, row)| UsageRow { key, ..row }).collect();
    if by != Breakdown::Age {
        rows.sort_by(|a, b| (b.total.bytes, &a.key).cmp(&(a.total.bytes, &b.key)));
    }
    Ok(rows)
}

/// From how many days on a file counts as so old.
const AGES: [i64; 5] = [0, 7, 30, 365, 1095];

fn each_file(pool: &Pool, member: &Member, mut visit: impl FnMut(&RelPath, Count)) -> Result<()> {
    let mut seen = HashSet::new();
    objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, object| {
        if seen.insert(object.id) {
            visit(&path, Count { files: 1, bytes: object.size });
        }
        Ok(())
    })
}

fn type_of(path: &RelPath) -> String {
    if path.is_held() {
        return "(held)".into();
    }
    if path.is_piece() {
        return "(pieces)".into();
    }
    let name = path.file_name();
    let end = name.iter().rposition(|byte| *byte == b'.').filter(|dot| *dot > 0).map(|dot| &name[dot + 1..]);
    match end.filter(|end| (1..=10).contains(&end.len())) {
        Some(end) => shown(&end.to_ascii_lowercase()),
        None => "(none)".into(),
    }
}

fn folder_of(path: &RelPath) -> String {
    match path.components().collect::<Vec<_>>().as_slice() {
        _ if path.is_held() => "(held)".into(),
        _ if path.is_piece() => "(pieces)".into(),
        [top, _, ..] => shown(top),
        _ => "(at the root)".into(),
    }
}

/// Bytes by which a disk grew in the last month, by its samples; none where they do not go back so far.
///
/// # Errors
/// What the database says.
pub fn growth(pool: &Pool, member: &Member) -> Result<Option<i64>> {
    let now = pool.machine.now();
    let since = now.saturating_sub(GROWTH_DAYS * DAY);
    let samples = samples::of_disk(pool.catalogue.reading(), member.row.id, since.saturating_sub(7 * DAY))?;
    let signed = |bytes: sieve_core::units::ByteLength| i64::try_from(bytes.exact()).unwrap_or(i64::MAX);
    let then = samples.iter().rfind(|sample| sample.at <= since).and_then(|sample| sample.used);
    let used = member.used_bytes(&pool.catalogue)?;
    Ok(then.map(|then| signed(used) - signed(then)))
}
