//! What is written to: files in a folder of our own, or a whole image or device.

use std::fs::{File, OpenOptions};
use std::os::unix::fs::{FileExt, FileTypeExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use sieve_core::units::ByteLength;

use super::Request;
use super::extents::place_on_device;
use sieve_disk::{Error, Kind, Result};

/// The folder for our files; nothing else is touched.
const FOLDER: &str = ".zinc-sieve-burn-in";
/// How much is one file, or one step on a device.
pub(super) const CHUNK: u64 = 64 << 20;
/// What is left free in a folder's filesystem, so that nobody else runs out of space.
const LEFT_FREE: u64 = 16 << 20;

/// Where the pattern goes.
pub(super) enum Target {
    /// Files in a folder of our own.
    Folder(PathBuf),
    /// A whole image or device.
    Whole(PathBuf),
}

/// How many bytes an aligned buffer begins at, for reads that pass the page cache by.
pub(super) const ALIGNMENT: usize = 4096;

fn io<'a>(code: &'static str, path: &'a Path) -> impl FnOnce(std::io::Error) -> Error + 'a {
    move |error| Error::io(code, path, error)
}

/// Whether a whole image or device would be overwritten, and not only free space filled.
///
/// # Errors
/// When the path is none; when it would be overwritten without being named, or is mounted.
pub fn overwrites(request: &Request) -> Result<bool> {
    let path = &request.path;
    let metadata = std::fs::metadata(path).map_err(|e| {
        let mut error = Error::io("burn-in.path", path, e);
        error.kind = Kind::Usage;
        error
    })?;
    if metadata.is_dir() {
        if request.overwrite.is_some() {
            let message = format!("{} is a folder: nothing in it is overwritten", path.display());
            return Err(Error::new(Kind::Usage, "burn-in.overwrite", message)
                .remedy("leave --overwrite out, or name an image or a device"));
        }
        return Ok(false);
    }
    if !metadata.file_type().is_block_device() && !metadata.is_file() {
        let message = format!("{} is neither a folder nor an image or a disk", path.display());
        return Err(Error::new(Kind::Usage, "burn-in.path", message));
    }
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    if request.overwrite.as_deref() != Some(name.as_str()) {
        let message = format!("{} would be overwritten whole: everything on it is lost", path.display());
        return Err(Error::new(Kind::Safety, "burn-in.overwrite", message)
            .remedy(format!("if that is meant, type its name out: --overwrite {name}")));
    }
    refuse_mounted(path)?;
    Ok(true)
}

/// How much a burn-in writes and reads. Nothing is made or written for the answer.
///
/// # Errors
/// As [`overwrites`], and what the filesystem says.
pub fn amount(request: &Request) -> Result<ByteLength> {
    Target::of(request)?.amount(request)
}

impl Target {
    /// Looks at what is asked for, and how much is to be written.
    pub(super) fn open(request: &Request) -> Result<(Self, ByteLength)> {
        let target = Self::of(request)?;
        if let Self::Folder(folder) = &target {
            std::fs::create_dir_all(folder).map_err(io("burn-in.folder", folder))?;
        }
        let amount = target.amount(request)?;
        Ok((target, amount))
    }

    /// What is asked for; nothing is made yet.
    fn of(request: &Request) -> Result<Self> {
        let path = &request.path;
        Ok(if overwrites(request)? { Self::Whole(path.clone()) } else { Self::Folder(path.join(FOLDER)) })
    }

    /// How much there is to be written, and at most as much as is wanted.
    fn amount(&self, request: &Request) -> Result<ByteLength> {
        let path = &request.path;
        let most = match self {
            Self::Folder(_) => {
                let space =
                    rustix::fs::statvfs(path).map_err(|e| Error::io("burn-in.space", path, e.into()))?;
                let free =
                    space.f_bavail.saturating_mul(space.f_frsize).saturating_add(self.written_before()?);
                free.saturating_sub(LEFT_FREE)
            }
            Self::Whole(_) => {
                let metadata = std::fs::metadata(path).map_err(io("burn-in.path", path))?;
                let is_device = metadata.file_type().is_block_device();
                if is_device { device_size(path)? } else { metadata.len() }
            }
        };
        let most = ByteLength::new(most);
        Ok(request.amount.map_or(most, |amount| amount.min(most)))
    }

    fn file(&self, chunk: u64) -> PathBuf {
        match self {
            Self::Folder(folder) => folder.join(format!("pattern-{chunk:06}")),
            Self::Whole(path) => path.clone(),
        }
    }

    /// Where a chunk begins in its file.
    const fn base(&self, chunk: u64) -> u64 {
        match self {
            Self::Folder(_) => 0,
            Self::Whole(_) => chunk * CHUNK,
        }
    }

    /// The bytes of files that an earlier run left.
    fn written_before(&self) -> Result<u64> {
        let Self::Folder(folder) = self else { return Ok(0) };
        if !folder.exists() {
            return Ok(0);
        }
        let entries = std::fs::read_dir(folder).map_err(io("burn-in.folder", folder))?;
        Ok(entries.flatten().filter_map(|e| e.metadata().ok()).map(|m| m.len()).sum())
    }

    /// Whether an earlier run wrote the whole chunk.
    pub(super) fn has(&self, chunk: u64, length: u64) -> bool {
        matches!(self, Self::Folder(_))
            && std::fs::metadata(self.file(chunk)).is_ok_and(|m| m.len() == length)
    }

    /// The seed of an earlier run, or the one given, which is kept for the next.
    pub(super) fn seed(&self, fresh: u64) -> Result<u64> {
        let Self::Folder(folder) = self else { return Ok(fresh) };
        let path = folder.join("seed");
        if let Some(seed) = std::fs::read_to_string(&path).ok().and_then(|text| text.trim().parse().ok()) {
            return Ok(seed);
        }
        let written = File::create(&path)
            .and_then(|mut f| std::io::Write::write_all(&mut f, fresh.to_string().as_bytes()));
        written.map_err(io("burn-in.seed", &path))?;
        Ok(fresh)
    }

    /// Opens a chunk for writing.
    pub(super) fn writer(&self, chunk: u64) -> Result<Chunk> {
        let path = self.file(chunk);
        let mut options = OpenOptions::new();
        options.write(true).create(matches!(self, Self::Folder(_)));
        let file = options.open(&path).map_err(io("burn-in.write", &path))?;
        Ok(Chunk { file, base: self.base(chunk), path })
    }

    /// Opens a chunk for reading, past the page cache where the filesystem allows; tells whether it does.
    pub(super) fn reader(&self, chunk: u64) -> Result<(Chunk, bool)> {
        let path = self.file(chunk);
        let direct = OpenOptions::new()
            .read(true)
            .custom_flags(rustix::fs::OFlags::DIRECT.bits().cast_signed())
            .open(&path);
        let (file, passes_cache) = match direct {
            Ok(file) => (file, true),
            Err(_) => (File::open(&path).map_err(io("burn-in.read", &path))?, false),
        };
        Ok((Chunk { file, base: self.base(chunk), path }, passes_cache))
    }

    /// Takes our files away.
    #[expect(clippy::disallowed_methods, reason = "the burn-in's own files, in a folder of their own")]
    pub(super) fn clean(&self) -> Result<()> {
        let Self::Folder(folder) = self else { return Ok(()) };
        for entry in std::fs::read_dir(folder).map_err(io("burn-in.folder", folder))?.flatten() {
            let name = entry.file_name();
            if name == "seed" || name.to_string_lossy().starts_with("pattern-") {
                std::fs::remove_file(entry.path()).map_err(io("burn-in.clean", folder))?;
            }
        }
        std::fs::remove_dir(folder).map_err(io("burn-in.clean", folder))
    }
}

/// One chunk, open.
pub(super) struct Chunk {
    pub(super) file: File,
    base: u64,
    path: PathBuf,
}

impl Chunk {
    pub(super) fn write(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.file.write_all_at(bytes, self.base + offset).map_err(io("burn-in.write", &self.path))
    }

    /// Makes what was written durable, and lets the page cache forget it.
    pub(super) fn settle(&self) -> Result<()> {
        self.file.sync_data().map_err(io("burn-in.write", &self.path))?;
        // Where it cannot be forgotten, the report says that the medium was perhaps not read.
        let _ = rustix::fs::fadvise(&self.file, 0, None, rustix::fs::Advice::DontNeed);
        Ok(())
    }

    pub(super) fn read(&self, bytes: &mut [u8], offset: u64) -> std::io::Result<()> {
        self.file.read_exact_at(bytes, self.base + offset)
    }

    /// The place on the device of a byte of the chunk.
    pub(super) fn place_on_device(&self, offset: u64) -> Option<u64> {
        place_on_device(&self.file, self.base + offset)
    }
}

fn device_size(path: &Path) -> Result<u64> {
    let mut file = File::open(path).map_err(io("burn-in.path", path))?;
    std::io::Seek::seek(&mut file, std::io::SeekFrom::End(0)).map_err(io("burn-in.path", path))
}

/// A device (or a part of it) that is mounted is not overwritten, whatever was typed.
fn refuse_mounted(path: &Path) -> Result<()> {
    let real = path.canonicalize().map_err(io("burn-in.path", path))?;
    let real = real.to_string_lossy();
    let mounts = std::fs::read_to_string("/proc/self/mounts").unwrap_or_default();
    let used =
        mounts.lines().filter_map(|l| l.split_whitespace().next()).find(|device| device.starts_with(&*real));
    match used {
        None => Ok(()),
        Some(device) => Err(Error::new(Kind::Safety, "burn-in.mounted", format!("{device} is mounted"))
            .remedy("unmount it first, if it is the disk that is meant")),
    }
}
