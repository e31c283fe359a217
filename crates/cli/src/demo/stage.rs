//! Where the story plays: types commands, shows what comes back.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::io::{BufRead, IsTerminal};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::rc::Rc;

use serde_json::Value;
use sieve_disk::{Error, Kind, Result};

use crate::human::style::{self, paint};

/// The stage.
pub(super) struct Stage {
    root: PathBuf,
    program: PathBuf,
    loud: bool,
    /// Whether a chapter was shown before.
    has_begun: Rc<Cell<bool>>,
}

/// What was promised of one file.
pub(super) struct Promise {
    pub(super) disk: String,
    pub(super) path: String,
    pub(super) fate: String,
}

impl Stage {
    pub(super) fn new(root: PathBuf, loud: bool) -> Result<Self> {
        let program = std::env::current_exe().map_err(|e| Error::io("demo.program", &root, e))?;
        Ok(Self { root, program, loud, has_begun: Rc::default() })
    }

    pub(super) fn path(&self, relative: impl AsRef<Path>) -> PathBuf {
        self.root.join(relative)
    }

    /// The same stage, in a folder of it.
    pub(super) fn within(&self, folder: &str) -> Self {
        Self {
            root: self.root.join(folder),
            program: self.program.clone(),
            loud: self.loud,
            has_begun: Rc::clone(&self.has_begun),
        }
    }

    /// A command that is told and shows nothing.
    pub(super) fn quietly(&self, arguments: &[&str]) -> Result<()> {
        self.say(&paint(style::HEAD, format!("$ zinc-sieve {} > /dev/null", typed(arguments))));
        self.unseen(arguments)
    }

    /// A command that is not told.
    pub(super) fn unseen(&self, arguments: &[&str]) -> Result<()> {
        let status = self.command(arguments).stdout(Stdio::null()).status();
        self.expect(arguments, status.map_err(|e| Error::io("demo.run", &self.program, e))?.code(), &[0])
    }

    /// A disk dies: its folder is really deleted, and there is an empty one for the new disk.
    pub(super) fn lose(&self, disk: &str, fresh: &str) -> Result<()> {
        remove_tree(&self.path("disks").join(disk))?;
        self.say(&format!("$ rm -r disks/{disk}"));
        let path = self.path("disks").join(fresh);
        std::fs::create_dir(&path).map_err(|e| Error::io("demo.folder", &path, e))?;
        self.say(&format!("$ mkdir disks/{fresh}        # the new disk\n"));
        Ok(())
    }

    pub(super) fn say(&self, text: &str) {
        if self.loud {
            crate::say!("{text}");
        }
    }

    /// A chapter begins: on a terminal when its reader is ready for it.
    pub(super) fn chapter(&self, title: &str, text: &str) {
        if self.loud && self.has_begun.replace(true) {
            wait_for_reader();
        }
        self.say(&format!("\n{}\n{text}\n", paint(style::HEAD.underline(), title)));
    }

    /// What is told where the demo is told at all.
    pub(super) fn tell_only(&self, told: impl FnOnce()) {
        if self.loud {
            told();
        }
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(&self.program);
        command.current_dir(&self.root).args(arguments).stdin(Stdio::null()).env_remove("ZINC_SIEVE_POOL");
        // The story is read as a whole.
        command.env("PAGER", "");
        command
    }

    /// Types a command and lets it print.
    pub(super) fn type_command(&self, arguments: &[&str], codes: &[i32]) -> Result<()> {
        self.say(&paint(style::HEAD, format!("$ zinc-sieve {}", typed(arguments))));
        let mut command = self.command(arguments);
        if !self.loud {
            command.stdout(Stdio::null());
        }
        let status = command.status().map_err(|e| Error::io("demo.run", &self.program, e))?;
        self.say("");
        self.expect(arguments, status.code(), codes)
    }

    fn expect(&self, arguments: &[&str], code: Option<i32>, codes: &[i32]) -> Result<()> {
        if code.is_some_and(|c| codes.contains(&c)) {
            return Ok(());
        }
        let message = format!("`zinc-sieve {}` ended with exit code {code:?}", arguments.join(" "));
        Err(Error::new(Kind::Internal, "demo.step", message))
    }

