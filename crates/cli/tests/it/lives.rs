//! Guards against a prediction that reality does not keep, and against a moment without a whole file, for every kind of
//! volume with and without parity and cache: random lives with kills, disks really deleted, volumes taken apart.
//!
//! LIVES sets how many, LIVES_FROM the first, LIVES_SEED runs one of them.
//!
//! Holds I1, I4.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use serde_json::Value;
use sieve_testkit::{Chance, Lab, paths};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const SIZES: [usize; 9] = [0, 1, 4096, 70_000, 300_000, 1_048_577, 1_500_000, 20_000, 4095];
const FOLDERS: [&str; 4] = ["dawn", "dawn/chorus", "scans", "index"];

struct Life {
    lab: Lab,
    chance: Chance,
    kind: &'static str,
    data: Vec<&'static str>,
    parity: Vec<&'static str>,
    caches: Vec<&'static str>,
    log: Vec<String>,
    /// For each path what it held, the present content last.
    expected: BTreeMap<String, Vec<Vec<u8>>>,
    next_name: usize,
    /// Something happened after which more may come back than was promised.
    doubtful: bool,
}

impl Life {
    fn new(seed: u64) -> Self {
        let mut chance = Chance::new(seed);
        let kind = *chance.pick(&["unstriped", "spanned", "tiered", "mirrored"]);
        let data = ["alder", "beech", "cedar", "fir"][..2 + chance.below(3)].to_vec();
        let parity = ["oak", "pine"][..chance.below(3)].to_vec();
        let caches = ["flint", "jasper"][..chance.below(3)].to_vec();
        let capacity = if kind == "spanned" { 8 } else { 40 };
        let mut disks: Vec<(&str, u64)> = data.iter().map(|name| (*name, capacity)).collect();
        disks.extend(parity.iter().map(|name| (*name, 50)));
        disks.extend(caches.iter().map(|name| (*name, if kind == "spanned" { 20 } else { 8 })));
        disks.push(("elm", capacity));
        let mut text = format!("kind = \"{kind}\"\ndata = {data:?}\nparity = {parity:?}\n");
        if kind == "tiered" {
            writeln!(text, "fast = [\"alder\"]\nhalf_life = \"1 day\"").unwrap();
        }
        if !caches.is_empty() {
            writeln!(text, "cache = {caches:?}\ncache_copies = {}", 1 + chance.below(caches.len())).unwrap();
            writeln!(text, "[[volume.folder]]\npath = \"scans\"\nlanding = \"disks\"").unwrap();
            writeln!(text, "[[volume.folder]]\npath = \"index\"\nlanding = \"stay\"").unwrap();
        } else if kind == "tiered" {
            writeln!(text, "[[volume.folder]]\npath = \"scans\"\npin = \"slow\"").unwrap();
        }
        let mut lab = Lab::of(PROGRAM, &disks, &text);
        // In every other life files look old enough for folders to be passed over when they are as they were.
        lab.ahead = Duration::from_secs(seed % 2 * 10);
        let log = vec![format!("seed {seed}: {kind}, {data:?} + {parity:?}, cache {caches:?}")];
        let expected = BTreeMap::new();
        let mut life =
            Self { lab, chance, kind, data, parity, caches, log, expected, next_name: 0, doubtful: false };
        life.run(&["create", "--yes"], &[0]);
        life
    }

    fn story(&self) -> String {
        self.log.join("\n")
    }

    fn run(&mut self, arguments: &[&str], codes: &[i32]) -> (i32, String) {
        self.log.push(arguments.join(" "));
        let run = self.lab.run(arguments);
        let is_fine = codes.contains(&run.code);
        assert!(is_fine, "{}\nexit {}\n{}\n{}", self.story(), run.code, run.stdout, run.stderr);
        (run.code, run.stdout)
    }

