//! `ls`: what is in a folder of a volume, one tree whichever disks it lies on.

use std::ffi::OsString;

use anstyle::Style;
use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::files::read;
use sieve_core::fate::Unguarded;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_foresight::holdings::{Depth, Order, Row, Tree, add_guards, tree};
use sieve_pool::pool::Pool;
use sieve_pool::scan;

use crate::args::{LookArguments, VolumeChoice};
use crate::commands::context::{Context, volume_path};
use crate::exit::Outcome;
use crate::human::{Cell, Table, count, reason, size, style, time, units};
use crate::progress::Watch;
use crate::sheet::{self, SheetArguments};
use crate::{json, load};

json::named!("ls", Answer<'_>);

/// What is listed, and how.
#[derive(Args)]
pub(crate) struct LsArguments {
    /// A folder of the volume
    #[arg(default_value = ".", add = crate::complete::paths())]
    folder: OsString,
    /// Everything below it, not only what lies in it itself
    #[arg(long)]
    tree: bool,
    /// Also when each was modified, on which disks it lies, and how guarded it is
    #[arg(long)]
    long: bool,
    /// In which order: by name, the largest first, or the newest first
    #[arg(long, value_name = "BY", default_value = "name")]
    sort: OrderWord,
    #[command(flatten)]
    sheet: SheetArguments,
    #[command(flatten)]
    look: LookArguments,
    #[command(flatten)]
    volume: VolumeChoice,
}

#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum OrderWord {
    Name,
    Size,
    Time,
}

impl From<OrderWord> for Order {
    fn from(word: OrderWord) -> Self {
        match word {
            OrderWord::Name => Self::Name,
            OrderWord::Size => Self::Size,
            OrderWord::Time => Self::Time,
        }
    }
}

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// The volume.
    volume: &'a str,
    /// The folder; empty for the whole volume.
    folder: String,
    /// How many files are in it.
    files: u64,
    /// Their bytes.
    size_bytes: ByteLength,
    /// What is in it.
    entries: &'a [Row],
}

/// A line of the list as CSV.
#[derive(Serialize)]
struct Line<'a> {
    path: &'a str,
    kind: &'a str,
    size_bytes: ByteLength,
    files: Option<u64>,
    modified: String,
    disks: String,
    guard: Option<u8>,
    unguarded: Option<Unguarded>,
}

impl<'a> Line<'a> {
    fn of(row: &'a Row) -> Self {
        Self {
            path: &row.path,
            kind: row.kind,
            size_bytes: row.size_bytes,
            files: row.files,
            modified: sieve_core::moment::text(row.modified),
            disks: row.disks.join(" "),
            guard: row.guarded.as_ref().map(|guarded| guarded.guard),
            unguarded: row.guarded.as_ref().and_then(|guarded| guarded.unguarded),
        }
    }
}

pub(crate) fn run(context: &Context, arguments: &LsArguments) -> Result<Outcome> {
    let folder = volume_path(&arguments.folder)?;
    let pool = load::pool(&context.pool)?;
    let volume = pool.volume(arguments.volume.volume.as_deref())?.name;
    look(&pool, &volume, &folder, arguments.look.scan)?;
    let depth = if arguments.tree { Depth::All } else { Depth::Own };
    let mut found = tree(&pool, &volume, &folder, depth, arguments.sort.into())?;
    if found.rows.is_empty() && !folder.is_root() && !is_folder(&pool, &volume, &folder)? {
        return Err(read::not_found(&pool, &volume, &folder)?);
    }
    if arguments.long || arguments.sheet.csv {
        add_guards(&pool, &volume, &folder, &mut found, &Watch::new(false))?;
    }
    if arguments.sheet.csv {
        sheet::print(found.rows.iter().map(Line::of))?;
    } else if context.json {
        json::print(&Answer {
            volume: &volume,
            folder: folder.to_string(),
            files: found.total.files,
            size_bytes: found.total.bytes,
            entries: &found.rows,
        })?;
    } else {
        show(&found, arguments.long);
    }
    Ok(Outcome::Fine)
}

/// Scans the folder, where that takes a moment; else says as of when it is told.
fn look(pool: &Pool, volume: &str, folder: &RelPath, wants_scan: bool) -> Result<()> {
    match scan::scanned_at(pool).filter(|_| !wants_scan) {
        Some(at) if !scan::is_short_at(pool, volume, folder)? => {
            let ago = time::ago(at, pool.machine.now());
            crate::say_aside!("as of the scan {ago}; zinc-sieve ls --scan looks at all files first");
        }
        _ => {
            let is_of_it = |member: &sieve_pool::member::Member| member.row.volume == volume;
            scan::scan_at(pool, is_of_it, std::slice::from_ref(folder), &Watch::begin(false)?)?;
        }
    }
    Ok(())
}

/// Whether there is such a folder, with nothing in it.
fn is_folder(pool: &Pool, volume: &str, folder: &RelPath) -> Result<bool> {
    let mut is_there = false;
    read::list(pool, volume, folder, |entry| {
        is_there |= entry.at == *folder;
        Ok(())
    })?;
    Ok(is_there)
}

fn show(found: &Tree, is_long: bool) {
    let mut table = Table::new(&["name", ">files", ">size", "modified", "on", "guard"]);
    for row in &found.rows {
        let is_folder = row.kind == "folder";
        let mark = if is_folder { "/" } else { "" };
        let name = format!("{}{}{mark}", "  ".repeat(row.depth), row.name);
        let dash = || Cell::from(("-".to_string(), style::FAINT));
        let told = |text: String| if is_long { Cell::from(text) } else { dash() };
        table.add([
            (name, if is_folder { style::HEAD } else { Style::new() }).into(),
            row.files.map_or_else(String::new, count).into(),
            match row.kind {
                "file" | "folder" => size(row.size_bytes).into(),
                kind => (kind.to_string(), style::FAINT).into(),
            },
            told(time::moment_in_a_row(row.modified)),
            told(row.disks.join(if is_folder { ", " } else { "+" })),
            match row.guarded {
                Some(guarded) => match guarded.unguarded {
                    Some(why) => (format!("0: {}", reason::own_words(why)), style::WATCH).into(),
                    None => (guarded.guard.to_string(), style::WELL).into(),
                },
                None => dash(),
            },
        ]);
    }
    table.leave_blanks_out();
    if !found.rows.is_empty() {
        table.print();
        crate::say!();
    }
    crate::say!("{}, {}", units::files(found.total.files), size(found.total.bytes));
}
