//! The pool that is measured: made-up files, and folders that play disks.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

use serde_json::Value;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use sieve_disk::{Disk, Error, Kind, RealDisk, Result};
use tempfile::TempDir;

/// Data disks.
pub(super) const DISKS: usize = 3;
/// Parity drives.
pub(super) const PARITIES: usize = 2;
/// The disk that dies.
pub(super) const LOST: &str = "alder";
/// Fewer files tell nothing.
pub(super) const LEAST_FILES: usize = 50;

const NAMES: [&str; DISKS + PARITIES] = [LOST, "beech", "cedar", "oak", "rowan"];
const FILE: usize = 16 << 10;
const IN_A_FOLDER: usize = 50;
/// Commands that answer at once are run so often, and the middle one counts.
const TIMES: usize = 5;

/// The pool, in folders that are removed with it.
pub(super) struct Stage {
    program: PathBuf,
    /// Where each folder that plays a disk was made.
    pub(super) folders: Vec<PathBuf>,
    homes: Vec<TempDir>,
    pub(super) files: usize,
    card: String,
    out: String,
    fresh: String,
}

fn failed(place: &Path) -> impl FnOnce(std::io::Error) -> Error {
    let place = place.to_path_buf();
    move |error| Error::io("bench.work", &place, error)
}

/// A path as an argument: the folders are made by this program, below one that was typed.
fn text(path: &Path) -> Result<String> {
    path.to_str().map(str::to_string).ok_or_else(|| {
        let message = format!("{}: name a folder whose path is text", path.display());
        Error::new(Kind::Usage, "bench.work", message)
    })
}

impl Stage {
    /// Makes the folders, the files and the pool file.
    pub(super) fn set_up(within: &[PathBuf], files: usize) -> Result<Self> {
        let program = std::env::current_exe().map_err(failed(Path::new("zinc-sieve")))?;
        let folders = if within.is_empty() { vec![std::env::temp_dir()] } else { within.to_vec() };
        let make = |folder: &PathBuf| {
            tempfile::Builder::new().prefix("zinc-sieve-bench-").tempdir_in(folder).map_err(|error| {
                let mut error = failed(folder)(error);
                error.kind = Kind::Usage;
                error.remedy("name folders that are there and may be written to")
            })
        };
        let homes = folders.iter().map(make).collect::<Result<Vec<_>>>()?;
        let home = text(homes[0].path())?;
        let (card, out, fresh) = (format!("{home}/card"), format!("{home}/out"), format!("{home}/fresh"));
        let stage = Self { program, folders, homes, files, card, out, fresh };
        for folder in [&stage.card, &stage.out, &stage.fresh] {
            std::fs::create_dir(folder).map_err(failed(Path::new(folder)))?;
        }
        for name in NAMES {
            let disk = stage.disk(name);
            std::fs::create_dir(&disk).map_err(failed(&disk))?;
        }
        stage.write_files()?;
        stage.write_pool_file()?;
        Ok(stage)
    }

    fn disk(&self, name: &str) -> PathBuf {
        let position = NAMES.iter().position(|known| *known == name).unwrap_or_default();
        self.homes[position % self.homes.len()].path().join(name)
    }

    /// The folders of the data disks.
    pub(super) fn data_disks(&self) -> Vec<PathBuf> {
        NAMES[..DISKS].iter().map(|name| self.disk(name)).filter(|disk| disk.exists()).collect()
    }

    pub(super) fn card(&self) -> &str {
        &self.card
    }

    pub(super) fn out(&self) -> &str {
        &self.out
    }

    pub(super) fn fresh(&self) -> &str {
        &self.fresh
    }

    pub(super) fn home(&self) -> &Path {
        self.homes[0].path()
    }

    /// A file of the volume, as its user names it.
    pub(super) fn one_file(&self) -> String {
        format!("card/{}", place_of(0))
    }

    /// A folder of the volume.
    pub(super) fn one_folder(&self) -> String {
        "card/dawn-0".into()
    }

    /// Where that file lies.
    pub(super) fn place_of_one_file(&self) -> Option<PathBuf> {
        self.data_disks().into_iter().map(|disk| disk.join(self.one_file())).find(|place| place.exists())
    }