    fn json(&mut self, arguments: &[&str]) -> Value {
        let (_, text) = self.run(arguments, &[0, 1]);
        serde_json::from_str(&text).unwrap_or_else(|e| panic!("{e}: {text}"))
    }

    fn put(&mut self) {
        let (coming, arguments) = self.batch();
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        // Where there is no room nothing is copied.
        if self.run(&arguments, &[0, 4]).0 == 0 {
            self.expected.extend(coming.into_iter().map(|(path, bytes)| (path, vec![bytes])));
        }
    }

    /// Files come while the program is killed: each is there whole, or not at all.
    fn killed_put(&mut self) {
        let (coming, arguments) = self.batch();
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        self.killed(&arguments);
        let out = self.lab.root().join("out");
        for (path, bytes) in coming {
            let run = self.lab.run(&["get", &path, "out"]);
            if run.code == 0 {
                let file = out.join(Path::new(&path).file_name().unwrap());
                assert!(fs::read(&file).unwrap() == bytes, "{}\n{path} is there in part", self.story());
                fs::remove_file(file).unwrap();
                self.expected.insert(path, vec![bytes]);
            }
        }
    }

    /// New files in a folder outside, and the command that puts them in.
    fn batch(&mut self) -> (Vec<(String, Vec<u8>)>, Vec<String>) {
        let source = self.lab.root().join("source");
        let _ = fs::remove_dir_all(&source);
        fs::create_dir_all(&source).unwrap();
        let folder = *self.chance.pick(&FOLDERS);
        let mut coming = Vec::new();
        for _ in 0..1 + self.chance.below(4) {
            self.next_name += 1;
            let is_large = self.kind == "spanned" && self.chance.once_in(6);
            let size = if is_large { 9_000_000 } else { *self.chance.pick(&SIZES) };
            let bytes = self.chance.bytes(size);
            let name = format!("take-{}.flac", self.next_name);
            fs::write(source.join(&name), &bytes).unwrap();
            coming.push((format!("{folder}/{name}"), bytes));
        }
        let mut arguments = vec!["put".to_string()];
        let place = |path: &String| source.join(Path::new(path).file_name().unwrap()).display().to_string();
        arguments.extend(coming.iter().map(|(path, _)| place(path)));
        arguments.extend([folder.to_string(), "--yes".to_string()]);
        (coming, arguments)
    }

    fn remove(&mut self) {
        let names: Vec<String> = self.expected.keys().cloned().collect();
        if !names.is_empty() {
            let path = self.chance.pick(&names).clone();
            self.run(&["rm", &path, "--yes"], &[0]);
            self.expected.remove(&path);
        }
    }

    /// The owner edits a file where it lies.
    fn edit(&mut self) {
        let names: Vec<String> = self.expected.keys().cloned().collect();
        let Some(path) = (!names.is_empty()).then(|| self.chance.pick(&names).clone()) else { return };
        let disks: Vec<&str> =
            self.data.iter().copied().filter(|d| self.lab.disk(d).join(&path).is_file()).collect();
        let Some(disk) = disks.first() else { return };
        if self.doubtful && (disks.len() > 1 || self.is_on_cache(&path)) {
            // Copies that a kill left unread, and of which one is edited then, are in conflict: that is told, by design.
            self.sync();
        }
        self.log.push(format!("edit {disk}:{path}"));
        let bytes = self.chance.bytes(30_000);
        fs::write(self.lab.disk(disk).join(&path), &bytes).unwrap();
        self.expected.get_mut(&path).unwrap().push(bytes);
        if disks.len() > 1 || self.is_on_cache(&path) {
            // The copies are told apart until a sync: in one version only after it.
            self.sync();
        }
    }

    fn is_on_cache(&self, path: &str) -> bool {
        self.caches.iter().any(|disk| self.lab.disk(disk).join(path).exists())
    }

    fn settles(&self) -> bool {
        self.kind == "tiered" || !self.caches.is_empty()
    }

