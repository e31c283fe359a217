//! `init`: the first pool file, from the disks of this machine. Nothing of them is touched.

use schemars::JsonSchema;
use serde::Serialize;
use std::fmt::Write as _;
use std::path::Path;

use clap::Args;
use sieve_catalogue::pool_file;
use sieve_core::first_file::{LeftOut, Proposed, propose};
use sieve_core::inventory::Device;
use sieve_core::pool::{Media, Role};
use sieve_disk::inventory::{from_folder, from_system};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::home_folder;

use crate::args::Documents;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, size};
use crate::json;

/// The first pool file of a machine.
#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// Where it is now.
    written: &'a Path,
    /// The disks that it names.
    disks: Vec<Member<'a>>,
    /// Those that it leaves out.
    left_out: Vec<Left<'a>>,
}
json::named!("init", Answer<'_>);

/// A disk that the file names.
#[derive(Serialize, JsonSchema)]
struct Member<'a> {
    /// Its name.
    disk: &'a str,
    /// What it is to do.
    role: Role,
    /// The device.
    device: &'a str,
    /// Its serial number.
    serial: Option<&'a str>,
}

impl<'a> Answer<'a> {
    fn of(written: &'a Path, proposed: &'a [Proposed<'a>], left: &'a [LeftOut<'a>]) -> Self {
        let member = |p: &'a Proposed<'a>| Member {
            disk: &p.name,
            role: p.role,
            device: &p.device.name,
            serial: p.device.serial.as_deref(),
        };
        Self {
            written,
            disks: proposed.iter().map(member).collect(),
            left_out: left.iter().map(|left| Left { device: &left.device.name, why: left.why }).collect(),
        }
    }
}

/// A device that it leaves out.
#[derive(Serialize, JsonSchema)]
struct Left<'a> {
    /// The device.
    device: &'a str,
    /// Why.
    why: &'a str,
}

/// What the pool is called, and from where the disks are known.
#[derive(Args)]
pub(crate) struct InitArguments {
    /// The name of the pool
    #[arg(long, value_name = "NAME", default_value = "home")]
    name: String,
    #[command(flatten)]
    from: Documents,
}

pub(crate) fn run(context: &Context, arguments: &InitArguments) -> Result<Outcome> {
    if context.pool.exists() {
        let message = format!("{} is there already", context.pool.display());
        return Err(Error::new(Kind::Conflict, "init.exists", message)
            .remedy("look at it with zinc-sieve check, or name another file with --pool FILE"));
    }
    let inventory = arguments.from.from.as_deref().map_or_else(from_system, from_folder)?;
    let devices: Vec<Device> = inventory.disks.iter().map(|found| found.device.clone()).collect();
    let (proposed, left) = propose(&devices);
    if proposed.is_empty() {
        return Err(Error::new(Kind::NotFound, "init.disks", "no disk of this machine could be a member").remedy(
            "zinc-sieve disks shows them; a pool on paper can be written by hand (zinc-sieve demo --dir DIR --paper makes one)",
        ));
    }
    let text = text(&arguments.name, &proposed, &left);
    pool_file::refuse_mistakes(&text)?;
    let home = crate::machine::real().open_disk(home_folder(&context.pool))?;
    pool_file::write(&*home, &context.pool, &text)?;
    if context.json {
        json::print(&Answer::of(&context.pool, &proposed, &left))?;
    } else {
        show(&context.pool, &proposed, &left);
    }
    Ok(Outcome::Fine)
}

/// The text, with a comment for each line that somebody has to decide about.
fn text(pool: &str, proposed: &[Proposed<'_>], left: &[LeftOut<'_>]) -> String {
    let mut text = String::from(
        "# The first pool file of this machine. Nothing was touched: change what you like, then `zinc-sieve check`.\n[pool]\n",
    );
    let mut line = |words: String| writeln!(text, "{words}").expect("writing to text works");
    line(format!("name = {}", quoted(pool)));
    for disk in proposed {
        let device = disk.device;
        line(format!("\n[[disk]]                   # {}", about(device)));
        line(format!("name = {}", quoted(&disk.name)));
        match mounted_at(device) {
            Some(at) => line(format!("path = {}", quoted(at))),
            None => line(format!(
                "path = {}        # not mounted yet: zinc-sieve prepare prints how it gets there",
                quoted(&format!("/mnt/{}", disk.name))
            )),
        }
        if let Some(media) = device.media {
            line(format!("media = \"{}\"", media_word(media)));
        }
        if let Some(serial) = &device.serial {
            line(format!("serial = {}", quoted(serial)));
        }
        if let Some(model) = &device.model {
            line(format!("model = {}", quoted(model)));
        }
        line("# bay = \"A1\"              # where it sits, so that the right one is pulled one day".into());
        line("# bought = \"2031-05-02\"   # also: price, warranty, batch".into());
    }
    let names = |role: Role| {
        let of_role = proposed.iter().filter(|p| p.role == role).map(|p| quoted(&p.name));
        of_role.collect::<Vec<_>>().join(", ")
    };
    line("\n[[volume]]".into());
    line("name = \"archive\"".into());
    line("kind = \"unstriped\"         # each file whole on one disk; or spanned, tiered, mirrored".into());
    line(format!("data = [{}]", names(Role::Data)));
    if !names(Role::Parity).is_empty() {
        line(format!(
            "parity = [{}]            # the largest: no data disk may be larger",
            names(Role::Parity)
        ));
    }
    if !names(Role::Cache).is_empty() {
        line(format!(
            "cache = [{}]             # takes what arrives; it waits there, unguarded, for a settle",
            names(Role::Cache)
        ));
    }
    for disk in left {
        line(format!("\n# left out: {}: {}", about(disk.device), disk.why));
    }
    text
}

/// What a disk is known by, in a comment: in one line, whatever it says of itself.
fn about(device: &Device) -> String {
    let size = device.size.map(size).unwrap_or_default();
    let model = device.model.as_deref().unwrap_or("");
    let text = format!("{} {size} {model}", device.name);
    sieve_core::path::shown(text.trim().as_bytes())
}

fn mounted_at(device: &Device) -> Option<&str> {
    device.mount_points().find(|at| at.starts_with('/'))
}

const fn media_word(media: Media) -> &'static str {
    match media {
        Media::Hdd => "hdd",
        Media::Ssd => "ssd",
        Media::Nvme => "nvme",
    }
}