    fn write_files(&self) -> Result<()> {
        let card = RealDisk::open(Path::new(&self.card))?;
        let mut content = vec![0_u8; FILE];
        let mut state = 0x9E37_79B9_7F4A_7C15_u64;
        for number in 0..self.files {
            // Nothing that a filesystem could pack.
            for bytes in content.as_chunks_mut::<8>().0 {
                state ^= state << 13;
                state ^= state >> 7;
                state ^= state << 17;
                *bytes = state.to_le_bytes();
            }
            let path = RelPath::new(place_of(number).as_bytes()).expect("a made-up name is a path");
            if let Some(folder) = path.parent().filter(|_| number.is_multiple_of(IN_A_FOLDER)) {
                card.make_folder(&folder, 0o755)?;
            }
            card.create(&path)?.write_at(&content, 0)?;
        }
        card.sync_all()
    }

    fn write_pool_file(&self) -> Result<()> {
        let mut pool = String::from("[pool]\nname = \"bench\"\n");
        let capacity = (self.files * FILE * 4).max(64 << 20);
        for name in NAMES {
            let path = text(&self.disk(name))?;
            pool += &format!(
                "\n[[disk]]\nname = \"{name}\"\npath = {path:?}\ncapacity = \"{capacity} B\"\nsimulated = true\n"
            );
        }
        let (data, parity) = NAMES.split_at(DISKS);
        pool += &format!(
            "\n[[volume]]\nname = \"work\"\nkind = \"unstriped\"\ndata = {data:?}\nparity = {parity:?}\n"
        );
        let home = RealDisk::open(self.home())?;
        sieve_disk::durable::write_file(&home, &RelPath::fixed("pool.toml"), pool.as_bytes())
    }

    /// Runs a command as its user would; tells the seconds that it took.
    pub(super) fn run(&self, arguments: &[&str]) -> Result<f64> {
        Ok(self.output(arguments)?.0)
    }

    fn output(&self, arguments: &[&str]) -> Result<(f64, Vec<u8>)> {
        let begun = Instant::now();
        let mut command = Command::new(&self.program);
        let command = command.args(arguments).current_dir(self.home()).stdin(Stdio::null());
        let output = command.output().map_err(failed(&self.program))?;
        let seconds = begun.elapsed().as_secs_f64();
        // Not all is well with a disk away; nothing may fail.
        match output.status.code() {
            Some(0 | 1 | 5) => Ok((seconds, output.stdout)),
            _ => {
                let told = String::from_utf8_lossy(&output.stderr);
                let message = format!("zinc-sieve {} failed: {}", arguments.join(" "), told.trim());
                Err(Error::new(Kind::Internal, "bench.work", message))
            }
        }
    }

    /// The middle one of several runs.
    pub(super) fn median(&self, arguments: &[&str]) -> Result<f64> {
        let mut runs = (0..TIMES).map(|_| self.run(arguments)).collect::<Result<Vec<f64>>>()?;
        runs.sort_by(f64::total_cmp);
        Ok(runs[TIMES / 2])
    }

    /// A sync, and the most bytes that it wrote to one disk.
    pub(super) fn sync_counting(&self) -> Result<(f64, ByteLength)> {
        let (seconds, told) = self.output(&["sync", "--yes", "--json"])?;
        let report: Value = serde_json::from_slice(&told).unwrap_or_default();
        let written = report["written_bytes"].as_object().into_iter().flatten();
        let most = written.filter_map(|(_, bytes)| bytes.as_u64()).max().unwrap_or(0);
        Ok((seconds, ByteLength::new(most)))
    }

    /// The disk is gone: its folder has another name.
    #[expect(clippy::disallowed_methods, reason = "a disk of the made-up pool goes away")]
    pub(super) fn lose_a_disk(&self) -> Result<()> {
        let disk = self.disk(LOST);
        std::fs::rename(&disk, disk.with_extension("away")).map_err(failed(&disk))
    }
}

fn place_of(number: usize) -> String {
    format!("dawn-{}/take-{number}.flac", number / IN_A_FOLDER)
}
