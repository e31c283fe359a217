//! `duplicates`: files of the same content. Nothing is removed.

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_foresight::Look;
use sieve_foresight::holdings::{Twins, twins};

use crate::args::LookArguments;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{count, size, style, units};
use crate::progress::Watch;
use crate::sheet::{self, SheetArguments};
use crate::{json, load};

json::named!("duplicates", Answer<'_>);

/// So many contents are shown.
const SHOWN: usize = 20;
/// So many files of each.
const FILES: usize = 8;

/// How much is looked at.
#[derive(Args)]
pub(crate) struct DuplicatesArguments {
    #[command(flatten)]
    sheet: SheetArguments,
    #[command(flatten)]
    look: LookArguments,
}

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// Each content that several files have.
    contents: &'a [Twins],
    /// What would be free with one of each.
    #[serde(rename = "would_free_bytes")]
    would_free: ByteLength,
    /// When the files on the disks were last looked at, where that was not now.
    #[serde(skip_serializing_if = "Option::is_none")]
    as_of: Option<String>,
}

/// A file of a content, as a line of CSV.
#[derive(Serialize)]
struct Line<'a> {
    checksum: &'a str,
    size_bytes: ByteLength,
    volume: &'a str,
    path: &'a str,
    disks: String,
    guard: u8,
    is_another_name: bool,
}

fn lines(twins: &Twins) -> impl Iterator<Item = Line<'_>> {
    twins.files.iter().map(|file| Line {
        checksum: &twins.checksum,
        size_bytes: twins.size_bytes,
        volume: &file.volume,
        path: &file.path,
        disks: file.disks.join(" "),
        guard: file.guard,
        is_another_name: file.is_another_name,
    })
}

pub(crate) fn run(context: &Context, arguments: &DuplicatesArguments) -> Result<Outcome> {
    let pool = load::pool(&context.pool)?;
    let look = if arguments.look.scan { Look::Always } else { Look::WhereShort };
    let (found, as_of) = twins(&pool, look, &Watch::begin(false)?)?;
    let would_free = found.iter().map(|twins| twins.would_free).sum();
    if arguments.sheet.csv {
        sheet::print(found.iter().flat_map(lines))?;
        return Ok(Outcome::Fine);
    }
    if context.json {
        json::print(&Answer { contents: &found, would_free, as_of: as_of.map(sieve_core::moment::text) })?;
        return Ok(Outcome::Fine);
    }
    if found.is_empty() {
        crate::say!("No two files have the same content.");
    } else {
        let (contents, of_each) = match found.len() {
            1 => ("One content is".to_string(), "it"),
            several => (format!("{} contents are", count(several as u64)), "each"),
        };
        crate::say!(
            "{contents} there more than once; removing all but one of {of_each} would free {}.",
            size(would_free)
        );
    }
    for twins in found.iter().take(SHOWN) {
        crate::say!(
            "\n{} each, would free {}:",
            size(twins.size_bytes),
            style::paint(style::HEAD, size(twins.would_free))
        );
        for twin in twins.files.iter().take(FILES) {
            let name = if twin.is_another_name { ", another name of the same file" } else { "" };
            let about = format!("{}, guard {}{name}", twin.disks.join(", "), twin.guard);
            crate::say!("  {}  {}", twin.path, style::paint(style::FAINT, about));
        }
        if twins.files.len() > FILES {
            crate::say!("  and {} more", units::files((twins.files.len() - FILES) as u64));
        }
    }
    if found.len() > SHOWN {
        crate::say!("\nand {} more contents (all with --json)", count((found.len() - SHOWN) as u64));
    }
    Ok(Outcome::Fine)
}