/// Text as TOML has it.
fn quoted(text: &str) -> String {
    let shown = sieve_core::path::shown(text.as_bytes());
    format!("\"{}\"", shown.replace('\\', "\\\\").replace('"', "\\\""))
}

fn show(file: &Path, proposed: &[Proposed<'_>], left: &[LeftOut<'_>]) {
    crate::say!("Wrote {}. Nothing else was touched.\n", file.display());
    let mut table = Table::new(&["name", "does", "?device", ">size", "serial", "is mounted at"]);
    for disk in proposed {
        let device = disk.device;
        let at = mounted_at(device).map_or("not yet".into(), str::to_string);
        let serial = device.serial.clone().unwrap_or("-".into());
        let bytes = device.size.map(size).unwrap_or_default();
        table.row([disk.name.clone(), disk.role.word().into(), device.name.clone(), bytes, serial, at]);
    }
    table.print();
    for disk in left {
        crate::say!("  left out: {}: {}", about(disk.device), disk.why);
    }
    crate::say!(
        "\nLook at the roles, and fill in the bays. What is not mounted yet gets there with a script of its own:"
    );
    let new: Vec<String> = proposed
        .iter()
        .filter(|disk| mounted_at(disk.device).is_none())
        .map(|disk| format!("{}={}", disk.name, disk.device.serial.as_ref().unwrap_or(&disk.device.name)))
        .collect();
    if !new.is_empty() {
        crate::say!("  zinc-sieve prepare {}", new.join(" "));
    }
    crate::say!("Then:\n  zinc-sieve check\n  zinc-sieve create");
}
