//! The written form of every result: docs/schema is what the program says, and every command prints what it says.
//! All other tests hold what they run against the same files.
//!
//! `FORMS_UPDATE=1 cargo test -p zinc-sieve --test it -- forms::` writes the schemas anew.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use serde_json::Value;
use sieve_testkit::{Lab, Run, forms, scratch};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn program(arguments: &[&str]) -> Run {
    Run::of(&std::process::Command::new(PROGRAM).args(arguments).output().unwrap())
}

fn names() -> BTreeSet<String> {
    program(&["schema"]).expect(&[0]).stdout.lines().map(String::from).collect()
}

#[test]
fn the_schemas_in_the_documents_are_those_of_the_program() {
    let folder = forms::folder();
    if std::env::var_os("FORMS_UPDATE").is_some() {
        fs::remove_dir_all(&folder).unwrap_or_default();
        program(&["schema", "--into", folder.to_str().unwrap()]).expect(&[0]);
    }
    let files = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let written: BTreeSet<String> = files.collect();
    let expected: BTreeSet<String> = names().iter().map(|name| format!("{name}.json")).collect();
    assert_eq!(written, expected, "FORMS_UPDATE=1 writes them anew");
    for name in names() {
        let text = fs::read_to_string(folder.join(format!("{name}.json"))).unwrap();
        let says = program(&["schema", &name]).expect(&[0]).stdout;
        assert_eq!(text, says, "{name}: FORMS_UPDATE=1 writes it anew");
    }
}

#[test]
fn a_schema_is_named_as_the_result_names_itself_and_a_slip_is_understood() {
    let short = program(&["schema", "fate"]).expect(&[0]).stdout;
    assert_eq!(program(&["schema", "zinc-sieve/fate"]).expect(&[0]).stdout, short);
    let schema: Value = serde_json::from_str(&short).unwrap();
    assert_eq!(schema["properties"]["format"]["const"], "zinc-sieve/fate");
    let wrong = program(&["schema", "fait"]).expect(&[2]);
    assert!(wrong.stderr.contains("did you mean `fate`?"), "{}", wrong.stderr);
}

#[test]
fn schemas_are_written_beside_nothing_of_the_same_name() {
    let folder = scratch();
    let into = folder.path().to_str().unwrap();
    fs::write(folder.path().join("fate.json"), "mine").unwrap();
    let refused = program(&["schema", "--into", into]).expect(&[4]);
    assert!(refused.stderr.contains("fate.json"), "{}", refused.stderr);
    assert_eq!(fs::read(folder.path().join("fate.json")).unwrap(), b"mine");
}

/// A value with a key that no schema names, or of another type, would be found: the proof of the proofs.
#[test]
fn what_no_schema_describes_is_found() {
    let good = serde_json::json!({
        "format": "zinc-sieve/umount", "version": 1,
        "unmounted": {
            "format": 1, "volume": "recordings", "mount_point": "/mnt/songs", "process": 7,
            "since": "2031-05-02T00:00:00Z", "read_only": false,
        },
    });
    forms::check_against("umount", &good);
    let wrong = |pointer: &str, value: Value| {
        let mut changed = good.clone();
        let (parent, key) = pointer.rsplit_once('/').unwrap();
        changed.pointer_mut(parent).unwrap()[key] = value;
        let found = std::panic::catch_unwind(|| forms::check_against("umount", &changed));
        assert!(found.is_err(), "{pointer} was not found to be wrong");
    };
    wrong("/unmounted/colour", "blue".into());
    wrong("/colour", "blue".into());
    wrong("/version", 2.into());
    wrong("/unmounted/since", "yesterday".into());
    wrong("/unmounted/process", "seven".into());
}

/// Types commands, and notes which results came.
struct Typist {
    lab: Lab,
    seen: BTreeSet<String>,
}

impl Typist {
    fn new(lab: Lab) -> Self {
        Self { lab, seen: BTreeSet::new() }
    }

    /// Types each line with `--json` in a folder, and takes any ending that prints a result; a `~` is a blank within a word.
    fn types(&mut self, folder: &Path, lines: &[&str]) {
        for line in lines {
            let words: Vec<String> = line.split(' ').map(|word| word.replace('~', " ")).collect();
            let mut arguments: Vec<&str> = words.iter().map(String::as_str).collect();
            arguments.push("--json");
            let mut command = self.lab.command(&arguments);
            let run = Run::of(&command.current_dir(folder).stdin(Stdio::null()).output().unwrap());
            assert!([0, 1, 5].contains(&run.code), "{line}: {}\n{}\n{}", run.code, run.stdout, run.stderr);
            self.note(line, &run.stdout);
        }
    }

