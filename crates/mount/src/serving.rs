//! Mounting a volume, serving it until it is unmounted, and ending.

use std::os::fd::{AsRawFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use fuser::{Config, MountOption, Session, SessionACL};
use rustix::fs as sys;
use rustix::io::Errno;
use rustix::mount::{MountFlags, UnmountFlags, mount, unmount};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use crate::kernel::{Kernel, Manners};
use crate::record::{Now, Record, runs};
use crate::tree::volume::Volume;

/// What a mounted volume is in the system's list of mounts.
pub const KIND: &str = "zinc-sieve";
/// Requests that are worked on at once. A disk that hangs holds one for each program that waits for it: there are more than
/// such programs, so that the other disks answer meanwhile.
const AT_ONCE: usize = 96;
/// Until a process that serves a volume has ended.
const ENDS_WITHIN: Duration = Duration::from_secs(10);

/// How a volume is mounted.
#[derive(Clone, Copy, Debug, Default)]
pub struct Wishes {
    /// Nothing is changed through it.
    pub read_only: bool,
    /// Without extended attributes and ACLs.
    pub no_xattr: bool,
    /// Only for the user who mounts it.
    pub owner_only: bool,
}

/// Mounts a volume and serves it until it is unmounted; `ready` is called as soon as it can be used.
///
/// # Errors
/// When it is mounted already, when the folder is none to mount on, when the kernel does not let it be.
pub fn serve(pool: Pool, volume: &str, at: &Path, wishes: Wishes, ready: impl FnOnce(&Volume)) -> Result<()> {
    let at = look_at_folder(&pool, at)?;
    let (home, since) = (Arc::clone(&pool.home), pool.machine.now());
    let record = Record::begin(&home, volume, &at, since, wishes.read_only)?;
    let volume = Arc::new(Volume::open(pool, volume, wishes.read_only)?);
    if !wishes.read_only {
        volume.finish_renames()?;
    }
    raise_limit();
    let is_root = rustix::process::geteuid().is_root();
    let manners = Manners { passes: is_root, plain: wishes.no_xattr, collects: !is_root };
    volume.set_collects(manners.collects);
    if is_root {
        // What is made gets the permissions that its maker asked for, less his own mask, not less ours.
        rustix::process::umask(sys::Mode::empty());
    }
    let kernel = Kernel::new(Arc::clone(&volume), manners);
    let config = config(wishes, is_root);
    let session = begin(kernel, &volume, &at, &config).map_err(|error| not_mounted(&at, error))?;
    record.answer(&volume)?;
    end_on_signal(&at)?;
    let recorder = {
        let volume = Arc::clone(&volume);
        std::thread::spawn(move || volume.past.record())
    };
    ready(&volume);
    let served = session.run();
    volume.past.end();
    let recorded = recorder.join();
    volume.make_durable();
    record.end()?;
    served.map_err(|error| Error::io("mount.served", &at, error))?;
    recorded.map_err(|_| Error::new(Kind::Internal, "mount.record", "what was taken away was not recorded"))
}

/// Mounts. Root does so himself, with the kind that the table of mounts knows; for others the system's helper does it, also
/// where they may not open the device themselves.
fn begin(kernel: Kernel, volume: &Volume, at: &Path, config: &Config) -> std::io::Result<Session<Kernel>> {
    let device = if rustix::process::geteuid().is_root() {
        mount_as_root(volume.name(), at, config)?
    } else {
        ask_helper(volume.name(), at, config)?
    };
    volume.set_door(device.try_clone()?);
    let session = Session::from_fd(kernel, device, config.acl, config.clone());
    if session.is_err() {
        // What does not answer is not left behind.
        let _ = take_away(at, true);
    }
    session
}

fn mount_as_root(volume: &str, at: &Path, config: &Config) -> std::io::Result<OwnedFd> {
    let flags = sys::OFlags::RDWR | sys::OFlags::CLOEXEC;
    let device = sys::open("/dev/fuse", flags, sys::Mode::empty())?;
    let mode = sys::fstat(sys::open(at, sys::OFlags::PATH, sys::Mode::empty())?)?.st_mode;
    let others = if config.acl == SessionACL::All { ",allow_other" } else { "" };
    let number = device.as_raw_fd();
    let data = format!("fd={number},rootmode={mode:o},user_id=0,group_id=0,default_permissions{others}");
    let mut mount_flags = MountFlags::NOATIME;
    mount_flags.set(MountFlags::RDONLY, config.mount_options.contains(&MountOption::RO));
    let data = std::ffi::CString::new(data).map_err(std::io::Error::other)?;
    mount(volume, at, format!("fuse.{KIND}"), mount_flags, Some(data.as_c_str()))?;
    Ok(device)
}

/// The system's helper for ordinary users mounts, and hands the open device over a socket whose number it is told by a
/// variable, as the kernel's documentation of the interface has it.
fn ask_helper(volume: &str, at: &Path, config: &Config) -> std::io::Result<OwnedFd> {
    use rustix::net::{
        AddressFamily, RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SocketFlags, SocketType,
    };
    let pair = rustix::net::socketpair(AddressFamily::UNIX, SocketType::STREAM, SocketFlags::empty(), None)?;
    let (ours, theirs) = pair;
    rustix::io::fcntl_setfd(&ours, rustix::io::FdFlags::CLOEXEC)?;
    let read_only = if config.mount_options.contains(&MountOption::RO) { ",ro" } else { "" };
    let name = volume.replace(['\\', ','], "_");
    let options = format!("fsname={name},subtype={KIND},default_permissions,nosuid,nodev,noatime{read_only}");
    let mut helper = std::process::Command::new("fusermount3");
    helper.arg("-o").arg(options).arg("--").arg(at).env("_FUSE_COMMFD", theirs.as_raw_fd().to_string());
    let output = helper.output()?;
    drop(theirs);
    if !output.status.success() {
        return Err(std::io::Error::other(String::from_utf8_lossy(&output.stderr).trim().to_string()));
    }
    let mut space = [std::mem::MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut handed = RecvAncillaryBuffer::new(&mut space);
    let mut byte = [0];
    let mut into = [std::io::IoSliceMut::new(&mut byte)];
    rustix::net::recvmsg(&ours, &mut into, &mut handed, RecvFlags::CMSG_CLOEXEC)?;
    let descriptors = handed.drain().filter_map(|message| match message {
        RecvAncillaryMessage::ScmRights(descriptors) => Some(descriptors),
        _ => None,
    });
    descriptors.flatten().next().ok_or_else(|| std::io::Error::other("the helper handed nothing over"))
}

/// Takes a mount away; `at_once` also where files are open.
fn take_away(at: &Path, at_once: bool) -> std::io::Result<()> {
    if rustix::process::geteuid().is_root() {
        let flags = if at_once { UnmountFlags::DETACH } else { UnmountFlags::NOFOLLOW };
        return unmount(at, flags).map_err(std::io::Error::from);
    }
    let mut helper = std::process::Command::new("fusermount3");
    helper.args(if at_once { &["-u", "-z"][..] } else { &["-u"] }).arg("--").arg(at);
    let output = helper.output()?;
    let said = String::from_utf8_lossy(&output.stderr).trim().to_string();
    match output.status.success() {
        true => Ok(()),
        false if said.contains("busy") => Err(Errno::BUSY.into()),
        false => Err(std::io::Error::other(said)),
    }
}

fn config(wishes: Wishes, is_root: bool) -> Config {
    let mut config = Config::default();
    config.mount_options = if wishes.read_only { vec![MountOption::RO] } else { Vec::new() };
    config.acl = if is_root && !wishes.owner_only { SessionACL::All } else { SessionACL::Owner };
    config.n_threads = Some(AT_ONCE);
    config
}

/// An open file here is one of every program's.
fn raise_limit() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    let most = Rlimit { current: limit.maximum, maximum: limit.maximum };
    // Where it may not be raised, fewer files can be open.
    let _ = setrlimit(Resource::Nofile, most);
}

/// The folder to mount on: there, empty, none of the pool's own, and not in use. What a process left there that died is
/// taken away first.
fn look_at_folder(pool: &Pool, at: &Path) -> Result<PathBuf> {
    let refuse =
        |code, message: String, remedy: &str| Err(Error::new(Kind::Usage, code, message).remedy(remedy));
    if let Err(error) = std::fs::metadata(at)
        && error.raw_os_error() == Some(Errno::NOTCONN.raw_os_error())
    {
        detach(at)?;
    }
    let at = at.canonicalize().map_err(|error| {
        let mut error = Error::io("mount.folder", at, error);
        error.kind = Kind::Usage;
        error.remedy("make an empty folder to mount it on")
    })?;
    for member in &pool.members {
        let Some(root) = member.disk.as_ref().map(|disk| disk.root()) else { continue };
        let Ok(root) = root.canonicalize() else { continue };
        if at.starts_with(&root) || root.starts_with(&at) {
            let message = format!("{} is disk {} itself, or around it", at.display(), member.row.name);
            return refuse(
                "mount.on-member",
                message,
                "choose a folder that no disk of the pool lies in, or around",
            );
        }
    }
    if let Some(kind) = mounted_kind(&at)? {
        let message = format!("{} has something mounted on it already ({kind})", at.display());
        return refuse("mount.in-use", message, "unmount that, or choose another folder");
    }
    let mut entries = std::fs::read_dir(&at).map_err(|error| Error::io("mount.folder", &at, error))?;
    if entries.next().is_some() {
        let message = format!("{} is not empty: what is in it would be out of sight", at.display());
        return refuse("mount.not-empty", message, "choose an empty folder");
    }
    Ok(at)
}

/// What kind of filesystem is mounted on exactly this folder.
fn mounted_kind(at: &Path) -> Result<Option<String>> {
    let path = Path::new("/proc/self/mountinfo");
    let text = std::fs::read_to_string(path).map_err(|error| Error::io("mount.list", path, error))?;
    let mut found = None;
    for line in text.lines() {
        let Some((before, after)) = line.split_once(" - ") else { continue };
        let place = before.split(' ').nth(4).map(unescaped);
        if place.is_some_and(|place| Path::new(&place) == at) {
            found = after.split(' ').next().map(str::to_owned);
        }
    }
    Ok(found)
}

/// The kernel writes spaces and the like as three octal digits.
fn unescaped(text: &str) -> String {
    let mut plain = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('\\') {
        plain += &rest[..at];
        let code = rest.get(at + 1..at + 4).and_then(|digits| u8::from_str_radix(digits, 8).ok());
        match code {
            Some(code) => {
                plain.push(char::from(code));
                rest = &rest[at + 4..];
            }
            None => {
                plain.push('\\');
                rest = &rest[at + 1..];
            }
        }
    }
    plain + rest
}

/// Takes away the mount of a process that died.
fn detach(at: &Path) -> Result<()> {
    match take_away(at, true) {
        Err(error) if error.raw_os_error() == Some(Errno::INVAL.raw_os_error()) => Ok(()),
        other => other.map_err(|error| Error::io("mount.detach", at, error)),
    }
}

fn not_mounted(at: &Path, error: std::io::Error) -> Error {
    let device = Path::new("/dev/fuse");
    if !device.exists() {
        return Error::new(
            Kind::Usage,
            "mount.no-device",
            "this kernel has no /dev/fuse: volumes cannot be mounted",
        )
        .remedy("load the module (modprobe fuse), or give the container the device");
    }
    let mut told = Error::io("mount.refused", at, error);
    told.kind = Kind::Usage;
    let message = format!("the volume could not be mounted on {}", told.message);
    told.message = message;
    if rustix::process::geteuid().is_root() {
        told
    } else {
        told.remedy("an ordinary user needs fusermount3 (package fuse3); root does without")
    }
}

/// A signal unmounts; where files are open, as soon as they are closed.
fn end_on_signal(at: &Path) -> Result<()> {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    let mut signals = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP])
        .map_err(|error| Error::io("mount.signals", at, error))?;
    let at = at.to_path_buf();
    std::thread::spawn(move || {
        if signals.forever().next().is_some() && take_away(&at, false).is_err() {
            // Not an ordinary end, and the only one that is left: names are gone at once, open files stay.
            let _ = take_away(&at, true);
        }
    });
    Ok(())
}

