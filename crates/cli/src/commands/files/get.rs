//! `get`: files out of a volume.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::Args;
use sieve_actions::files::read;
use sieve_disk::Result;
use sieve_pool::scan;

use crate::args::{RestraintArguments, VolumeChoice};
use crate::commands::context::{Context, volume_path};
use crate::exit::Outcome;
use crate::human::{count, size, style, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("get", read::GetReport);

/// What is taken out, and where to.
#[derive(Args)]
pub(crate) struct GetArguments {
    /// Paths in the volume
    #[arg(required = true, value_name = "PATH", add = crate::complete::paths())]
    pub(crate) paths: Vec<OsString>,
    /// The folder to copy to
    pub(crate) target: PathBuf,
    /// Take them from this disk, where two hold the same path
    #[arg(long, value_name = "NAME", add = crate::complete::disks())]
    pub(crate) disk: Option<String>,
    #[command(flatten)]
    pub(crate) volume: VolumeChoice,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
}

pub(crate) fn run(context: &Context, arguments: &GetArguments) -> Result<Outcome> {
    let GetArguments { paths, target, disk, volume, restraint } = arguments;
    let paths = paths.iter().map(volume_path).collect::<Result<Vec<_>>>()?;
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(restraint, &mut pool);
    let volume = pool.volume(volume.volume.as_deref())?.name;
    if let Some(name) = disk {
        pool.member_named(name)?;
    }
    let watch = Watch::begin(restraint.events)?;
    scan::scan_at(&pool, |member| member.row.volume == volume, &paths, &watch)?;
    let report = read::get(&pool, &volume, &paths, disk.as_deref(), target, &watch)?;
    drop(watch);
    if context.json {
        json::print(&report)?;
    } else {
        let what = units::files(report.files);
        crate::answer!(
            "{what}, {}, copied; {} checked against their checksums.",
            size(report.bytes),
            count(report.verified)
        );
        let missing = report.reconstructed - report.damaged.len() as u64;
        if missing > 0 {
            crate::say!(
                "{} computed from parity and the other disks, as the disk is not there.",
                units::files(missing)
            );
        }
        for file in &report.damaged {
            crate::say!(
                "computed from parity and the other disks, as it is damaged on its disk: {file} (zinc-sieve verify --mend)"
            );
        }
        if report.stopped {
            let text = "Stopped: what is there is whole; nothing of the rest was begun.";
            crate::say!("{}", style::paint(style::WATCH, text));
        }
    }
    Ok(Outcome::well(report.damaged.is_empty() && !report.stopped))
}
