//! `mount --status`: what is mounted, and how it is.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_disk::Result;
use sieve_mount::record;
use sieve_mount::record::{Answer, Now};

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::{human, json, load};

/// All that is mounted.
#[derive(Serialize, JsonSchema)]
struct Mounts<'a> {
    mounts: Vec<&'a Answer>,
}
json::named!("mount-status", Mounts<'_>);

pub(crate) fn run(context: &Context) -> Result<Outcome> {
    let pool = load::pool(&context.pool)?;
    let mounted = record::all(&*pool.home)?;
    let is_well = mounted.iter().all(is_well);
    if context.json {
        json::print(&Mounts { mounts: mounted.iter().collect() })?;
    } else if mounted.is_empty() {
        crate::say!("No volume of this pool is mounted.");
    } else {
        mounted.iter().for_each(show);
    }
    Ok(Outcome::well(is_well))
}

/// As it is right after it was mounted.
pub(super) fn show_one(context: &Context, volume: &str) -> Result<Outcome> {
    let pool = load::pool(&context.pool)?;
    let mounted = record::all(&*pool.home)?;
    let mounted = mounted.iter().filter(|answer| answer.mounted.volume == volume);
    if context.json {
        json::print(&Mounts { mounts: mounted.collect() })?;
    } else {
        mounted.for_each(show);
    }
    Ok(Outcome::Fine)
}

fn is_well(answer: &Answer) -> bool {
    answer.now.as_ref().is_some_and(|now| now.absent_disks.is_empty())
}

fn show(answer: &Answer) {
    let mounted = &answer.mounted;
    let (volume, at, process) = (&mounted.volume, mounted.at.display(), mounted.process);
    let how = if mounted.read_only { ", read-only" } else { "" };
    let since = human::time::moment(mounted.since);
    let Some(now) = &answer.now else {
        if answer.lives {
            crate::say!("{volume} on {at}{how}: process {process} does not answer");
        } else {
            crate::say!("{volume} on {at}: process {process} died; nothing is lost by that");
            crate::say!("  next: zinc-sieve mount {volume} {at} mounts it anew");
        }
        return;
    };
    crate::say!("{volume} on {at}{how}, since {since}, process {process}");
    show_now(now);
}

fn show_now(now: &Now) {
    let how = if now.passes_through {
        "the kernel reads and writes files on their disks itself"
    } else {
        "every read and write passes through the program"
    };
    crate::say!("  open files   {} ({} for writing)", now.open_files, now.open_for_writing);
    crate::say!("  known names  {}", now.known_names);
    crate::say!("  files        {how}");
    if now.waiting_to_be_held > 0 {
        crate::say!("  removed      {} files wait to be recorded as held", now.waiting_to_be_held);
    }
    if let Some(why) = &now.trouble {
        crate::say!(
            "  trouble      what was removed could not be recorded as held, and is tried again: {why}"
        );
    }
    if !now.absent_disks.is_empty() {
        let disks = now.absent_disks.join(", ");
        crate::say!("  not there    {disks}: what lies there is read from parity, and cannot be written");
    }
    if now.beyond_parity {
        crate::say!(
            "  read-only    more disks are away than parity bears: nothing is changed until they are back"
        );
    }
}