    fn note(&mut self, line: &str, printed: &str) {
        let result: Value =
            serde_json::from_str(printed).unwrap_or_else(|e| panic!("{line}: {e}\n{printed}"));
        let format = result["format"].as_str().unwrap_or_else(|| panic!("{line}: no name: {printed}"));
        self.seen.insert(format.strip_prefix("zinc-sieve/").unwrap().to_string());
    }

    /// Lines of many, each held against the schema of that name.
    fn lines(&mut self, name: &str, text: &str) {
        let lines: Vec<Value> = text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert!(!lines.is_empty(), "{name} told nothing");
        lines.iter().for_each(|line| forms::check_against(name, line));
        self.seen.insert(name.into());
    }
}

const WATCHED: &str = r#"
[[notices.channel]]
kind = "command"
command = ["/bin/sh", "-c", "cat >> told.json"]

[[agenda.job]]
do = "sync"
when = "daily 03:00"

[[agenda.job]]
do = "verify"
when = "daily 03:10"
"#;

/// A pool with a cache, filled and synced.
fn pool() -> Typist {
    let disks = [("alder", 60), ("beech", 60), ("oak", 80), ("flint", 40)];
    let volume = "data = [\"alder\", \"beech\"]\nparity = [\"oak\"]\ncache = [\"flint\"]";
    let lab = Lab::of(PROGRAM, &disks, volume);
    lab.write_pool_file(&(lab.pool_text() + WATCHED));
    let card = lab.root().join("card/dawn");
    fs::create_dir_all(&card).unwrap();
    for number in 0..4_u8 {
        fs::write(card.join(format!("take-{number}.flac")), vec![number / 2; 200_000]).unwrap();
    }
    Typist::new(lab)
}

fn larger(lab: &Lab, name: &str, megabytes: u64) {
    let path = lab.root().join(name);
    fs::create_dir(&path).unwrap();
    let disk = format!(
        "\n[[disk]]\nname = \"{name}\"\npath = \"{}\"\ncapacity = \"{megabytes} MB\"\nsimulated = true\nshares_filesystem = true\n",
        path.display()
    );
    lab.write_pool_file(&(lab.pool_text() + &disk));
}

fn daily_use(typist: &mut Typist) {
    let root = typist.lab.root().to_path_buf();
    let listing = root.join("cellar.csv");
    for name in ["work-1", "work-2", "new", "out", "units"] {
        fs::create_dir(root.join(name)).unwrap();
    }
    typist.types(
        &root,
        &[
            "check",
            "create --yes",
            "put card/dawn . --dry-run",
            "put card/dawn . --yes",
            "ls",
            "where *.flac",
            "sync --dry-run",
            "sync --yes",
            "settle --dry-run",
            "settle --yes --then-sync",
            "status",
            "usage",
            "duplicates",
            "fate --lose alder",
            "fate --any 1",
            "fate --map",
            "fate --explain dawn/take-1.flac",
            "risk",
            "drill --lose alder",
            "drill --practice small",
            "verify",
            "listing cellar.csv",
            "report page.html",
            "measure --amount 1MB",
            "bench --quick",
            "bench --read-disks",
            "bench --work --count 10 --within work-1 --within work-2",
            "get dawn/take-0.flac out",
            "rm dawn/take-0.flac --dry-run",
            "rm dawn/take-0.flac --yes",
            "restore --list dawn",
            "restore dawn/take-0.flac --dry-run",
            "restore dawn/take-0.flac --yes",
            "notice",
            "notice --test",
            "agenda",
            "agenda --solve",
            "agenda --export timers units",
            "health --self-test short",
            "mount --status",
            "journal",
            "burn-in new --dry-run",
            "burn-in new --amount 1MB --yes",
        ],
    );
    typist.lab.ahead = Duration::from_secs(86_400);
    let due = typist.lab.run(&["agenda", "--due", "--json"]).expect(&[0, 1]).stdout;
    typist.lines("agenda-run", &due);
    typist.lab.ahead = Duration::ZERO;
    typist.lines("notice-event", &fs::read_to_string(root.join("told.json")).unwrap());
    let elsewhere = format!("\n[[elsewhere]]\nname = \"cellar\"\nlisting = \"{}\"\n", listing.display());
    typist.lab.write_pool_file(&(typist.lab.pool_text() + &elsewhere));
    let damaged = ["alder", "beech"].map(|disk| typist.lab.disk(disk).join("dawn/take-3.flac"));
    typist.lab.rot(damaged.iter().find(|path| path.exists()).unwrap(), 5000);
    typist.types(&root, &["verify --mend --yes"]);
    typist.types(&root, &["elsewhere", "fate --lose alder --backup cellar.csv", "status"]);
}

