//! `prepare`: prints the script that takes new disks to mounted members.

use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::prepare::{NewDisk, NewFilesystem, refuse, script};
use sieve_disk::inventory::Found;
use sieve_disk::{Error, Kind, Result};

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::json;
use crate::shelf::{Item, Shelf};

json::named!("prepare", Answer<'_>);

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// The disks.
    disks: &'a [NewDisk],
    /// What would be typed as root; nothing of it was done.
    script: &'a str,
}

pub(crate) fn run(
    context: &Context,
    wanted: &[String],
    erase: &[String],
    filesystem: NewFilesystem,
    mount_root: &str,
    from: Option<&Path>,
) -> Result<Outcome> {
    if !mount_root.starts_with('/') {
        let message = format!("`{mount_root}` is a relative path");
        return Err(Error::new(Kind::Usage, "prepare.root", message)
            .remedy("write the whole path, beginning with `/`"));
    }
    let shelf = Shelf::look(&context.pool, from)?;
    let items = shelf.items();
    let mut disks: Vec<NewDisk> = Vec::new();
    for text in wanted {
        let (name, id) = text.split_once('=').map_or((None, text.as_str()), |(name, id)| (Some(name), id));
        let item = find(&items, id)?;
        let found = item.found.expect("only disks of the machine are found");
        let may_erase = erase.iter().any(|e| is_called(found, e));
        let name = name.map(str::to_string).or(item.name.map(str::to_string));
        let name = name.unwrap_or_else(|| format!("disk-{}", disks.len() + 1));
        refuse_name(&name, &disks)?;
        let disk = NewDisk { name, device: found.device.clone(), may_erase };
        refuse(&disk, item.name).map_err(|refusal| {
            let advice = match refusal.may_be_overruled() {
                true => format!("if what is on it may go: add --erase {}", found.device.name),
                false => "name another disk; what is mounted has to be unmounted first".into(),
            };
            Error::new(Kind::Safety, "prepare.refused", refusal.to_string()).remedy(advice)
        })?;
        disks.push(disk);
    }
    let text = script(&disks, filesystem, mount_root.trim_end_matches('/'));
    if context.json {
        json::print(&Answer { disks: &disks, script: &text })?;
    } else {
        crate::output::document(&text);
    }
    Ok(Outcome::Fine)
}

/// A disk may be called by the kernel's name, a path under /dev, its stable name or its serial number.
fn is_called(found: &Found, id: &str) -> bool {
    let short = id.rsplit('/').next().unwrap_or(id);
    found.device.name == short
        || found.device.stable_id.as_deref() == Some(short)
        || found.serial() == Some(id)
}

fn find<'a, 'b>(items: &'b [Item<'a>], id: &str) -> Result<&'b Item<'a>> {
    let matching: Vec<&Item<'_>> =
        items.iter().filter(|i| i.found.is_some_and(|f| is_called(f, id))).collect();
    match matching.as_slice() {
        [one] => Ok(one),
        [] => {
            let known: Vec<&str> = items.iter().filter_map(|i| Some(i.found?.device.name.as_str())).collect();
            let message = format!("this machine has no disk `{id}`; it has {}", known.join(", "));
            Err(Error::new(Kind::Usage, "disk.unknown", message).remedy("zinc-sieve disks"))
        }
        _ => Err(Error::new(Kind::Usage, "disk.ambiguous", format!("`{id}` may be several disks"))
            .remedy("name it by its serial number")),
    }
}

fn refuse_name(name: &str, disks: &[NewDisk]) -> Result<()> {
    let is_plain = !name.is_empty()
        && name.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c))
        && !name.starts_with('.');
    if is_plain && !disks.iter().any(|d| d.name == name) {
        return Ok(());
    }
    let message = format!("`{name}` is no name for a disk, or is given twice");
    Err(Error::new(Kind::Usage, "prepare.name", message)
        .remedy("write NAME=DISK, with letters, digits, `-` and `_` in NAME"))
}