    fn settle(&mut self) {
        if self.settles() {
            let then = if self.chance.once_in(2) { "--then-sync" } else { "--json" };
            self.run(&["settle", then, "--yes"], &[0, 1]);
        }
    }

    fn sync(&mut self) {
        self.run(&["sync", "--yes"], &[0, 1]);
    }

    fn read(&mut self) {
        let names: Vec<String> = self.expected.keys().cloned().collect();
        if !names.is_empty() {
            let path = self.chance.pick(&names).clone();
            self.assert_readable(&[path]);
        }
    }

    /// Files come out as they should be.
    fn assert_readable(&mut self, wanted: &[String]) {
        let out = self.lab.root().join("out");
        let _ = fs::remove_dir_all(&out);
        fs::create_dir(&out).unwrap();
        for path in wanted {
            self.run(&["get", path, "out"], &[0]);
            let file = out.join(Path::new(path).file_name().unwrap());
            let is_right = fs::read(&file).unwrap() == *self.expected[path].last().unwrap();
            assert!(is_right, "{}\n{path} has another content", self.story());
            fs::remove_file(file).unwrap();
        }
    }

    fn kill(&mut self, arguments: &[&str]) {
        let delay = self.chance.below(90) as u64;
        self.log.push(format!("{} is killed after {delay} ms", arguments.join(" ")));
        let mut command = self.lab.command(arguments);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(delay));
        let _ = child.kill();
        child.wait().unwrap();
    }

    /// Something is killed on its way; everything is whole and readable right after.
    fn killed(&mut self, arguments: &[&str]) {
        self.doubtful = true;
        self.kill(arguments);
        let all: Vec<String> = self.expected.keys().cloned().collect();
        self.assert_readable(&all);
    }

    fn grow(&mut self) {
        if !self.data.contains(&"elm") {
            self.run(&["grow", "elm", "--as", "data", "--yes"], &[0]);
            self.data.push("elm");
        }
    }

    /// The pool is carried elsewhere: from the disks alone.
    fn carry(&mut self) {
        self.log.push("carried".into());
        self.doubtful = true;
        fs::remove_dir_all(self.lab.root().join(".zinc-sieve")).unwrap();
        let mut disks: Vec<String> = Vec::new();
        for disk in self.data.iter().chain(&self.parity).chain(&self.caches) {
            disks.push(self.lab.disk(disk).display().to_string());
        }
        let mut arguments = vec!["adopt"];
        arguments.extend(disks.iter().map(String::as_str));
        arguments.push("--yes");
        self.run(&arguments, &[0, 1]);
    }

    /// Runs something that may be killed on its way, until it has nothing more to say.
    fn run_to_its_end(&mut self, arguments: &[&str]) {
        if self.chance.once_in(2) {
            self.killed(arguments);
        }
        for _ in 0..3 {
            let run = self.lab.run(arguments);
            self.log.push(format!("{}: {} {}", arguments.join(" "), run.code, run.stderr.trim()));
            // What was begun is finished at the start, or it was done before the kill.
            let is_known = [0, 1].contains(&run.code)
                || [
                    "run this again",
                    "there is no disk",
                    "a member already",
                    "nothing to",
                    "is a member of",
                    "already",
                    "would have a mistake",
                ]
                .iter()
                .any(|words| run.stderr.contains(words))
                || run.code == 4;
            assert!(is_known, "{}\n{}", self.story(), run.stdout);
            if !run.stderr.contains("run this again") && !run.stdout.contains("run it again") {
                break;
            }
        }
        let all: Vec<String> = self.expected.keys().cloned().collect();
        self.assert_readable(&all);
    }

    /// Files go from disk to disk because somebody says so.
    fn shift(&mut self) {
        let to = *self.chance.pick(&self.data);
        let names: Vec<String> = self.expected.keys().cloned().collect();
        if names.is_empty() || self.chance.once_in(2) {
            return self.run_to_its_end(&["even-out", "--yes"]);
        }
        let path = self.chance.pick(&names).clone();
        if !self.is_on_cache(&path) {
            self.run_to_its_end(&["move", &path, "--to", to, "--yes"]);
        }
    }

    /// A disk leaves.
    fn vacate(&mut self) {
        let disk = *self.chance.pick(&self.data);
        // The fast disk of a tiered volume is named in the pool file on its own.
        if self.data.len() < 3 || self.kind == "tiered" {
            return;
        }
        self.run_to_its_end(&["vacate", disk, "--yes"]);
        let status = self.lab.run(&["status", "--json"]).json();
        if status["disks"].as_array().unwrap().iter().all(|d| d["disk"] != disk) {
            self.log.push(format!("{disk} left"));
            self.data.retain(|name| *name != disk);
            // What was killed after the one commit is finished by whoever writes next.
            self.sync();
            assert!(!self.lab.disk(disk).join(".zinc-sieve").exists(), "{}", self.story());
        }
    }

    /// A disk of files gives its place to another one, which is mounted where it was afterwards.
    fn replace(&mut self) {
        let disks: Vec<&str> = self.data.iter().chain(&self.caches).copied().collect();
        let disk = *self.chance.pick(&disks);
        self.next_name += 1;
        let onto = self.lab.root().join(format!("onto-{}", self.next_name));
        fs::create_dir(&onto).unwrap();
        let onto = onto.display().to_string();
        self.run_to_its_end(&["replace", disk, "--onto", &onto, "--yes"]);
        let text = self.lab.pool_text();
        if text.contains(&onto) {
            self.log.push(format!("{disk} was replaced"));
            fs::remove_dir_all(self.lab.disk(disk)).unwrap();
            fs::rename(&onto, self.lab.disk(disk)).unwrap();
            self.lab.write_pool_file(&text.replace(&onto, &self.lab.disk(disk).display().to_string()));
        }
    }

    /// The volume becomes one of another kind; what cannot be is refused before anything is done.
    fn convert(&mut self) {
        let to = *self.chance.pick(&["unstriped", "spanned", "tiered", "mirrored"]);
        let mut arguments = vec!["convert", "recordings", "--to", to, "--yes", "--never-below", "0"];
        if to == "tiered" {
            arguments.extend(["--fast", self.data[0]]);
        }
        self.run_to_its_end(&arguments);
        let text = self.lab.pool_text();
        self.kind = ["unstriped", "spanned", "tiered", "mirrored"]
            .into_iter()
            .find(|kind| text.contains(&format!("kind = \"{kind}\"")))
            .unwrap();
        self.log.push(format!("it is {} now", self.kind));
    }

    fn something(&mut self) {
        match self.chance.below(22) {
            20 | 21 => self.convert(),
            15 | 16 => self.shift(),
            17 => self.vacate(),
            18 | 19 => self.replace(),
            0..=3 => self.put(),
            4 => self.remove(),
            5 => self.edit(),
            6 | 7 => self.settle(),
            8 => self.sync(),
            9 => self.read(),
            10 if self.settles() => self.killed(&["settle", "--yes"]),
            11 => self.killed(&["sync", "--yes"]),
            12 if self.chance.once_in(2) => self.grow(),
            13 if self.chance.once_in(3) => self.carry(),
            14 => self.killed_put(),
            _ => self.put(),
        }
    }
}

