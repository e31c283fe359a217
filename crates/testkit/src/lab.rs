//! A pool to throw away, on directories that stand in for disks, driven through the built program.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use serde_json::Value;
use tempfile::TempDir;

use crate::forms;

/// How long the path of every temporary folder is: what is printed breaks at the same places with each of them.
const LENGTH: usize = "/dev/shm/.tmp000000".len();

/// A temporary folder, in memory where the machine has such a place.
pub fn scratch() -> TempDir {
    let memory = Path::new("/dev/shm");
    let base = if memory.is_dir() { memory } else { Path::new("/tmp") };
    let random = LENGTH.saturating_sub(base.as_os_str().len() + "/.tmp".len()).max(6);
    let made = tempfile::Builder::new().prefix(".tmp").rand_bytes(random).tempdir_in(base);
    made.expect("a temporary folder can be made")
}

/// A pool with simulated disks.
pub struct Lab {
    folder: TempDir,
    program: PathBuf,
    /// The names of the data disks.
    pub data: Vec<String>,
    /// The names of the parity disks.
    pub parity: Vec<String>,
    /// So much later than it is, for the program: what was just written looks old then.
    pub ahead: Duration,
}

/// How a run of the program ended.
pub struct Run {
    /// The exit code; -1 when it was killed.
    pub code: i32,
    /// What it printed.
    pub stdout: String,
    /// What it complained about.
    pub stderr: String,
}

impl Run {
    /// Takes over what a process left.
    #[track_caller]
    pub fn of(output: &Output) -> Self {
        let run = Self {
            code: output.status.code().unwrap_or(-1),
            stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
            stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
        };
        forms::check(&run.stdout);
        run
    }

    /// What it printed, as JSON.
    #[track_caller]
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|e| panic!("{e}: {}\n{}", self.stdout, self.stderr))
    }

    /// What it printed, where that is a list: what the one key besides the name and version of its form holds.
    #[track_caller]
    pub fn list(&self) -> Value {
        let Value::Object(mut result) = self.json() else { panic!("no object: {}", self.stdout) };
        result.retain(|key, _| key != "format" && key != "version");
        let mut values = result.into_iter().map(|(_, value)| value);
        match (values.next(), values.next()) {
            (Some(list @ Value::Array(_)), None) => list,
            _ => panic!("no list: {}", self.stdout),
        }
    }

    /// Fails the test unless the exit code is one of those.
    #[track_caller]
    pub fn expect(self, codes: &[i32]) -> Self {
        assert!(
            codes.contains(&self.code),
            "exit code {}, expected {codes:?}\nstdout: {}\nstderr: {}",
            self.code,
            self.stdout,
            self.stderr
        );
        self
    }
}

const DATA: [&str; 8] = ["alder", "beech", "cedar", "elm", "fir", "hazel", "larch", "maple"];
const PARITY: [&str; 8] = ["oak", "pine", "rowan", "spruce", "walnut", "willow", "yew", "birch"];

impl Lab {
    /// Makes the folders and the pool file of a pool with so many disks of so much capacity.
    pub fn new(program: impl Into<PathBuf>, data: usize, parity: usize, capacity: &str) -> Self {
        let folder = scratch();
        let names = |from: &[&str], count: usize| from[..count].iter().map(ToString::to_string).collect();
        let lab = Self {
            folder,
            program: program.into(),
            data: names(&DATA, data),
            parity: names(&PARITY, parity),
            ahead: Duration::ZERO,
        };
        let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
        for name in lab.data.iter().chain(&lab.parity) {
            std::fs::create_dir(lab.disk(name)).expect("a disk's folder can be made");
            let path = lab.disk(name).display().to_string();
            write!(text, "\n[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"{capacity}\"\nsimulated = true\n")
                .expect("writing to text works");
        }
        write!(
            text,
            "\n[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = {:?}\nparity = {:?}\n",
            lab.data, lab.parity
        )
        .expect("writing to text works");
        lab.write_pool_file(&text);
        lab
    }

    /// Makes the folders and the pool file of a pool with these disks (name, capacity in MB) and the text of a volume.
    /// Data and parity disks are those that the text names so.
    pub fn of(program: impl Into<PathBuf>, disks: &[(&str, u64)], volume: &str) -> Self {
        let (folder, program) = (scratch(), program.into());
        let lab = Self { folder, program, data: Vec::new(), parity: Vec::new(), ahead: Duration::ZERO };
        let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
        for (name, capacity) in disks {
            std::fs::create_dir(lab.disk(name)).expect("a disk's folder can be made");
            let path = lab.disk(name).display().to_string();
            write!(text, "\n[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"{capacity} MB\"\nsimulated = true\n")
                .expect("writing to text works");
        }
        write!(text, "\n[[volume]]\nname = \"recordings\"\n{volume}\n").expect("writing to text works");
        lab.write_pool_file(&text);
        lab
    }

    /// The folder of everything.
    pub fn root(&self) -> &Path {
        self.folder.path()
    }

    /// The folder that a disk had at the beginning.
    pub fn disk(&self, name: &str) -> PathBuf {
        self.root().join(name)
    }

    /// Where the pool file is.
    pub fn pool_file(&self) -> PathBuf {
        self.root().join("pool.toml")
    }

    /// The text of the pool file.
    pub fn pool_text(&self) -> String {
        std::fs::read_to_string(self.pool_file()).expect("the pool file can be read")
    }

    /// Writes the pool file.
    #[expect(clippy::disallowed_methods, reason = "a test's own file")]
    pub fn write_pool_file(&self, text: &str) {
        std::fs::write(self.pool_file(), text).expect("the pool file can be written");
    }

    /// The program with its arguments, in a clean environment.
    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(&self.program);
        command.env_clear().current_dir(self.root()).args(arguments).stdin(std::process::Stdio::null());
        if self.ahead > Duration::ZERO {
            let now = SystemTime::now().duration_since(UNIX_EPOCH).expect("it is after 1970") + self.ahead;
            command.env("ZINC_SIEVE_NOW", now.as_nanos().to_string());
        }
        command
    }

    /// Runs the program.
    pub fn run(&self, arguments: &[&str]) -> Run {
        Run::of(&self.command(arguments).output().expect("the program can be run"))
    }
}