    /// What `fate` promises, as its JSON says.
    pub(super) fn fates(&self, lose: &str) -> Result<Vec<Promise>> {
        let arguments = ["fate", "--lose", lose, "--json"];
        let output =
            self.command(&arguments).output().map_err(|e| Error::io("demo.run", &self.program, e))?;
        self.expect(&arguments, output.status.code(), &[0, 1])?;
        let answer: Value = serde_json::from_slice(&output.stdout)
            .map_err(|e| Error::new(Kind::Internal, "demo.json", e.to_string()))?;
        let text = |value: &Value| value.as_str().unwrap_or_default().to_string();
        let files = answer["files"].as_array().cloned().unwrap_or_default();
        let promises = files.iter().map(|file| Promise {
            disk: text(&file["disks"][0]),
            path: text(&file["path"]),
            fate: text(&file["fate"]),
        });
        Ok(promises.collect())
    }

    /// The bytes of every file on the data disks, by disk and path.
    pub(super) fn contents(&self) -> Result<BTreeMap<(String, String), Vec<u8>>> {
        let mut found = BTreeMap::new();
        for disk in ["alder", "beech", "cedar"] {
            let root = self.path("disks").join(disk);
            let mut folders = vec![root.clone()];
            while let Some(folder) = folders.pop() {
                for path in entries(&folder)? {
                    if path.is_dir() {
                        folders.push(path);
                        continue;
                    }
                    let relative = path.strip_prefix(&root).unwrap_or(&path).to_string_lossy().into_owned();
                    let bytes = std::fs::read(&path).map_err(|e| Error::io("demo.read", &path, e))?;
                    found.insert((disk.to_string(), relative), bytes);
                }
            }
        }
        Ok(found)
    }
}

/// Words as they are typed: quoted where there is a space in them.
fn typed(arguments: &[&str]) -> String {
    let word = |word: &&str| if word.contains(' ') { format!("\"{word}\"") } else { (*word).to_string() };
    arguments.iter().map(word).collect::<Vec<_>>().join(" ")
}

/// Until somebody at a terminal presses Enter.
fn wait_for_reader() {
    let (input, output) = (std::io::stdin(), std::io::stdout());
    if input.is_terminal() && output.is_terminal() {
        crate::say!("\n{}", paint(style::FAINT, "(Enter: the next chapter)"));
        // Whatever comes, or cannot be read: the story goes on.
        let _ = input.lock().read_line(&mut String::new());
    }
}

/// What lies in a folder, but ours.
pub(super) fn entries(folder: &Path) -> Result<Vec<PathBuf>> {
    let read = std::fs::read_dir(folder).map_err(|e| Error::io("demo.read", folder, e))?;
    let mut paths: Vec<PathBuf> = read.flatten().map(|entry| entry.path()).collect();
    paths.retain(|p| p.file_name().is_none_or(|n| n != ".zinc-sieve"));
    paths.sort();
    Ok(paths)
}

pub(super) fn make_folder(path: &Path) -> Result<()> {
    std::fs::create_dir_all(path).map_err(|e| Error::io("demo.folder", path, e))
}

#[expect(
    clippy::disallowed_methods,
    reason = "the demo's own made-up files, as another program would write them"
)]
pub(super) fn write_file(path: &Path, bytes: &[u8]) -> Result<()> {
    path.parent().map_or(Ok(()), make_folder)?;
    std::fs::write(path, bytes).map_err(|e| Error::io("demo.write", path, e))
}

pub(super) fn make_empty(root: &Path) -> Result<()> {
    std::fs::create_dir_all(root).map_err(|e| Error::io("demo.dir", root, e))?;
    let is_empty = std::fs::read_dir(root).is_ok_and(|mut entries| entries.next().is_none());
    if is_empty {
        return Ok(());
    }
    let message = format!("{} is not empty: the demo wants a new folder", root.display());
    Err(Error::new(Kind::Usage, "demo.not-empty", message).remedy("name a folder that does not exist yet"))
}

#[expect(
    clippy::disallowed_methods,
    reason = "the demo's own throw-away folders, never a member's path of a user"
)]
pub(super) fn remove_tree(path: &PathBuf) -> Result<()> {
    std::fs::remove_dir_all(path).map_err(|e| Error::io("demo.remove", path, e))
}