fn is_whole(fate: &str) -> bool {
    matches!(fate, "untouched" | "rebuilt")
}

/// Disks die; what `fate` said is what is.
fn lose_and_compare(life: &mut Life) {
    let mut disks: Vec<&str> = life.data.iter().chain(&life.parity).chain(&life.caches).copied().collect();
    let mut lost: Vec<&str> = Vec::new();
    for _ in 0..1 + life.chance.below(2).min(disks.len() - 2) {
        lost.push(disks.remove(life.chance.below(disks.len())));
    }
    let lose = lost.join(",");
    let fate = life.json(&["fate", "--lose", &lose, "--json"]);
    let files = fate["files"].as_array().unwrap().clone();
    let told: BTreeSet<String> = files.iter().map(|f| f["path"].as_str().unwrap().to_string()).collect();
    let there: BTreeSet<String> = life.expected.keys().cloned().collect();
    assert_eq!(told, there, "{}", life.story());
    // Copies that nobody has read yet since the catalogue was lost may be one file or several.
    assert!(files.len() == there.len() || life.doubtful, "each file once\n{}\n{fate}", life.story());
    let of = |file: &Value, key: &str| file[key].as_str().unwrap().to_string();
    for file in &files {
        let guard = file["guard"].as_u64().unwrap() as usize;
        let is_safe = guard < lost.len() || is_whole(&of(file, "fate"));
        assert!(is_safe, "{}\nguard {guard} was promised: {file}", life.story());
    }
    let drill = life.json(&["drill", "--lose", &lose, "--json"]);
    assert_eq!(drill["surprises"], serde_json::json!([]), "{}", life.story());
    let settled = life.json(&["fate", "--lose", &lose, "--json"]);
    lost.iter().for_each(|disk| fs::remove_dir_all(life.lab.disk(disk)).unwrap());
    let missing = life.json(&["fate", "--lose", &lose, "--json"]);
    assert_eq!(missing["totals"], settled["totals"], "{}\nthe same with the disks gone", life.story());
    let by_fate = |whole: bool| -> Vec<String> {
        let files = settled["files"].as_array().unwrap().iter();
        files.filter(|f| is_whole(f["fate"].as_str().unwrap()) == whole).map(|f| of(f, "path")).collect()
    };
    let (safe, mut unsafe_ones) = (by_fate(true), by_fate(false));
    unsafe_ones.retain(|path| !safe.contains(path));
    // Before any rebuild they can be read.
    life.assert_readable(&safe);
    assert_not_better(life, &unsafe_ones);
    rebuild(life, &lost);
    life.assert_readable(&safe);
    let after = life.json(&["fate", "--lose", &lose, "--json"]);
    let left: BTreeSet<String> =
        after["files"].as_array().unwrap().iter().map(|f| f["path"].as_str().unwrap().to_string()).collect();
    life.expected.retain(|path, _| left.contains(path));
    let accept = life.data.join(",");
    life.run(&["sync", "--yes", "--accept", &accept], &[0, 1]);
    life.run(&["verify"], &[0]);
    life.assert_readable(&safe);
}

