//! `usage`: what kind of file takes how much where.

use std::collections::BTreeMap;

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_foresight::holdings::{Breakdown, UsageRow, growth, usage};
use sieve_foresight::status::disks;
use sieve_foresight::status::filling_of;
use sieve_pool::pool::Pool;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Cell, Table, count, size, style, time};
use crate::sheet::{self, SheetArguments};
use crate::{json, load};

json::named!("usage", Answer<'_>);

/// So many lines are shown; the rest is summed up.
const ROWS: usize = 20;
/// So many disks are shown as columns of their own.
const DISK_COLUMNS: usize = 6;

/// By what it is broken down.
#[derive(Args)]
pub(crate) struct UsageArguments {
    /// By type (the end of the name), folder, disk, owner or age
    #[arg(long, value_name = "WHAT", default_value = "type")]
    by: UsageWord,
    #[command(flatten)]
    sheet: SheetArguments,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum UsageWord {
    Type,
    Folder,
    Disk,
    Owner,
    Age,
}

impl From<UsageWord> for Breakdown {
    fn from(word: UsageWord) -> Self {
        match word {
            UsageWord::Type => Self::Type,
            UsageWord::Folder => Self::Folder,
            UsageWord::Disk => Self::Disk,
            UsageWord::Owner => Self::Owner,
            UsageWord::Age => Self::Age,
        }
    }
}

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// By what was asked for, the largest first.
    rows: &'a [UsageRow],
    /// All disks.
    disks: Vec<Grown>,
}

/// How a disk fills.
#[derive(Serialize, JsonSchema)]
struct Grown {
    /// The disk.
    disk: String,
    /// What is used of it.
    #[serde(rename = "used_bytes")]
    used: ByteLength,
    /// What is free.
    #[serde(rename = "free_bytes")]
    free: ByteLength,
    /// How much more it holds than 30 days ago.
    #[serde(rename = "grew_bytes_in_30_days")]
    grew_in_30_days: Option<i64>,
    /// When it is likely to be full, by how it grew.
    full_about: Option<String>,
    /// When at the earliest.
    full_earliest: Option<String>,
    /// When at the latest.
    full_latest: Option<String>,
}

/// What one disk holds of a row, as a line of CSV.
#[derive(Serialize)]
struct Line<'a> {
    of: &'a str,
    disk: &'a str,
    files: u64,
    bytes: ByteLength,
}

fn lines(row: &UsageRow) -> impl Iterator<Item = Line<'_>> {
    let by_disk = row.by_disk.iter();
    by_disk.map(|(disk, count)| Line { of: &row.key, disk, files: count.files, bytes: count.bytes })
}

pub(crate) fn run(context: &Context, arguments: &UsageArguments) -> Result<Outcome> {
    let pool = load::pool(&context.pool)?;
    let rows = usage(&pool, arguments.by.into())?;
    let grown = grown(&pool)?;
    if arguments.sheet.csv {
        sheet::print(rows.iter().flat_map(lines))?;
        return Ok(Outcome::Fine);
    }
    if context.json {
        json::print(&Answer { rows: &rows, disks: grown })?;
        return Ok(Outcome::Fine);
    }
    if arguments.by != UsageWord::Disk {
        show(&pool, &rows, arguments.by);
        crate::say!();
    }
    show_disks(&grown);
    Ok(Outcome::Fine)
}

fn grown(pool: &Pool) -> Result<Vec<Grown>> {
    let now = pool.machine.now();
    let mut all = Vec::new();
    for disk in disks(pool)?.into_iter().filter(|disk| disk.role.holds_files()) {
        let filling = filling_of(pool, &disk)?;
        let date = |days: f64| time::date(now.saturating_add((days * 86_400e9) as i64)).to_string();
        all.push(Grown {
            grew_in_30_days: growth(pool, pool.member_named(&disk.name)?)?,
            full_about: filling.map(|filling| date(filling.likely)),
            full_earliest: filling.map(|filling| date(filling.earliest)),
            full_latest: filling.and_then(|filling| filling.latest).map(date),
            used: disk.used,
            free: disk.free,
            disk: disk.name,
        });
    }
    Ok(all)
}

