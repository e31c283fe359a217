//! `where`: on which disk a file is, and how guarded.

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::fate::Unguarded;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_foresight::Look;
use sieve_foresight::holdings::{Pattern, Place, places};
use sieve_pool::pool::Pool;

use crate::args::LookArguments;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, count, reason, size, style, time, units};
use crate::progress::Watch;
use crate::sheet::{self, SheetArguments};
use crate::{json, load};

json::named!("where", Answer<'_>);

/// So many files are shown.
const SHOWN: usize = 50;

/// What is looked for.
#[derive(Args)]
pub(crate) struct WhereArguments {
    /// A path in a volume, a name, or a pattern: "0007.wav", "dawn-chorus/2031-*", "**/*.mkv"
    pattern: String,
    #[command(flatten)]
    sheet: SheetArguments,
    #[command(flatten)]
    look: LookArguments,
}

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// The files that were found.
    files: &'a [Place],
    /// When the files on the disks were last looked at, where that was not now.
    #[serde(skip_serializing_if = "Option::is_none")]
    as_of: Option<String>,
}

/// A line of the list as CSV.
#[derive(Serialize)]
struct Line<'a> {
    volume: &'a str,
    path: &'a str,
    size_bytes: ByteLength,
    disks: String,
    guard: u8,
    unguarded: Option<Unguarded>,
}

impl<'a> Line<'a> {
    fn of(place: &'a Place) -> Self {
        Self {
            volume: &place.volume,
            path: &place.path,
            size_bytes: place.size_bytes,
            disks: place.disks.join(" "),
            guard: place.guard,
            unguarded: place.unguarded,
        }
    }
}

pub(crate) fn run(context: &Context, arguments: &WhereArguments) -> Result<Outcome> {
    let pattern = Pattern::parse(&arguments.pattern)?;
    let pool = load::pool(&context.pool)?;
    let look = if arguments.look.scan { Look::Always } else { Look::WhereShort };
    let (found, as_of) = places(&pool, &pattern, look, &Watch::begin(false)?)?;
    if arguments.sheet.csv {
        sheet::print(found.iter().map(Line::of))?;
    } else if context.json {
        json::print(&Answer { files: &found, as_of: as_of.map(sieve_core::moment::text) })?;
    } else {
        show(&pool, &found);
        if let Some(at) = as_of {
            let words = format!("As of {}; --scan looks at all files first.", time::moment(at));
            crate::say!("\n{}", style::paint(style::FAINT, words));
        }
    }
    Ok(Outcome::well(!found.is_empty()))
}

fn show(pool: &Pool, found: &[Place]) {
    if found.is_empty() {
        crate::say!("No file matches.");
        return;
    }
    let several = pool.spec.volumes.len() > 1;
    let mut table = Table::new(&["file", "?>size", "on", "guard", "??volume"]);
    for place in found.iter().take(SHOWN) {
        let disks: Vec<String> = place.disks.iter().map(|name| with_bay(pool, name)).collect();
        let guard = match place.unguarded {
            Some(why) => (format!("0: {}", reason::own_words(why)), style::WATCH),
            None => (place.guard.to_string(), style::WELL),
        };
        let volume = if several { place.volume.clone() } else { "-".into() };
        table.add([
            place.path.clone().into(),
            size(place.size_bytes).into(),
            disks.join(", ").into(),
            guard.into(),
            volume.into(),
        ]);
    }
    table.leave_blanks_out();
    table.print();
    if found.len() > SHOWN {
        crate::say!("  and {} more (all with --json)", units::files((found.len() - SHOWN) as u64));
    }
    let bytes = found.iter().map(|place| place.size_bytes).sum();
    crate::say!("\n{} files, {}.", count(found.len() as u64), size(bytes));
}

fn with_bay(pool: &Pool, name: &str) -> String {
    let bay = pool.spec.disk(name).and_then(|disk| disk.bay.as_ref());
    bay.map_or_else(|| name.to_string(), |bay| format!("{name} (bay {bay})"))
}
