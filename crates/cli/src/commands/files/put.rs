//! `put`: files into a volume.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::files::put;
use sieve_actions::files::put::{PlannedFile, PutPlan, PutReport};
use sieve_catalogue::label::Role;
use sieve_core::count::Count;
use sieve_core::forecast::Forecast;
use sieve_core::path::RelPath;
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use crate::args::{Consent, RestraintArguments, VolumeChoice};
use crate::commands::context::{Context, volume_path};
use crate::commands::protect::sync::show_forecast;
use crate::confirm::{Agreed, Question, Work, agree};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("put-plan", Planned);
json::named!("put", PutReport);

/// So many files are shown.
const SHOWN: usize = 40;

/// What is put where.
#[derive(Args)]
pub(crate) struct PutArguments {
    /// Files and folders to copy
    #[arg(required = true, value_name = "SOURCE")]
    pub(crate) sources: Vec<PathBuf>,
    /// The folder of the volume that they go to (`.` for its root)
    #[arg(add = crate::complete::paths())]
    pub(crate) folder: OsString,
    /// Replace files that are there; what they were is held until the next sync
    #[arg(long)]
    pub(crate) replace: bool,
    #[command(flatten)]
    pub(crate) volume: VolumeChoice,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

/// What is to be put, file by file.
#[derive(Serialize, JsonSchema)]
struct Planned {
    #[serde(flatten)]
    report: PutReport,
    /// All files that come.
    files: Vec<PlannedFile>,
    /// How long that takes; what the sources give is not known.
    forecast: Option<Forecast>,
}

pub(crate) fn run(context: &Context, arguments: &PutArguments) -> Result<Outcome> {
    let PutArguments { sources, folder, replace, volume, restraint, consent } = arguments;
    let (typed, folder) = (Path::new(folder), volume_path(folder)?);
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(restraint, &mut pool);
    refuse_place_on_a_disk(&pool, typed)?;
    let volume = pool.volume(volume.volume.as_deref())?;
    let show = |pool: &Pool, plan: &PutPlan| {
        if !context.json {
            show_plan(&volume, &folder, plan);
            if consent.dry_run {
                show_files(pool, plan.files(pool));
            }
            // A help and no more: curves that cannot be read stop no copy.
            if let Ok(forecast) = plan.forecast(pool) {
                show_forecast(&forecast);
            }
        }
    };
    let question = Question { consent: *consent, work: Work::Short, words: "Copy?" };
    let planned = |pool: &Pool| put::plan(pool, &volume.name, sources, &folder, *replace);
    let plan = match agree(&mut pool, &question, planned, show, PutPlan::essence, |_| true)? {
        Agreed::Yes(plan) => plan,
        Agreed::No(plan) => {
            if context.json {
                let files = plan.files(&pool).collect();
                let (report, forecast) = (PutReport::intended(&plan), plan.forecast(&pool).ok());
                json::print(&Planned { report, files, forecast })?;
            }
            return Ok(Outcome::Fine);
        }
    };
    let report = put::execute(&pool, &plan, &Watch::begin(restraint.events)?)?;
    if context.json {
        json::print(&report)?;
    } else if report.stopped {
        if report.by_disk.iter().any(|(_, amount)| amount.files > 0) {
            crate::answer!("\nStopped. Copied and verified so far:\n");
            show_by_disk(&report.by_disk);
        } else {
            crate::answer!("\nStopped before the first file was whole: nothing was copied.");
        }
        let text =
            "The same put goes on from here: what is there already, whole and the same, is passed over.";
        crate::say!("\n{}", style::paint(style::WATCH, text));
    } else {
        let done = style::paint(style::WELL, "Copied and verified.");
        crate::answer!("\n{done} {}", what_guards(&pool, &volume, &report.by_disk)?);
    }
    Ok(Outcome::well(!report.stopped))
}

/// The place of a member is no folder of the volume: who types it means the disk, and a folder of that name would be made.
fn refuse_place_on_a_disk(pool: &Pool, typed: &Path) -> Result<()> {
    // Typed from where one stands it may mean a disk as well; a folder of the volume has a slash in front then.
    let from_here = std::path::absolute(typed).ok().filter(|place| !typed.is_absolute() && place.is_dir());
    let places = || std::iter::once(typed).chain(from_here.as_deref());
    let mut paths = pool.spec.disks.iter().filter_map(|disk| Some((disk, disk.path.as_deref()?)));
    let Some((disk, path)) = paths.find(|(_, path)| places().any(|place| place.starts_with(path))) else {
        return Ok(());
    };
    let typed = places().find(|place| place.starts_with(path)).unwrap_or(typed);
    let inside = typed.strip_prefix(path).unwrap_or(Path::new("")).display().to_string();
    let message = format!(
        "{} is the place of disk {}: files are put into a folder of the volume",
        typed.display(),
        disk.name
    );
    let inside = if inside.is_empty() { "/".to_string() } else { inside };
    Err(Error::new(Kind::Usage, "put.place", message).remedy(format!(
        "name the folder as the volume has it, such as {inside}: the disk is chosen by the volume"
    )))
}

fn show_plan(volume: &VolumeSpec, folder: &RelPath, plan: &PutPlan) {
    crate::say!("Copies to {}:/{folder}, each file verified before it gets its name:\n", volume.name);
    show_by_disk(&plan.by_disk);
    if plan.replaced > 0 {
        crate::say!(
            "\n{} replaced; what they were is held until the next sync.",
            crate::human::units::files(plan.replaced)
        );
    }
    if plan.there_already > 0 {
        crate::say!(
            "\n{} there already, whole and the same: passed over.",
            crate::human::units::files(plan.there_already)
        );
    }
    for skipped in &plan.skipped {
        crate::say!("  left alone: {skipped}");
    }
}

/// Which file goes to which disk.
pub(super) fn show_files(pool: &Pool, files: impl Iterator<Item = PlannedFile>) {
    crate::say!();
    let mut table = Table::new(&["file", ">size", "to", "?bay"]);
    let mut all = 0;
    for file in files {
        all += 1;
        if all > SHOWN {
            continue;
        }
        let bays = file.disks.iter().filter_map(|name| pool.spec.disk(name)?.bay.clone());
        let bays = bays.collect::<Vec<_>>().join(", ");
        table.row([file.path, size(file.size_bytes), file.disks.join(", "), bays]);
    }
    table.leave_blanks_out();
    table.print();
    if all > SHOWN {
        crate::say!("  and {} more (all with --json)", units::files((all - SHOWN) as u64));
    }
}

/// What guards the new files until something else is done, in words.
fn what_guards(pool: &Pool, volume: &VolumeSpec, by_disk: &[(String, Count)]) -> Result<String> {
    let (mut on_cache, mut on_disks) = (false, false);
    for (name, _) in by_disk.iter().filter(|(_, amount)| amount.files > 0) {
        let is_cache = pool.member_named(name)?.row.role == Role::Cache;
        on_cache |= is_cache;
        on_disks |= !is_cache;
    }
    // Disks that are away get no copy.
    let there = |role| pool.members_of(&volume.name, role).filter(|member| member.writable().is_ok()).count();
    let is_mirrored = volume.kind == VolumeKind::Mirrored;
    let has_parity = !volume.parity.is_empty();
    let mut words = Vec::new();
    if on_cache {
        words.push(match volume.cache.copies.min(there(Role::Cache)) {
            ..2 if volume.has_guard() => {
                "What is on the cache is on one disk alone: settle --then-sync guards it.".to_string()
            }
            ..2 => "What is on the cache is on one disk alone.".to_string(),
            copies => format!("What is on the cache is on {copies} disks until it settles."),
        });
    }
    if on_disks {
        let they_are = if on_cache { "What is on the disks is" } else { "They are" };
        words.push(match (has_parity, volume.copies.min(there(Role::Data))) {
            (true, ..2) => format!("{they_are} unguarded until the next sync."),
            (false, ..2) if is_mirrored => {
                format!(
                    "{they_are} on one disk alone: a sync makes the other copies when their disks are back."
                )
            }
            (false, ..2) => format!("{they_are} guarded by nothing: {} has no parity.", volume.name),
            (true, copies) => format!("Each on the disks is on {copies} of them; a sync adds parity."),
            (false, copies) => format!("Each on the disks is on {copies} of them."),
        });
    }
    Ok(words.join(" "))
}

/// A table of files and bytes by disk.
pub(crate) fn show_by_disk(by_disk: &[(String, Count)]) {
    let mut table = Table::new(&["disk", ">files", ">size"]);
    for (disk, amount) in by_disk.iter().filter(|(_, amount)| amount.files > 0) {
        table.row([disk.clone(), count(amount.files), size(amount.bytes)]);
    }
    table.print();
}
