//! `mount` and `umount`: a volume as one drive.

mod arguments;
mod boot;
mod helper;
mod status;
mod umount;

use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};

use sieve_disk::{Error, Kind, Result};
use sieve_mount::serving;
use sieve_mount::serving::Wishes;
use sieve_mount::volume::Volume;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::load;

pub(crate) use arguments::MountArguments;
pub(crate) use helper::as_mount_helper;
pub(crate) use umount::run as umount;

/// What the child says when the volume can be used.
const READY: &str = "ready";

pub(crate) fn run(context: &Context, arguments: &MountArguments) -> Result<Outcome> {
    if arguments.status {
        return status::run(context);
    }
    let (volume, at) = match &arguments.what[..] {
        [at] => (None, at),
        [volume, at, ..] => (Some(volume.to_string_lossy().into_owned()), at),
        [] => return Err(Error::new(Kind::Usage, "mount.where", "name a folder to mount it on")),
    };
    let pool = load::pool(&context.pool)?;
    let volume = pool.volume(volume.as_deref())?.name;
    let at = std::path::absolute(at).map_err(|e| Error::io("mount.folder", at, e))?;
    if arguments.unit || arguments.fstab {
        let text = if arguments.unit {
            boot::unit(&pool, &volume, &at, arguments)?
        } else {
            boot::fstab(&pool, &volume, &at, arguments)
        };
        crate::output::document(&text);
        return Ok(Outcome::Fine);
    }
    if !arguments.foreground {
        drop(pool);
        return in_the_background(context, &volume, &at, arguments);
    }
    keep_buffers_apart()?;
    let wishes = Wishes {
        read_only: arguments.read_only,
        no_xattr: arguments.no_xattr,
        owner_only: arguments.owner_only,
    };
    serving::serve(pool, &volume, &at, wishes, |volume| {
        boot::tell_service_manager();
        if arguments.tell_ready {
            crate::output::document(&format!("{READY}\n"));
            go_quiet();
        } else {
            say_mounted(volume, &at);
        }
    })?;
    Ok(Outcome::Fine)
}

/// Large buffers are to be memory of their own, of which only what was used is taken. The C library stops doing so as soon as
/// the first of them is given back, and each of the many workers would then take all of its buffer; it is told not to by a
/// variable, which it reads when a program starts.
fn keep_buffers_apart() -> Result<()> {
    const SETTING: (&str, &str) = ("MALLOC_MMAP_THRESHOLD_", "262144");
    if std::env::var_os(SETTING.0).is_some() {
        return Ok(());
    }
    let own = Path::new("/proc/self/exe");
    let mut again = Command::new(std::env::current_exe().map_err(|e| Error::io("mount.program", own, e))?);
    again.args(std::env::args_os().skip(1)).env(SETTING.0, SETTING.1);
    // It only comes back when it failed.
    Err(Error::io("mount.program", own, again.exec()))
}

/// Who started it need not wait for what it may say: nobody reads it any more.
fn go_quiet() {
    let flags = rustix::fs::OFlags::RDWR;
    let Ok(nowhere) = rustix::fs::open("/dev/null", flags, rustix::fs::Mode::empty()) else { return };
    // Where that fails, whoever reads its output waits for its end.
    let _ = rustix::stdio::dup2_stdout(&nowhere).and_then(|()| rustix::stdio::dup2_stderr(&nowhere));
}

fn say_mounted(volume: &Volume, at: &Path) {
    let now = volume.now();
    crate::say!("{} is mounted on {}.", volume.name(), at.display());
    if !now.passes_through {
        let why = "reads and writes pass through the program: for the kernel to do them itself it takes root and Linux 6.9";
        crate::say!("  {why}");
    }
    if !now.absent_disks.is_empty() {
        let disks = now.absent_disks.join(", ");
        crate::say!("  {disks} not there: what lies there is read from parity, and cannot be written");
    }
    if now.beyond_parity {
        crate::say!("  more disks are away than parity bears: nothing is changed until they are back");
    }
}

/// Serves it in a process of its own that outlives this one, and waits until it can be used.
fn in_the_background(context: &Context, volume: &str, at: &Path, wanted: &MountArguments) -> Result<Outcome> {
    let program =
        std::env::current_exe().map_err(|e| Error::io("mount.program", Path::new("/proc/self/exe"), e))?;
    let mut command = Command::new(&program);
    command.arg("--pool").arg(&context.pool).args(["mount", "--foreground", "--tell-ready"]);
    for (is_wanted, option) in [
        (wanted.read_only, "--read-only"),
        (wanted.no_xattr, "--no-xattr"),
        (wanted.owner_only, "--owner-only"),
    ] {
        if is_wanted {
            command.arg(option);
        }
    }
    command.arg(volume).arg(at).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::inherit());
    // Of a group of its own: what ends this terminal's commands does not end it.
    command.process_group(0).current_dir("/");
    let mut child = command.spawn().map_err(|e| Error::io("mount.program", &program, e))?;
    let mut said = String::new();
    if let Some(stdout) = child.stdout.take() {
        // What it says ends with its first line, or with its end.
        let _ = BufReader::new(stdout).read_line(&mut said);
    }
    if said.trim() != READY {
        let status = child.wait().map_err(|e| Error::io("mount.program", &program, e))?;
        // It has said itself what is wrong.
        return Ok(match status.code() {
            Some(2) => Outcome::Wrong,
            _ => Outcome::Failed,
        });
    }
    status::show_one(context, volume)
}
