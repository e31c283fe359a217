//! A chapter: the volume as one drive, where this machine lets anybody mount.

use std::path::Path;

use sieve_disk::{Error, Result};

use super::stage::{Stage, entries, make_folder};

/// Plays it with the pool of the story; where that was not told, it is made first.
pub(super) fn play(stage: &Stage, is_alone: bool) -> Result<()> {
    if is_alone {
        stage.unseen(&["create", "--yes"])?;
        stage.unseen(&["put", "card/dawn-chorus", "card/nest-cams", "card/herbarium", ".", "--yes"])?;
        stage.unseen(&["sync", "--yes"])?;
    }
    stage.chapter(
        "One drive",
        "Programs want a folder, not commands. Mounted, the volume is one: every file under one root, \
         whichever disk it lies on.",
    );
    if !Path::new("/dev/fuse").exists() || !rustix::process::geteuid().is_root() {
        stage.say("This machine does not let volumes be mounted here (no /dev/fuse, or not root).");
        return Ok(());
    }
    make_folder(&stage.path("drive"))?;
    stage.type_command(&["mount", "drive"], &[0, 2])?;
    if entries(&stage.path("drive"))?.is_empty() {
        return Ok(()); // it has said itself what is in the way here
    }
    let used = use_it(stage);
    stage.type_command(&["umount", "drive"], &[0])?;
    used
}

/// What any program does: it looks, it writes, it removes. What it removes stays guarded.
fn use_it(stage: &Stage) -> Result<()> {
    let folders = entries(&stage.path("drive"))?;
    let names: Vec<_> = folders.iter().filter_map(|path| path.file_name()?.to_str()).collect();
    stage.say(&format!("$ ls drive\n{}\n", names.join("  ")));
    let folder = stage.path("drive/herbarium/dog-violet");
    let sheets = entries(&folder)?;
    let Some(sheet) = sheets.first() else { return Ok(()) };
    let shown = sheet.strip_prefix(stage.path("")).unwrap_or(sheet).display().to_string();
    stage.say(&format!("$ rm {shown}\n"));
    #[expect(clippy::disallowed_methods, reason = "the story's own file, removed as any program does")]
    std::fs::remove_file(sheet).map_err(|e| Error::io("demo.remove", sheet, e))?;
    stage.say("It is gone, and nobody is weaker for it: until the next sync it can be had back.\n");
    stage.type_command(&["restore", "--list"], &[0])?;
    stage.type_command(&["mount", "--status"], &[0])
}