/// What was said to be lost cannot be had whole after all.
fn assert_not_better(life: &mut Life, paths: &[String]) {
    let out = life.lab.root().join("out");
    // What is empty lives in the catalogue, and that of this machine is still there.
    let has_content = |path: &&String| life.expected[*path].last().is_some_and(|bytes| !bytes.is_empty());
    let paths: Vec<String> = paths.iter().filter(has_content).cloned().collect();
    for path in paths.iter().filter(|_| !life.doubtful) {
        let run = life.lab.run(&["get", path, "out"]);
        assert!(run.code != 0, "{}\n{path} was said to be lost", life.story());
    }
    let _ = fs::remove_dir_all(out);
}

fn rebuild(life: &mut Life, lost: &[&str]) {
    // A disk of a span is full to the last granule, and what is held may take more whole granules than it did: the new disks
    // are a little larger.
    life.lab.write_pool_file(&life.lab.pool_text().replace("capacity = \"8 MB\"", "capacity = \"9 MB\""));
    let mut arguments: Vec<String> = vec!["rebuild".into()];
    arguments.extend(lost.iter().map(ToString::to_string));
    for disk in lost {
        let onto = life.lab.root().join(format!("new-{disk}"));
        fs::create_dir(&onto).unwrap();
        arguments.extend(["--onto".into(), onto.display().to_string()]);
    }
    arguments.extend(["--yes".into(), "--json".into()]);
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    if life.chance.once_in(4) {
        // Killed on its way, it goes on when it is run again.
        life.kill(&arguments);
        let mut again = life.lab.run(&arguments);
        if again.stderr.contains("run this again") {
            again = life.lab.run(&arguments);
        }
        let is_done = again.stderr.contains("nothing to rebuild");
        assert!(is_done || [0, 1].contains(&again.code), "{}\n{}", life.story(), again.stderr);
        return;
    }
    let report = life.json(&arguments);
    assert_eq!(report["predicted"], report["obtained"], "{}\n{report}", life.story());
}

