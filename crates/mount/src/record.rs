//! Which volumes are mounted: written down beside the pool file by each process that serves one, and asked of it.

use std::io::{Read, Write};
use std::os::fd::AsRawFd;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sieve_core::layout::OurPlace;
use sieve_disk::{Disk, Error, Kind, LockGuard, Result, durable, read_small};

use crate::tree::volume::Volume;

/// No record is larger.
const LARGEST: u64 = 64 << 10;
/// So long a process that serves a volume is waited for.
const PATIENCE: Duration = Duration::from_secs(4);

/// A volume that is mounted.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Mounted {
    format: u32,
    /// The volume.
    pub volume: String,
    /// Where.
    #[serde(rename = "mount_point", alias = "at")]
    pub at: PathBuf,
    /// The process that serves it.
    pub process: u32,
    /// Since when, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub since: i64,
    /// Nothing is changed through it.
    pub read_only: bool,
}

/// How a mounted volume is at a moment.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Now {
    /// Open files.
    pub open_files: usize,
    /// Those that are open for writing.
    pub open_for_writing: usize,
    /// Names that the kernel knows.
    pub known_names: usize,
    /// Files that were taken away, and wait to be recorded as held.
    pub waiting_to_be_held: usize,
    /// Why they could not be recorded when it was last tried, in words.
    pub trouble: Option<String>,
    /// Disks that do not answer.
    pub absent_disks: Vec<String>,
    /// Nothing is changed, for more disks are away than parity bears.
    pub beyond_parity: bool,
    /// The kernel reads and writes files on their disks itself.
    pub passes_through: bool,
}

/// A record, with what came back from the process that it names.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Answer {
    /// What is written down.
    pub mounted: Mounted,
    /// What the process says; nothing where it does not live any more, or does not answer.
    pub now: Option<Now>,
    /// It lives.
    pub lives: bool,
}

/// A record for as long as the volume is served.
pub struct Record {
    home: Arc<dyn Disk>,
    name: String,
    _lock: Box<dyn LockGuard>,
}

fn place(name: &str, what: &str) -> sieve_core::path::RelPath {
    OurPlace::Mounts.with(&format!("{name}.{what}"))
}

/// Who only asks has the lock for a moment, too.
fn patiently<T>(mut take: impl FnMut() -> Result<Option<T>>) -> Result<Option<T>> {
    for _ in 0..20 {
        if let Some(taken) = take()? {
            return Ok(Some(taken));
        }
        std::thread::sleep(Duration::from_millis(25));
    }
    take()
}

/// Whether a process runs; one that has ended and waits to be asked how does not.
pub(crate) fn runs(process: u32) -> bool {
    let stat = std::fs::read_to_string(Path::new("/proc").join(process.to_string()).join("stat"));
    // Behind its name, which may hold anything, in brackets.
    stat.is_ok_and(|text| !text.rsplit_once(") ").is_some_and(|(_, rest)| rest.starts_with(['Z', 'X'])))
}

impl Record {
    /// Writes down that a volume is served from now on.
    ///
    /// # Errors
    /// When another process serves it.
    pub fn begin(home: &Arc<dyn Disk>, volume: &str, at: &Path, since: i64, read_only: bool) -> Result<Self> {
        durable::make_own_folder(&**home, &OurPlace::Mounts.path())?;
        let name = hex::encode(volume.as_bytes());
        let Some(lock) = patiently(|| home.lock(&place(&name, "lock")))? else {
            let place = read(&**home, &name)?.map_or_else(String::new, |m| format!(" at {}", m.at.display()));
            let message = format!("volume {volume} is mounted already{place}");
            return Err(Error::new(Kind::Conflict, "mount.twice", message)
                .remedy("zinc-sieve mount --status shows it; zinc-sieve umount DIR ends it"));
        };
        let process = std::process::id();
        let mounted = Mounted { format: 1, volume: volume.into(), at: at.into(), process, since, read_only };
        let text = serde_json::to_string_pretty(&mounted).unwrap_or_default();
        durable::write_file(&**home, &place(&name, "json"), text.as_bytes())?;
        Ok(Self { home: Arc::clone(home), name, _lock: lock })
    }

