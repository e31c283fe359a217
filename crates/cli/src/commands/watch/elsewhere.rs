//! `elsewhere`: what of this pool is also on other machines, and what is not.

use std::collections::BTreeMap;

use anstyle::Style;
use clap::{Args, ValueEnum};
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::{Kept, KeptTotals, Look, Other, Others, Outlook, PoolOutlook, Unread};
use sieve_pool::pool::Pool;

use crate::args::LookArguments;
use crate::commands::context::{Context, volume_path};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, time, units};
use crate::progress::Watch;
use crate::sheet::{self, SheetArguments};
use crate::{json, load};

/// So many files are listed without being asked.
const LISTED: usize = 15;

/// What is shown.
#[derive(Args)]
pub(crate) struct ElsewhereArguments {
    /// The files of this folder only
    #[arg(long, value_name = "PATH", add = crate::complete::paths())]
    folder: Option<String>,
    /// List only files of this kind, all of them
    #[arg(long, value_name = "KIND")]
    only: Option<Only>,
    #[command(flatten)]
    sheet: SheetArguments,
    #[command(flatten)]
    look: LookArguments,
}

/// Whether a file is elsewhere.
#[derive(Clone, Copy, ValueEnum)]
enum Only {
    /// On no other machine
    Nowhere,
    /// Another content there, or one that cannot be compared
    Differs,
    /// Only on machines that stand here as well
    OnSite,
    /// Only off-site
    OffSite,
    /// Both
    Both,
}

impl From<Only> for Kept {
    fn from(only: Only) -> Self {
        match only {
            Only::Nowhere => Self::Nowhere,
            Only::Differs => Self::Differs,
            Only::OnSite => Self::OnSite,
            Only::OffSite => Self::OffSite,
            Only::Both => Self::Both,
        }
    }
}

/// One file, and where else it is.
#[derive(Serialize, JsonSchema)]
struct FileLine {
    /// The volume.
    volume: String,
    /// The path in it.
    path: String,
    /// Its size.
    size_bytes: ByteLength,
    /// Where else it is.
    kept: Kept,
    /// The machines that have it.
    on: Vec<String>,
}

/// The same as a line of CSV.
#[derive(Serialize)]
struct Line<'a> {
    volume: &'a str,
    path: &'a str,
    size_bytes: ByteLength,
    kept: Kept,
    on: String,
}

impl<'a> Line<'a> {
    fn of(file: &'a FileLine) -> Self {
        let FileLine { volume, path, size_bytes, kept, on } = file;
        Self { volume, path, size_bytes: *size_bytes, kept: *kept, on: on.join(" ") }
    }
}

#[derive(Default)]
struct Found {
    totals: KeptTotals,
    folders: BTreeMap<String, KeptTotals>,
    files: Vec<FileLine>,
}

pub(crate) fn run(context: &Context, asked: &ElsewhereArguments) -> Result<Outcome> {
    let pool = load::pool(&context.pool)?;
    let others = Others::read(&pool.spec, &pool.file, pool.machine.now());
    if others.is_empty() {
        let message = format!("{} names no other machine", pool.file.display());
        return Err(Error::new(Kind::Usage, "elsewhere.none", message).remedy(
            "write a listing there (zinc-sieve listing FILE, or b3sum), and name it here: [[elsewhere]] with name and listing",
        ));
    }
    let found = find(&pool, &others, asked)?;
    if asked.sheet.csv {
        sheet::print(found.files.iter().map(Line::of))?;
    } else if context.json {
        print_json(&others, &found)?;
    } else {
        show(&others, &found, asked.only.map(Kept::from));
    }
    let is_well =
        found.totals.only_here().files == 0 && others.unread.is_empty() && others.stale().count() == 0;
    Ok(Outcome::well(is_well))
}

fn find(pool: &Pool, others: &Others, asked: &ElsewhereArguments) -> Result<Found> {
    let folder = asked.folder.as_deref().map(volume_path).transpose()?;
    let folder = folder.map(|folder| String::from_utf8_lossy(folder.as_bytes()).into_owned());
    let is_within = |path: &str| {
        folder.as_deref().is_none_or(|folder| {
            folder.is_empty()
                || path.strip_prefix(folder).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        })
    };
    let look = if asked.look.scan { Look::Always } else { Look::WhereShort };
    let mut outlook = PoolOutlook::open(pool, look, &Watch::begin(false)?)?;
    outlook.lose(&[], false)?;
    let only = asked.only.map(Kept::from);
    let mut found = Found::default();
    outlook.for_each_file(&mut |file| {
        if !is_within(&file.path) {
            return Ok(());
        }
        let (kept, on) = others.find(&outlook, &file)?;
        found.totals.0.entry(kept).or_default().add(file.size_bytes);
        let name = format!("{}/", file.top_folder).trim_start_matches('/').to_string();
        found.folders.entry(name).or_default().0.entry(kept).or_default().add(file.size_bytes);
        // What is listed without being asked is what nobody else has.
        if only.map_or(!kept.is_elsewhere(), |only| only == kept) {
            let on = on.into_iter().map(str::to_string).collect();
            found.files.push(FileLine {
                volume: file.volume.into(),
                path: file.path,
                size_bytes: file.size_bytes,
                kept,
                on,
            });
        }
        Ok(())
    })?;
    found.files.sort_by(|a, b| (a.kept, &a.path).cmp(&(b.kept, &b.path)));
    Ok(found)
}