/// The volume ends: every file is on the disks, whole, in one version, and nothing of ours is.
fn take_apart(life: &mut Life) {
    if life.chance.once_in(3) {
        life.kill(&["dissolve", "recordings", "--yes"]);
    }
    let mut run = life.lab.run(&["dissolve", "recordings", "--yes"]);
    if run.stderr.contains("run this again") {
        run = life.lab.run(&["dissolve", "recordings", "--yes"]);
    }
    life.log.push(format!("dissolve: {}", run.code));
    let is_refused = run.stderr.contains("no disk has room") || run.stderr.contains("may still grow");
    if run.code == 4 && is_refused {
        let all: Vec<String> = life.expected.keys().cloned().collect();
        return life.assert_readable(&all);
    }
    let ended =
        run.code == 0 || run.stderr.contains("not been created") || run.stderr.contains("there is no volume");
    assert!(ended, "{}\n{}", life.story(), run.stderr);
    let mut found: BTreeMap<String, Vec<Vec<u8>>> = BTreeMap::new();
    for disk in life.data.iter().chain(&life.parity).chain(&life.caches) {
        let root = life.lab.disk(disk);
        assert!(!root.join(".zinc-sieve").exists(), "{}\n{disk} shows traces of the pool", life.story());
        for path in paths(&root) {
            let path = PathBuf::from(String::from_utf8(path).unwrap());
            if root.join(&path).is_file() {
                found
                    .entry(path.display().to_string())
                    .or_default()
                    .push(fs::read(root.join(&path)).unwrap());
            }
        }
    }
    let names = |map: &BTreeMap<String, Vec<Vec<u8>>>| map.keys().cloned().collect::<Vec<_>>();
    assert_eq!(names(&found), names(&life.expected), "{}", life.story());
    for (path, contents) in &found {
        let present = life.expected[path].last().unwrap();
        assert!(contents.iter().all(|bytes| bytes == present), "{}\n{path}", life.story());
        assert!(contents.len() == 1 || life.kind == "mirrored", "{}\n{path} is there twice", life.story());
    }
}

fn play(seed: u64) {
    let mut life = Life::new(seed);
    for _ in 0..2 {
        life.put();
    }
    if life.chance.once_in(2) {
        life.sync();
    }
    for _ in 0..3 + life.chance.below(6) {
        life.something();
    }
    if life.chance.once_in(4) { take_apart(&mut life) } else { lose_and_compare(&mut life) }
}

#[test]
fn every_kind_of_volume_keeps_what_is_predicted() {
    let number = |name: &str| std::env::var(name).ok().and_then(|n| n.parse::<u64>().ok());
    if let Some(seed) = number("LIVES_SEED") {
        return play(seed);
    }
    let (lives, first) = (number("LIVES").unwrap_or(70), number("LIVES_FROM").unwrap_or(0));
    let next = std::sync::atomic::AtomicU64::new(first);
    let wrong = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let seed = next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                    if seed >= first + lives {
                        break;
                    }
                    if std::panic::catch_unwind(|| play(seed)).is_err() {
                        wrong.lock().unwrap().push(seed);
                    }
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    assert!(wrong.is_empty(), "these lives went wrong: {wrong:?}; LIVES_SEED runs one of them");
}