    /// Answers whoever asks how the volume is, as long as the process lives.
    ///
    /// # Errors
    /// When the door cannot be made.
    pub fn answer(&self, volume: &Arc<Volume>) -> Result<()> {
        let socket = place(&self.name, "socket");
        if self.home.stat(&socket)?.is_some() {
            self.home.remove_file(&socket)?;
        }
        let folder = std::fs::File::open(self.home.root().join(".zinc-sieve/mounts"))
            .map_err(|e| Error::io("mount.record", self.home.root(), e))?;
        // By the descriptor: a socket's path may not be long, and a folder's is.
        let door = format!("/proc/self/fd/{}/{}.socket", folder.as_raw_fd(), self.name);
        let listener =
            UnixListener::bind(door).map_err(|e| Error::io("mount.record", self.home.root(), e))?;
        let volume = Arc::downgrade(volume);
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                let (Ok(mut stream), Some(volume)) = (stream, volume.upgrade()) else { return };
                volume.past.record_soon();
                volume.look_anew();
                // Who asked and went away again misses nothing.
                let _ = stream.write_all(serde_json::to_string(&volume.now()).unwrap_or_default().as_bytes());
            }
        });
        Ok(())
    }

    /// It is served no more.
    ///
    /// # Errors
    /// What the disk says.
    pub fn end(self) -> Result<()> {
        for what in ["socket", "json"] {
            if self.home.stat(&place(&self.name, what))?.is_some() {
                self.home.remove_file(&place(&self.name, what))?;
            }
        }
        Ok(())
    }
}

fn read(home: &dyn Disk, name: &str) -> Result<Option<Mounted>> {
    if home.stat(&place(name, "json"))?.is_none() {
        return Ok(None);
    }
    let mounted: Option<Mounted> =
        serde_json::from_slice(&read_small(home, &place(name, "json"), LARGEST)?).ok();
    Ok(mounted.filter(|mounted| mounted.format == 1))
}

/// Refuses what would take disks away under a mounted volume.
///
/// # Errors
/// When the volume is mounted; what the disk says.
pub fn refuse_mounted(home: &dyn Disk, volume: &str) -> Result<()> {
    let Some(answer) = all(home)?.into_iter().find(|a| a.lives && a.mounted.volume == volume) else {
        return Ok(());
    };
    let at = answer.mounted.at.display().to_string();
    let message = format!("volume {volume} is mounted on {at}: programs may write to its disks");
    Err(Error::new(Kind::Safety, "volume.mounted", message)
        .remedy(format!("zinc-sieve umount {at}, then run this again")))
}

/// The volumes that are mounted, or were when their process died.
///
/// # Errors
/// What the disk says.
pub fn all(home: &dyn Disk) -> Result<Vec<Answer>> {
    if home.stat(&OurPlace::Mounts.path())?.is_none() {
        return Ok(Vec::new());
    }
    let mut found = Vec::new();
    for file in home.list(&OurPlace::Mounts.path())? {
        let Some(name) = file.strip_suffix(b".json").and_then(|name| std::str::from_utf8(name).ok()) else {
            continue;
        };
        let Some(mounted) = read(home, name)? else { continue };
        // Only the process that serves it has the lock, and a lock ends with its process.
        let lives = runs(mounted.process) && home.lock(&place(name, "lock"))?.is_none();
        let now = if lives { ask(home, name) } else { None };
        found.push(Answer { mounted, now, lives });
    }
    found.sort_by(|a, b| a.mounted.volume.cmp(&b.mounted.volume));
    Ok(found)
}

/// Has every mounted volume of a pool record what programs took away, so that who looks at the catalogue now knows of it; and
/// look at the disks anew, so that what was changed beside it shows at once. What is not recorded in time is learned of by the
/// next scan, and what changed shows within a second anyway.
pub fn bring_up(pool_file: &Path) {
    let home = sieve_pool::pool::home_folder(pool_file);
    if !home.join(".zinc-sieve/mounts").is_dir() {
        return;
    }
    let Ok(home) = sieve_disk::RealDisk::open(home) else { return };
    // It is a help, and no more: who cannot be asked leaves it to the scan.
    let _ = all(&home);
}

/// What the process says; nothing where it does not answer in time.
fn ask(home: &dyn Disk, name: &str) -> Option<Now> {
    let folder = std::fs::File::open(home.root().join(".zinc-sieve/mounts")).ok()?;
    let door = format!("/proc/self/fd/{}/{name}.socket", folder.as_raw_fd());
    let stream = UnixStream::connect(door).ok()?;
    stream.set_read_timeout(Some(PATIENCE)).ok()?;
    let mut text = String::new();
    stream.take(LARGEST).read_to_string(&mut text).ok()?;
    serde_json::from_str(&text).ok()
}
