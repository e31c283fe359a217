//! Samples of one suspicious disk, read past the page cache: of the whole device where it may be opened, else of its files.

use std::fs::File;
use std::io::{Seek, SeekFrom};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::time::Instant;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::health::Samples;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::{Disk, EntryKind, Error, Result};

/// So many samples are spread over a device, or over the files of a disk.
const SAMPLES: u64 = 512;
/// How long each is.
const LENGTH: u64 = 256 << 10;
/// So many files are looked for among which samples are chosen.
const MOST_FILES: usize = 100_000;
/// What takes longer, and so many times as long as usual, was tried again by the disk.
const SLOW_SECONDS: f64 = 1.0;
const SLOW_TIMES: f64 = 20.0;

/// A sample that could not be read.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Unreadable {
    /// Where: the file, or the byte of the device.
    pub at: String,
    /// What the system says.
    pub why: String,
}

/// What came of the samples.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct Probed {
    /// The samples are of the whole length of the device; else of the files on it.
    pub of_device: bool,
    /// How many were read, or were to be.
    pub taken: u64,
    /// The bytes of them.
    pub bytes: ByteLength,
    /// How many took far longer than usual.
    pub slow: u64,
    /// The longest.
    pub longest_seconds: f64,
    /// Those that could not be read.
    pub unreadable: Vec<Unreadable>,
    /// It was asked to stop before its end.
    pub stopped: bool,
    #[serde(skip)]
    took: Vec<f64>,
}

impl Probed {
    /// What counts of it.
    pub fn samples(&self) -> Samples {
        Samples { taken: self.taken, unreadable: self.unreadable.len() as u64, slow: self.slow }
    }

    fn note(&mut self, at: impl FnOnce() -> String, begun: Instant, read: Result<usize>) {
        self.taken += 1;
        self.took.push(begun.elapsed().as_secs_f64());
        match read {
            Ok(bytes) => self.bytes = self.bytes.plus(ByteLength::new(bytes as u64)),
            Err(error) => self.unreadable.push(Unreadable { at: at(), why: error.to_string() }),
        }
    }

    fn finished(mut self) -> Self {
        self.took.sort_by(f64::total_cmp);
        let usual = self.took.get(self.took.len() / 2).copied().unwrap_or_default();
        let is_slow = |took: &&f64| **took > SLOW_SECONDS && **took > usual * SLOW_TIMES;
        self.slow = self.took.iter().filter(is_slow).count() as u64;
        self.longest_seconds = self.took.last().copied().unwrap_or_default();
        self
    }
}

/// Samples over the whole length of a device or image.
///
/// # Errors
/// When it cannot be opened; what cannot be read of it is part of the answer.
pub fn of_device(path: &Path, observer: &dyn Observer) -> Result<Probed> {
    let failed = |e| Error::io("probe.device", path, e);
    let mut device = File::open(path).map_err(failed)?;
    let length = device.seek(SeekFrom::End(0)).map_err(failed)?;
    let step = (length / SAMPLES).max(LENGTH) / LENGTH * LENGTH;
    let places: Vec<u64> = (0..length).step_by(usize::try_from(step).unwrap_or(usize::MAX)).collect();
    observer.event(Event::Stage { name: "reading samples", total: places.len() as u64, unit: Unit::Files });
    let mut probed = Probed { of_device: true, ..Probed::default() };
    let mut buffer = vec![0; LENGTH as usize];
    for place in places {
        if observer.is_stopped() {
            probed.stopped = true;
            break;
        }
        let wanted = usize::try_from((length - place).min(LENGTH)).unwrap_or(0);
        // What the system has in memory would tell nothing of the disk.
        let _ = rustix::fs::fadvise(
            &device,
            place,
            std::num::NonZeroU64::new(LENGTH),
            rustix::fs::Advice::DontNeed,
        );
        let begun = Instant::now();
        let read = device.read_at(&mut buffer[..wanted], place).map_err(failed);
        probed.note(|| format!("byte {place}"), begun, read);
        observer.event(Event::Advanced { by: 1 });
    }
    Ok(probed.finished())
}

/// Samples of the files on a disk, and of what is ours on it (parity, replicas).
///
/// # Errors
/// When its root cannot be listed; what cannot be read below it is part of the answer.
pub fn of_files(disk: &dyn Disk, observer: &dyn Observer) -> Result<Probed> {
    let mut probed = Probed::default();
    let files = files(disk, &mut probed)?;
    let every = files.len().div_ceil(SAMPLES as usize).max(1);
    let chosen: Vec<_> = files.iter().step_by(every).collect();
    observer.event(Event::Stage { name: "reading samples", total: chosen.len() as u64, unit: Unit::Files });
    let mut buffer = vec![0; LENGTH as usize];
    for (position, (path, size)) in chosen.into_iter().enumerate() {
        if observer.is_stopped() {
            probed.stopped = true;
            break;
        }
        // Here and there in long files, so that not only their beginnings are tried.
        let parts = size / LENGTH + 1;
        let offset = position as u64 % parts * LENGTH;
        let begun = Instant::now();
        let read = disk.open(path).and_then(|mut file| {
            file.let_go(offset, LENGTH);
            file.read_at(&mut buffer, offset)
        });
        probed.note(|| path.to_string(), begun, read);
        observer.event(Event::Advanced { by: 1 });
    }
    Ok(probed.finished())
}

/// Files with their sizes; a folder that cannot be read is noted.
fn files(disk: &dyn Disk, probed: &mut Probed) -> Result<Vec<(RelPath, u64)>> {
    let mut found = Vec::new();
    let mut folders = vec![RelPath::ROOT];
    disk.list(&folders[0])?;
    while let Some(folder) = folders.pop() {
        let begun = Instant::now();
        let names = match disk.list(&folder) {
            Ok(names) => names,
            Err(error) => {
                probed.note(|| folder.to_string(), begun, Err(error));
                continue;
            }
        };
        for path in names.iter().filter_map(|name| folder.join(name).ok()) {
            let Ok(Some(stat)) = disk.stat(&path) else { continue };
            match stat.kind {
                EntryKind::Folder => folders.push(path),
                EntryKind::File if stat.size > ByteLength::ZERO => found.push((path, stat.size.exact())),
                _ => {}
            }
        }
        if found.len() > MOST_FILES {
            break;
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    #![allow(
        clippy::unwrap_used,
        clippy::disallowed_methods,
        reason = "a test may fail, and writes its own files"
    )]

    use super::*;
    use rstest::rstest;
    use sieve_disk::event::Silent;

    #[rstest]
    #[case::empty(0, 0)]
    #[case::short(1000, 1)]
    #[case::not_a_multiple(3 * LENGTH + 5, 4)]
    #[case::long(SAMPLES * LENGTH * 3, SAMPLES)]
    fn samples_reach_over_the_whole_length(#[case] length: u64, #[case] samples: u64) {
        let image = tempfile::NamedTempFile::new().unwrap();
        image.as_file().set_len(length).unwrap();
        let found = of_device(image.path(), &Silent).unwrap();
        assert_eq!((found.taken, found.unreadable.len(), found.slow), (samples, 0, 0), "{found:?}");
        assert!(found.of_device && found.bytes.exact() <= length);
    }

    #[test]
    fn a_device_that_is_not_there_is_an_error() {
        assert!(of_device(Path::new("/dev/nothing-of-the-kind"), &Silent).is_err());
    }
}
