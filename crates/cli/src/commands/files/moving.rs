//! `move`: to another disk of the volume, or to another volume.

use std::ffi::OsString;

use clap::Args;
use sieve_actions::files::read::not_found;
use sieve_actions::files::shift;
use sieve_actions::files::transfer::{Request, has};
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use super::shift::agree_and_shift;
use super::transfer;
use crate::args::{Consent, RestraintArguments};
use crate::commands::context::{Context, volume_path};
use crate::exit::Outcome;
use crate::load;
use crate::progress::Watch;

/// What moves where.
#[derive(Args)]
pub(crate) struct MoveArguments {
    /// Files and folders of a volume
    #[arg(required = true, value_name = "PATH", add = crate::complete::paths())]
    paths: Vec<OsString>,
    /// The data disk that they go to
    #[arg(long, value_name = "DISK", required_unless_present = "volume")]
    to: Option<String>,
    /// The volume that they go to, where they keep their paths
    #[arg(long, value_name = "NAME", add = crate::complete::volumes())]
    volume: Option<String>,
    /// The volume that has them, where several have something of these names
    #[arg(long, value_name = "NAME", add = crate::complete::volumes())]
    from: Option<String>,
    #[command(flatten)]
    restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: &MoveArguments) -> Result<Outcome> {
    let paths: Vec<RelPath> = arguments.paths.iter().map(volume_path).collect::<Result<_>>()?;
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(&arguments.restraint, &mut pool);
    let events = arguments.restraint.events;
    match Way::of(&pool, arguments, &paths)? {
        Way::Within { volume, disk } => {
            let planned = |pool: &Pool| shift::to_disk(pool, &volume, &paths, &disk, &Watch::new(events));
            agree_and_shift(context, &mut pool, &volume, (arguments.consent, events), planned)
        }
        Way::Between { from, to } => {
            let request = Request { from: &from, to: &to, paths: &paths, disk: arguments.to.as_deref() };
            transfer::run(context, &mut pool, request, (arguments.consent, events))
        }
    }
}

/// What a move is.
enum Way {
    /// To another disk of the volume.
    Within { volume: Box<VolumeSpec>, disk: String },
    /// To another volume.
    Between { from: Box<VolumeSpec>, to: Box<VolumeSpec> },
}

impl Way {
    /// The volume that has the files and the one that is to have them; where that is the same, to one of its disks.
    fn of(pool: &Pool, arguments: &MoveArguments, paths: &[RelPath]) -> Result<Self> {
        let to = match (&arguments.volume, &arguments.to) {
            (None, Some(disk)) if pool.volumes().len() > 1 => {
                Some(pool.member_named(disk)?.row.volume.clone())
            }
            (volume, _) => volume.clone(),
        };
        let to = pool.volume(to.as_deref())?;
        let from = match &arguments.from {
            Some(name) => pool.volume(Some(name))?,
            None => Self::origin(pool, &to, arguments.to.is_some(), paths)?,
        };
        match &arguments.to {
            Some(disk) if from.name == to.name => {
                Ok(Self::Within { volume: Box::new(to), disk: disk.clone() })
            }
            None if from.name == to.name => {
                for path in paths {
                    if !has(pool, &to.name, path)? {
                        return Err(not_found(pool, &to.name, path)?);
                    }
                }
                let message = format!("{} is in {} already", paths[0], to.name);
                let remedy = "--to DISK says to which of its disks it is to go, --from NAME which other volume is meant";
                Err(Error::new(Kind::Usage, "move.there", message).remedy(remedy))
            }
            _ => Ok(Self::Between { from: Box::new(from), to: Box::new(to) }),
        }
    }

    /// The volume that has something under all these paths: the one that they go to where only the disk is to be another one.
    fn origin(pool: &Pool, to: &VolumeSpec, to_disk: bool, paths: &[RelPath]) -> Result<VolumeSpec> {
        let mut having = Vec::new();
        for volume in pool.volumes() {
            let mut has_all = true;
            for path in paths {
                has_all = has_all && has(pool, &volume.name, path)?;
            }
            if has_all {
                having.push(volume);
            }
        }
        let is_there = having.iter().any(|volume| volume.name == to.name);
        if having.is_empty() || is_there && (to_disk || having.len() == 1) {
            return Ok(to.clone()); // which says what of it is missing
        }
        having.retain(|volume| volume.name != to.name);
        match having.as_slice() {
            [one] => Ok(one.clone()),
            several => {
                let names = several.iter().map(|volume| volume.name.as_str()).collect::<Vec<_>>().join(", ");
                let message = format!("several volumes have something of this name: {names}");
                Err(Error::new(Kind::Usage, "move.from", message).remedy("say which with --from NAME"))
            }
        }
    }
}