/// One more volume.
const ARCHIVE: &str = "\n[[volume]]\nname = \"archive\"\ndata = [\"hazel\"]\n";

fn changes(typist: &mut Typist) {
    let root = typist.lab.root().to_path_buf();
    for (name, megabytes) in [("spruce", 90), ("willow", 70)] {
        larger(&typist.lab, name, megabytes);
    }
    larger(&typist.lab, "hazel", 60);
    typist.lab.write_pool_file(&(typist.lab.pool_text() + ARCHIVE));
    for name in ["larger", "alder-new"] {
        fs::create_dir(root.join(name)).unwrap();
    }
    typist.types(
        &root,
        &[
            "sync --yes",
            "create --dry-run",
            "create --yes",
            "move dawn/take-1.flac --volume archive --dry-run",
            "move dawn/take-1.flac --volume archive --yes",
            "move dawn/take-1.flac --volume recordings --yes",
            "dissolve archive --yes",
        ],
    );
    let text = typist.lab.pool_text();
    let (before, after) = text.split_once(ARCHIVE).expect("the volume is in the file");
    typist.lab.write_pool_file(&format!("{before}{after}"));
    typist.types(
        &root,
        &[
            "move dawn/take-1.flac --to beech --dry-run",
            "move dawn --to beech --yes",
            "move dawn --to alder --yes",
            "sync --yes",
            "grow willow --as data --dry-run",
            "grow willow --as data --yes",
            "grow spruce --as parity --yes",
            "sync --yes",
            "route 1~parity --steps route.md",
            "route --next --steps route.md",
            "vacate spruce --dry-run",
            "vacate spruce --yes",
            "vacate willow --dry-run",
            "vacate willow --yes",
            "rename disk beech larch --yes",
            "replace oak --onto larger --yes",
            "wipe oak --was oak~of~fernhollow --yes",
            "convert recordings --to spanned --dry-run",
        ],
    );
    fs::remove_dir_all(typist.lab.disk("alder")).unwrap();
    typist.types(
        &root,
        &["rebuild alder --onto alder-new --dry-run", "rebuild alder --onto alder-new --yes", "sync --yes"],
    );
    typist.types(
        &root,
        &["adopt alder-new beech flint larger --dry-run", "adopt alder-new beech flint larger --yes"],
    );
    typist.types(
        &root,
        &[
            "convert recordings --to spanned --yes",
            "dissolve recordings --dry-run",
            "dissolve recordings --yes",
        ],
    );
}

/// What tells of the machine, of worlds that are made, and of pools that are not yet.
fn outlook(typist: &mut Typist) {
    let root = typist.lab.root().to_path_buf();
    typist.types(
        &root,
        &[
            "demo --dir world --set-up-only",
            "demo --dir paper --paper",
            "demo --chapter mirror",
            "design --hdd 4TB,4TB,8TB",
            "ingest --amount 1TB --cache 500GB --arrivals 22:00-02:00~200GB",
        ],
    );
    typist.types(
        &root.join("world"),
        &[
            "disks --from machine",
            "disks alder --from machine",
            "health --from machine",
            "health alder --probe --from machine",
            "bays --from machine",
            "bays --find alder --from machine",
            "prepare elm=TS08-4M2H9D --erase TS08-4M2H9D --from machine",
            "--pool first.toml init --from machine",
        ],
    );
}

fn told_line_by_line(typist: &mut Typist) {
    let syncing = typist.lab.run(&["sync", "--yes", "--events"]);
    typist.lines("progress", &syncing.stderr);
    let journal = typist.lab.run(&["journal", "--json"]).list();
    let lines = journal.as_array().unwrap().iter().map(|line| format!("{line}\n"));
    typist.lines("journal-line", &lines.collect::<String>());
    let wrong = typist.lab.run(&["fate", "--lose", "nobody", "--json"]).expect(&[2]);
    typist.note("fate --lose nobody", &wrong.stdout);
}

#[test]
fn every_result_is_printed_and_as_its_schema_says() {
    let mut typist = pool();
    daily_use(&mut typist);
    told_line_by_line(&mut typist);
    changes(&mut typist);
    outlook(&mut typist);
    let missing: Vec<_> = names().difference(&typist.seen).cloned().collect();
    // It takes a kernel that lets one mount: the tests of `mount` type it where there is one.
    assert_eq!(missing, ["umount"]);
}