/// Another machine, and its listing.
#[derive(Serialize, JsonSchema)]
struct Machine {
    /// What it is called.
    name: String,
    /// Where it is.
    place: Option<String>,
    /// It is in another place.
    off_site: bool,
    /// How many files its listing has.
    files: usize,
    /// Of when the listing is.
    as_of: String,
    /// The listing is old.
    is_stale: bool,
}

/// What is elsewhere.
#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// The machines whose listings were read.
    machines: Vec<Machine>,
    /// Those whose listings cannot be read.
    unread: &'a [Unread],
    /// All files, by where else they are.
    totals: &'a KeptTotals,
    /// The same for each top folder.
    folders: &'a BTreeMap<String, KeptTotals>,
    /// The files that were asked for; else those that are nowhere else.
    files: &'a [FileLine],
}
json::named!("elsewhere", Answer<'_>);

fn print_json(others: &Others, found: &Found) -> Result<()> {
    let machine = |other: &'_ Other| Machine {
        name: other.spec.name.clone(),
        place: other.spec.place.clone(),
        off_site: other.spec.off_site,
        files: other.files(),
        as_of: sieve_core::moment::text(other.as_of),
        is_stale: other.is_stale,
    };
    let machines = others.known.iter().map(machine);
    let (machines, unread) = (machines.collect(), others.unread.as_slice());
    json::print(&Answer {
        machines,
        unread,
        totals: &found.totals,
        folders: &found.folders,
        files: &found.files,
    })
}

/// What is elsewhere, in a sentence without colours.
pub(crate) fn sentence(totals: &KeptTotals) -> String {
    let (all, only_here) = (totals.all(), totals.only_here());
    let all = format!("{}, {}", units::files(all.files), size(all.bytes));
    if only_here.files == 0 {
        return format!("{all}: each is on another machine as well.");
    }
    if only_here == totals.all() {
        return format!("{all}: nothing of it is on another machine.");
    }
    format!("{all}; on no other machine: {}, {}.", units::files(only_here.files), size(only_here.bytes))
}

/// What has to be known of the listings.
pub(crate) fn doubts(others: &Others) -> impl Iterator<Item = String> {
    let stale = others.stale().map(|name| format!("The listing of {name} is old: write a new one there."));
    let unread = others.unread.iter();
    stale.chain(unread.map(|unread| format!("The listing of {} is not there: {}", unread.name, unread.why)))
}

fn show(others: &Others, found: &Found, only: Option<Kept>) {
    let colour = if found.totals.only_here().files > 0 { style::WATCH } else { style::WELL };
    crate::answer!("{}", style::paint(colour, sentence(&found.totals)));
    show_machines(others);
    show_folders(&found.folders);
    show_files(&found.files, only);
}

fn show_machines(others: &Others) {
    crate::say!();
    let mut table = Table::new(&["machine", "?where", ">files", "?listing of", ""]);
    for other in &others.known {
        let site = if other.spec.off_site { "off-site" } else { "on site" };
        let place = other.spec.place.as_ref().map_or(site.to_string(), |place| format!("{site}, {place}"));
        let stale = if other.is_stale { "stale: make a new one there" } else { "" };
        table.styled_row([
            (other.spec.name.clone(), Style::new()),
            (place, Style::new()),
            (count(other.files() as u64), Style::new()),
            (time::day(time::date(other.as_of)), Style::new()),
            (stale.into(), style::WATCH),
        ]);
    }
    for unread in &others.unread {
        let cells =
            [unread.name.clone(), String::new(), "-".into(), "-".into()].map(|text| (text, Style::new()));
        let [a, b, c, d] = cells;
        table.styled_row([a, b, c, d, (unread.why.clone(), style::BAD)]);
    }
    table.print();
}

fn show_folders(folders: &BTreeMap<String, KeptTotals>) {
    style::heading("By folder (files)");
    let mut table = Table::new(&[
        "folder",
        ">nowhere",
        "?>differs",
        "??>on site only",
        "?>off-site only",
        "??>both",
        ">size nowhere else",
    ]);
    for (folder, totals) in folders {
        let name = if folder.is_empty() { "(top)" } else { folder };
        let cell = |kept: Kept| {
            let files = totals.of(kept).files;
            let colour = if kept.is_elsewhere() || files == 0 { Style::new() } else { style::WATCH };
            (if files == 0 { "·".into() } else { count(files) }, colour)
        };
        let [nowhere, differs, on_site, off_site, both] = Kept::ALL.map(cell);
        let bytes = (size(totals.only_here().bytes), Style::new());
        let row = [(name.to_string(), Style::new()), nowhere, differs, on_site, off_site, both, bytes];
        table.styled_row(row);
    }
    table.print();
}

fn show_files(files: &[FileLine], only: Option<Kept>) {
    if files.is_empty() {
        return;
    }
    style::heading(only.map_or("Nowhere else", Kept::word));
    let mut table = Table::new(&["file", ">size", ""]);
    let shown = if only.is_some() { usize::MAX } else { LISTED };
    for file in files.iter().take(shown) {
        let about = match file.kept {
            Kept::Differs => "another content there, or one that cannot be compared".to_string(),
            _ => file.on.join(", "),
        };
        table.styled_row([
            (file.path.clone(), Style::new()),
            (size(file.size_bytes), Style::new()),
            (about, style::FAINT),
        ]);
    }
    table.print();
    if files.len() > shown {
        crate::say!(
            "  and {} more: all with --only nowhere, --only differs, or --json",
            units::files((files.len() - shown) as u64)
        );
    }
}