/// Unmounts a volume, and waits until its process has ended.
///
/// # Errors
/// When files of it are open: the message names who has them.
pub fn end(at: &Path, process: u32) -> Result<()> {
    match take_away(at, false) {
        Err(error) if error.raw_os_error() == Some(Errno::BUSY.raw_os_error()) => {
            let users = users_of(at);
            let who = if users.is_empty() { "somebody".into() } else { users.join(", ") };
            return Err(Error::new(
                Kind::Conflict,
                "umount.busy",
                format!("{}: in use by {who}", at.display()),
            )
            .remedy("end them, or wait until they are done, then run this again"));
        }
        Err(error) => return Err(Error::io("umount", at, error)),
        Ok(()) => {}
    }
    let begun = Instant::now();
    while runs(process) {
        if begun.elapsed() > ENDS_WITHIN {
            let message = format!("{} is unmounted, and process {process} has not ended yet", at.display());
            return Err(Error::new(Kind::Io, "umount.process", message).remedy("look what it waits for"));
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(())
}

/// Processes that have a file or their own folder there, by name and number.
fn users_of(at: &Path) -> Vec<String> {
    let Ok(processes) = std::fs::read_dir("/proc") else { return Vec::new() };
    let mut users = Vec::new();
    for process in processes.flatten() {
        let folder = process.path();
        let is_process = folder.file_name().is_some_and(|name| name.as_encoded_bytes()[0].is_ascii_digit());
        if !is_process {
            continue;
        }
        let is_there = |link: PathBuf| std::fs::read_link(link).is_ok_and(|target| target.starts_with(at));
        let open = std::fs::read_dir(folder.join("fd")).into_iter().flatten().flatten().map(|fd| fd.path());
        let links = ["cwd", "root", "exe"].into_iter().map(|name| folder.join(name)).chain(open);
        if links.into_iter().any(is_there) {
            let name = std::fs::read_to_string(folder.join("comm")).unwrap_or_default();
            let number = folder.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            users.push(format!("{} (process {number})", sieve_core::path::shown(name.trim().as_bytes())));
        }
    }
    users
}

impl Volume {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.spec.name
    }

    /// How it is now.
    pub fn now(&self) -> Now {
        Now {
            open_files: self.files.count(),
            open_for_writing: self.files.writers(),
            known_names: self.nodes.count(),
            waiting_to_be_held: self.past.waiting(),
            trouble: self.past.trouble(),
            absent_disks: self.knowledge.names_of(self.absent_disks().into_iter()),
            beyond_parity: self.is_beyond_parity(),
            passes_through: self.passes(),
        }
    }

    /// Finishes the renames of folders that a crash cut off.
    fn finish_renames(&self) -> Result<()> {
        let Some((from, to, intent)) = self.intents.unfinished()? else { return Ok(()) };
        for (position, branch) in self.alive() {
            let is_left = matches!(branch.stat(&from), Ok(Some(_))) && matches!(branch.stat(&to), Ok(None));
            if is_left {
                self.finish_rename(position, &from, &to)
                    .map_err(|errno| Error::io("mount.rename", branch.disk().root(), errno.into()))?;
            }
        }
        self.intents.end(&intent).map_err(|errno| Error::io("mount.rename", Path::new("."), errno.into()))
    }

    /// What programs wrote is on the disks.
    fn make_durable(&self) {
        for (_, branch) in self.alive() {
            // Who needs it to be durable has synced it himself, and was told.
            let _ = sys::syncfs(branch.root());
        }
    }
}
