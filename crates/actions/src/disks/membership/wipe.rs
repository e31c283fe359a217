//! The traces of a pool on a disk that is no member any more.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;

use super::vacate::remove_all;
use sieve_catalogue::label;
use sieve_catalogue::label::{Label, Role};
use sieve_disk::machine::Machine;
use sieve_disk::{Disk, full_path};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;
use sieve_pool::writer::LongWriter;

/// Whose disk it was, and what goes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct WipePlan {
    /// Where it is.
    #[serde(rename = "path")]
    pub at: String,
    /// What it was called.
    pub disk: String,
    /// The pool that it was of.
    pub pool: String,
    /// What it did there.
    pub role: Role,
}

impl WipePlan {
    /// Whose it was, as it has to be said.
    pub fn was(&self) -> String {
        format!("{} of {}", self.disk, self.pool)
    }
}

/// Folders of ours in which somebody's files may lie.
const WITH_FILES: [&str; 3] = ["held", "pieces", "replaced"];

/// Looks at a disk whose traces of a pool are to go. `was` is whose it was, as the user says it.
///
/// # Errors
/// When there is no label, it was somebody else's, it is a member of this pool now, or files lie in our folders on it.
pub fn plan(machine: &dyn Machine, path: &Path, was: Option<&str>, here: Option<&Pool>) -> Result<WipePlan> {
    let disk = machine.open_disk(path)?;
    let Some(label) = label::read(&*disk)? else {
        let message = format!("{} has no label of a pool", path.display());
        return Err(Error::new(Kind::Usage, "wipe.no-label", message).remedy("there is nothing to wipe"));
    };
    let plan = WipePlan {
        at: path.display().to_string(),
        disk: label.disk_name.clone(),
        pool: label.pool_name.clone(),
        role: label.role,
    };
    refuse_member(&label, path, here)?;
    let whose = plan.was();
    if was != Some(whose.as_str()) {
        let message = match was {
            None => format!("{} was disk {whose}", path.display()),
            Some(said) => format!("{} was disk {whose}, and not {said}", path.display()),
        };
        return Err(Error::new(Kind::Safety, "wipe.whose", message).remedy(format!(
            "if that pool does without it: zinc-sieve wipe {} --was \"{whose}\"",
            path.display()
        )));
    }
    refuse_files(&*disk)?;
    Ok(plan)
}

/// Where a former disk of that name is: among the folders beside those of the members.
///
/// # Errors
/// When there is none, or several.
pub fn find(machine: &dyn Machine, name: &str, here: &Pool) -> Result<PathBuf> {
    let paths = here.spec.disks.iter().filter_map(|disk| disk.path.as_deref().map(Path::new));
    let beside: BTreeSet<&Path> = paths.filter_map(Path::parent).collect();
    let mut found = Vec::new();
    for folder in beside {
        // What cannot be looked into is no disk that could be wiped.
        let Ok(disk) = machine.open_disk(folder) else { continue };
        for child in disk.list(&RelPath::ROOT)? {
            let path = folder.join(OsStr::from_bytes(&child));
            let label = machine.open_disk(&path).and_then(|disk| label::read(&*disk)).ok().flatten();
            let is_former = |label: &Label| {
                label.disk_name == name && here.members.iter().all(|m| m.row.uuid != label.disk)
            };
            found.extend(label.filter(is_former).map(|_| path));
        }
    }
    let wrong =
        |code, message: String, remedy: String| Err(Error::new(Kind::Usage, code, message).remedy(remedy));
    match &found[..] {
        [path] => Ok(path.clone()),
        [] if here.members.iter().any(|member| member.row.name == name) => Err(is_member(name, name)),
        [] => wrong(
            "wipe.nowhere",
            format!(
                "there is no folder {name}, and no former disk of that name beside the disks of this pool"
            ),
            "name the folder that it is mounted at".into(),
        ),
        several => {
            let folders: Vec<String> = several.iter().map(|path| path.display().to_string()).collect();
            wrong(
                "wipe.several",
                format!("several former disks were {name}: {}", folders.join(", ")),
                "name the folder of one".into(),
            )
        }
    }
}

/// What this pool has as a member is not given away.
fn refuse_member(label: &Label, path: &Path, here: Option<&Pool>) -> Result<()> {
    let member = here.and_then(|pool| pool.members.iter().find(|m| m.row.uuid == label.disk));
    let Some(member) = member else { return Ok(()) };
    let name = &member.row.name;
    Err(is_member(&format!("{} (disk {name})", path.display()), name))
}

fn is_member(said: &str, name: &str) -> Error {
    let message = format!("{said} is a member of this pool");
    Error::new(Kind::Safety, "wipe.member", message).remedy(format!(
        "let it leave first: zinc-sieve vacate {name}, or zinc-sieve replace {name} --onto DIR"
    ))
}

/// What was removed or replaced, pieces, and damaged bytes are somebody's files.
fn refuse_files(disk: &dyn Disk) -> Result<()> {
    for name in WITH_FILES {
        let folder =
            OurPlace::Folder.path().join(name.as_bytes()).unwrap_or_else(|_| OurPlace::Folder.path());
        if disk.stat(&folder)?.is_some() && !disk.list(&folder)?.is_empty() {
            let place = full_path(disk, &folder);
            let message = format!("files lie in {}", place.display());
            return Err(Error::new(Kind::Safety, "wipe.files", message)
                .remedy("move what you want out of it, and remove the rest; then run this again"));
        }
    }
    Ok(())
}

/// Removes what is ours, the label last: who is interrupted can run it again. Ordinary files stay.
///
/// # Errors
/// When it is not as it was planned any more, somebody is at work on the disk, or what the disk says.
pub fn execute(machine: &dyn Machine, planned: &WipePlan, here: Option<&Pool>) -> Result<()> {
    let path = Path::new(&planned.at);
    let disk = machine.open_disk(path)?;
    let lock = LongWriter::begin(&*disk, "wipe")?;
    let now = plan(machine, path, Some(&planned.was()), here)?;
    if now != *planned {
        let message = format!("{} is another disk than it was when it was asked about", planned.at);
        return Err(Error::new(Kind::Safety, "wipe.changed", message).remedy("run this again"));
    }
    let ours = OurPlace::Folder.path();
    let last: [&[u8]; 2] = [b"label.toml", b"lock"];
    for name in disk.list(&ours)?.into_iter().filter(|name| !last.contains(&name.as_slice())) {
        if let Ok(path) = ours.join(&name) {
            remove_all(&*disk, &path)?;
        }
    }
    disk.sync_folder(&ours)?;
    // The lock is a file in that folder: on some filesystems it cannot go while it is open.
    drop(lock);
    remove_all(&*disk, &ours)?;
    disk.sync_folder(&RelPath::ROOT)
}