fn show(pool: &Pool, rows: &[UsageRow], by: UsageWord) {
    let disks: Vec<&str> = pool
        .members
        .iter()
        .filter(|member| member.row.role.holds_files())
        .map(|member| member.row.name.as_str())
        .collect();
    let shown = if disks.len() <= DISK_COLUMNS { &disks[..] } else { &[] };
    let owners = if by == UsageWord::Owner { owners() } else { BTreeMap::new() };
    let mut headings = vec![heading(by).to_string(), ">files".into(), ">size".into()];
    headings.extend(shown.iter().map(|disk| format!("?>{disk}")));
    let mut table = Table::of(headings);
    for row in rows.iter().take(ROWS) {
        let mut cells: Vec<Cell> = vec![
            said(&row.key, by, &owners).into(),
            count(row.total.files).into(),
            (size(row.total.bytes), style::HEAD).into(),
        ];
        for disk in shown {
            let bytes = row.by_disk.get(*disk).map(|count| count.bytes).unwrap_or_default();
            cells.push(if bytes == ByteLength::ZERO {
                ("·".to_string(), style::FAINT).into()
            } else {
                size(bytes).into()
            });
        }
        table.add_row(cells);
    }
    table.print();
    if rows.len() > ROWS {
        let rest =
            rows[ROWS..].iter().map(|row| row.total).fold(Default::default(), sieve_core::count::Count::plus);
        let kinds = count((rows.len() - ROWS) as u64);
        crate::say!(
            "  and {kinds} more with {} files, {} (all with --json)",
            count(rest.files),
            size(rest.bytes)
        );
    }
}

const fn heading(by: UsageWord) -> &'static str {
    match by {
        UsageWord::Type => "type",
        UsageWord::Folder => "folder",
        UsageWord::Disk => "disk",
        UsageWord::Owner => "owner",
        UsageWord::Age => "last changed",
    }
}

fn said(key: &str, by: UsageWord, owners: &BTreeMap<String, String>) -> String {
    match (by, key) {
        (UsageWord::Age, "0000") => "within a week".into(),
        (UsageWord::Age, "0007") => "a week ago or more".into(),
        (UsageWord::Age, "0030") => "a month ago or more".into(),
        (UsageWord::Age, "0365") => "a year ago or more".into(),
        (UsageWord::Age, _) => "three years ago or more".into(),
        (UsageWord::Owner, id) => owners.get(id).map_or_else(|| format!("number {id}"), Clone::clone),
        (_, key) => key.to_string(),
    }
}

/// The names of the system's users by their numbers; where they cannot be read, numbers are shown.
fn owners() -> BTreeMap<String, String> {
    let text = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let line = |line: &str| {
        let mut fields = line.split(':');
        let name = fields.next()?.to_string();
        Some((fields.nth(1)?.to_string(), name))
    };
    text.lines().filter_map(line).collect()
}

fn show_disks(grown: &[Grown]) {
    let mut table = Table::new(&["disk", "?>used", ">free", "?>in 30 days", "full on about", "??between"]);
    for disk in grown {
        let grew = disk.grew_in_30_days.map_or("-".into(), |bytes| {
            let sign = if bytes < 0 { "−" } else { "+" };
            format!("{sign}{}", size(ByteLength::new(bytes.unsigned_abs())))
        });
        let between = match (&disk.full_earliest, &disk.full_latest) {
            (Some(earliest), Some(latest)) => format!("{earliest} and {latest}"),
            (Some(earliest), None) => format!("{earliest} and never"),
            _ => "-".into(),
        };
        let about = disk.full_about.clone().unwrap_or("-".into());
        table.row([disk.disk.clone(), size(disk.used), size(disk.free), grew, about, between]);
    }
    table.leave_blanks_out();
    table.print();
}
