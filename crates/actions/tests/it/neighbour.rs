//! Guards against somebody else who acts in the middle: right before each call that an operation makes, a neighbour appends,
//! saves anew, edits, deletes, links, renames, swaps a folder for a symlink, another command of ours runs, the call fails, or the
//! work is killed there and the neighbour comes before anybody recovers.
//! Whatever was whole, held, or written by the neighbour is there afterwards, and after the next sync (L1, L3, L4, L8); nothing
//! is more open than it was (L5). NEIGHBOURS=all runs every interleaving, NEIGHBOURS=17 the first of them in a random order that
//! is always the same, NEIGHBOURS=17..34 the next ones.
//!
//! Holds I2, I7.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs::{self, OpenOptions};
use std::io::{ErrorKind, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

use rstest::rstest;
use sieve_actions::disks::convert;
use sieve_actions::disks::membership::{About, dissolve, empty, grow, handover, replace, vacate};
use sieve_actions::disks::{adopt, create, rebuild, rename};
use sieve_actions::files::{put, read, remove, restore, settle, shift, transfer};
use sieve_actions::guard::verify::Scope;
use sieve_actions::guard::{sync, verify};
use sieve_catalogue::held_files;
use sieve_catalogue::label::Role;
use sieve_catalogue::pool_file::Named;
use sieve_core::path::RelPath;
use sieve_core::pool::{VolumeKind, parse};
use sieve_disk::Result;
use sieve_disk::event::Silent;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_pool::pool::Pool;
use sieve_pool::{pieces, scan};
use sieve_testkit::{Act, Answer, Chance, Mapping, NeighbourMachine, scratch};
use tempfile::TempDir;

const VOLUME: &str = "recordings";
/// So many interleavings of each operation run when nobody says otherwise.
const USUAL: usize = 24;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Work {
    Settle,
    SettleForSpace,
    SettleToMirror,
    SettleInPieces,
    Tiers,
    Sync,
    SyncMirror,
    /// A mirrored volume gets its first copies, all of them at once.
    FirstCopies,
    Put,
    Replace,
    Remove,
    Restore,
    Mend,
    Rebuild,
    GrowData,
    GrowParity,
    Vacate,
    MoveParity,
    Dissolve,
    Adopt,
    Create,
    /// A data disk leaves.
    Empty,
    /// A data disk gives its place to another.
    HandOver,
    /// A mirrored volume becomes unstriped.
    Unmirror,
    /// A folder goes to another volume.
    Transfer,
    /// Files go to another disk of a spanned volume, one of them in pieces.
    Shift,
    /// A file in pieces is copied whole, on the way of its volume to another kind; somebody is at one of the pieces.
    CopyWhole,
    /// The copy takes the place of the pieces.
    TakePlace,
    /// The parity drive gets another name, which labels and catalogue follow.
    Rename,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Deed {
    AppendByOpen,
    Append,
    Save,
    SaveLinked,
    Edit,
    Delete,
    Link,
    MoveFolder,
    SwapFolder,
    NewFile,
    Status,
    Put,
    Remove,
    Sync,
    Fails,
    Full,
    Interrupted,
    Vanishes,
    Short,
    /// The work is killed; afterwards one of the others, before anybody recovers.
    Killed,
    KilledThenAppend,
    KilledThenSave,
    KilledThenSaveLinked,
    KilledThenDelete,
    KilledThenMoveFolder,
    KilledThenStatus,
}

impl Deed {
    fn after_the_kill(self) -> Option<Self> {
        Some(match self {
            Self::KilledThenAppend => Self::Append,
            Self::KilledThenSave => Self::Save,
            Self::KilledThenSaveLinked => Self::SaveLinked,
            Self::KilledThenDelete => Self::Delete,
            Self::KilledThenMoveFolder => Self::MoveFolder,
            Self::KilledThenStatus => Self::Status,
            _ => return None,
        })
    }

    fn takes_the_folder(self) -> bool {
        matches!(self, Self::SwapFolder)
    }
}

const DEEDS: [Deed; 26] = [
    Deed::AppendByOpen,
    Deed::Append,
    Deed::Save,
    Deed::SaveLinked,
    Deed::Edit,
    Deed::Delete,
    Deed::Link,
    Deed::MoveFolder,
    Deed::SwapFolder,
    Deed::NewFile,
    Deed::Status,
    Deed::Put,
    Deed::Remove,
    Deed::Sync,
    Deed::Fails,
    Deed::Full,
    Deed::Interrupted,
    Deed::Vanishes,
    Deed::Short,
    Deed::Killed,
    Deed::KilledThenAppend,
    Deed::KilledThenSave,
    Deed::KilledThenSaveLinked,
    Deed::KilledThenDelete,
    Deed::KilledThenMoveFolder,
    Deed::KilledThenStatus,
];

fn real() -> Arc<dyn Machine> {
    Arc::new(RealMachine { clock: Clock::Real })
}

fn rel(text: &str) -> RelPath {
    RelPath::new(text).unwrap()
}

impl Work {
    fn volume(self) -> &'static str {
        match self {
            Self::Settle | Self::SettleForSpace => {
                "kind = \"unstriped\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\n"
            }
            Self::SettleToMirror => {
                "kind = \"mirrored\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\ncache = [\"flint\", \"jasper\"]\ncache_copies = 2\n"
            }
            Self::SettleInPieces => {
                "kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\n"
            }
            Self::Shift | Self::CopyWhole | Self::TakePlace => {
                "kind = \"spanned\"\ndata = [\"alder\", \"beech\", \"spruce\"]\nparity = [\"oak\"]\n"
            }
            Self::Tiers => {
                "kind = \"tiered\"\ndata = [\"alder\", \"beech\"]\nfast = [\"alder\"]\nparity = [\"oak\"]\n"
            }
            Self::SyncMirror | Self::FirstCopies | Self::Unmirror => {
                "kind = \"mirrored\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n"
            }
            _ => "kind = \"unstriped\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n",
        }
    }

    fn has_cache(self) -> bool {
        matches!(self, Self::Settle | Self::SettleForSpace | Self::SettleToMirror | Self::SettleInPieces)
    }

    /// The disk that the files lie on that the work is about.
    fn place(self) -> &'static str {
        if self.has_cache() { "flint" } else { "alder" }
    }

    fn makes_whole(self) -> bool {
        matches!(self, Self::CopyWhole | Self::TakePlace)
    }

    /// Where the neighbour is.
    fn beside(self) -> &'static str {
        if self.makes_whole() { PIECES } else { self.place() }
    }
}

const PIECES: &str = "alder/.zinc-sieve/pieces";
const DISKS: [&str; 8] = ["alder", "beech", "oak", "flint", "jasper", "elm", "spruce", "new"];

struct Scene {
    folder: TempDir,
    work: Work,
    /// What has to be somewhere.
    contents: Vec<Vec<u8>>,
    chance: Chance,
}

impl Scene {
    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn open(&self, machine: Arc<dyn Machine>) -> Result<Pool> {
        open(self.folder.path(), machine)
    }

    fn build(work: Work, seed: u64) -> Self {
        let folder = scratch();
        let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
        for (name, megabytes) in DISKS.into_iter().zip([4, 4, 20, 20, 20, 4, 20, 20]) {
            fs::create_dir(folder.path().join(name)).unwrap();
            if name != "new" {
                let path = folder.path().join(name).display().to_string();
                text += &format!(
                    "[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"{megabytes} MB\"\nsimulated = true\n"
                );
            }
        }
        text += &format!(
            "[[volume]]\nname = \"recordings\"\n{}settle_after = \"0.0000001 minutes\"\nstop_when_gone = \"99 %\"\n",
            work.volume()
        );
        if work == Work::Transfer {
            text += "[[volume]]\nname = \"archive\"\ndata = [\"jasper\"]\nparity = [\"flint\"]\n";
        }
        fs::create_dir_all(folder.path().join("source/card")).unwrap();
        fs::create_dir(folder.path().join("out")).unwrap();
        let mut scene = Self { folder, work, contents: Vec::new(), chance: Chance::new(seed) };
        fs::write(scene.path("pool.toml"), &text).unwrap();
        if work == Work::Create {
            scene.write("alder/dawn/wren.flac", 5000);
            return scene;
        }
        let spec = parse(&text).spec.unwrap();
        let plan = create::plan(&*real(), &scene.path("pool.toml"), &spec).unwrap();
        create::execute(&real(), &scene.path("pool.toml"), &spec, &plan, &Silent).unwrap();
        scene.fill();
        scene
    }

    fn write(&mut self, path: &str, size: usize) {
        let bytes = self.chance.bytes(size);
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, &bytes).unwrap();
        self.contents.push(bytes);
    }

    fn fill(&mut self) {
        let work = self.work;
        for (path, size) in [("dawn/wren.flac", 9000), ("dawn/robin.flac", 300), ("nest/owl.mkv", 20_000)] {
            self.write(&format!("{}/{path}", work.place()), size);
        }
        self.write("beech/notes/may.txt", 700);
        let private = self.path(work.place()).join("diary");
        fs::create_dir(&private).unwrap();
        self.write(&format!("{}/diary/secret.txt", work.place()), 500);
        fs::set_permissions(&private, PermissionsExt::from_mode(0o700)).unwrap();
        fs::hard_link(
            self.path(work.place()).join("dawn/robin.flac"),
            self.path(work.place()).join("dawn/robin-again.flac"),
        )
        .unwrap();
        std::os::unix::fs::symlink("wren.flac", self.path(work.place()).join("dawn/link")).unwrap();
        if work == Work::SettleInPieces {
            self.write("flint/dawn/night.mkv", 4_500_000);
        }
        if work == Work::Shift || work.makes_whole() {
            self.write("source/far/night.mkv", 6_500_000);
            put_in(self.folder.path(), real(), "source/far", "", false).unwrap();
            fs::remove_dir_all(self.path("source/far")).unwrap();
        }
        if !work.has_cache() && work != Work::FirstCopies {
            sync(self.folder.path(), real()).unwrap();
        }
        match work {
            Work::TakePlace => {
                run(work, self.folder.path(), real()).unwrap();
                sync(self.folder.path(), real()).unwrap();
            }
            Work::Sync => {
                self.write("beech/dawn/late.flac", 3000);
                self.write("alder/dawn/wren.flac", 9000);
            }
            Work::SyncMirror => self.write("alder/dawn/wren.flac", 9100),
            Work::Put | Work::Replace => {
                self.write("source/card/finch.flac", 6000);
                self.write("source/wren.flac", 8000);
            }
            Work::Tiers => {
                let text = fs::read_to_string(self.path("pool.toml")).unwrap();
                let pinned = format!("{text}[[volume.folder]]\npath = \"dawn\"\npin = \"slow\"\n");
                fs::write(self.path("pool.toml"), pinned).unwrap();
            }
            Work::Restore => fs::remove_file(self.path("alder/dawn/wren.flac")).unwrap(),
            Work::Mend => self.rot(),
            Work::Rebuild => {
                fs::rename(self.path("beech"), self.path("beech-gone")).unwrap();
                self.contents.pop_if(|_| false);
            }
            Work::GrowData => self.write("elm/moor/lark.flac", 2000),
            Work::Adopt => fs::remove_dir_all(self.path(".zinc-sieve")).unwrap(),
            _ => {}
        }
    }

    /// A byte of a file flips, and nothing tells.
    fn rot(&mut self) {
        let path = self.path("alder/dawn/wren.flac");
        let before = fs::metadata(&path).unwrap();
        let mut bytes = fs::read(&path).unwrap();
        bytes[4321] ^= 4;
        fs::write(&path, &bytes).unwrap();
        let file = OpenOptions::new().write(true).open(&path).unwrap();
        file.set_modified(before.modified().unwrap()).unwrap();
        drop(file);
        // The change time moved as well: the catalogue is told, as if nothing had.
        use std::os::unix::fs::MetadataExt;
        let now = fs::metadata(&path).unwrap();
        let database = rusqlite::Connection::open(self.path(".zinc-sieve/catalogue.sqlite")).unwrap();
        let ctime = now.ctime() * 1_000_000_000 + now.ctime_nsec();
        database
            .execute(
                "UPDATE object SET ctime = ?1 WHERE inode = ?2 AND size = 9000",
                (ctime, now.ino() as i64),
            )
            .unwrap();
    }

    fn run(&self, machine: Arc<dyn Machine>) -> Result<()> {
        run(self.work, self.folder.path(), machine)
    }

    /// The bytes of everything that can be had: under a name, held, or in pieces.
    fn there(&self) -> Vec<Vec<u8>> {
        let mut found = Vec::new();
        for disk in DISKS {
            named(&self.path(disk), &mut found);
        }
        for folder in ["moved", "outside", "source", "beech-gone"] {
            named(&self.path(folder), &mut found);
        }
        let Ok(pool) = self.open(real()) else { return found };
        scan::scan_all(&pool, |_| true, &Silent).unwrap();
        for member in pool.file_members(VOLUME).filter(|member| member.state.is_usable()) {
            for held in held_files::all(pool.catalogue.reading(), member.row.id).unwrap() {
                let path = self.path(&member.row.name).join(held.path.to_string());
                found.extend(fs::read(path));
            }
        }
        if self.work.makes_whole() {
            for entry in fs::read_dir(self.path(PIECES)).into_iter().flatten().flatten() {
                found.extend(fs::read(entry.path()));
            }
        }
        for file in pieces::files(&pool, VOLUME).unwrap() {
            let out = TempDir::new_in(self.path("out")).unwrap();
            if read::get(&pool, VOLUME, std::slice::from_ref(&file.path), None, out.path(), &Silent).is_ok() {
                named(out.path(), &mut found);
            }
        }
        found
    }

    /// How many disks may die, for each file and symlink, once whatever was left half done is finished.
    fn guards(&self) -> BTreeMap<String, (u8, String)> {
        let mut pool = self.open(real()).unwrap();
        match sieve_actions::begin_short(&mut pool) {
            // It finished a change of the pool file, and asks to be run again.
            Err(error) if error.code == "pool-file.changed" => {
                drop(pool);
                pool = self.open(real()).unwrap();
            }
            other => other.unwrap(),
        }
        scan::scan_all(&pool, |_| true, &Silent).unwrap();
        let mut guards = BTreeMap::new();
        for volume in pool.volumes() {
            let model = sieve_pool::fate::load(&pool, &volume.name).unwrap();
            let evaluation = model.evaluate(&[]);
            model
                .for_each_file(&pool, &evaluation, |file| {
                    let why = format!("{:?}", file.unguarded);
                    let level = guards.entry(file.path).or_insert((file.guard, why.clone()));
                    *level = (file.guard, why).max(level.clone());
                    Ok(())
                })
                .unwrap();
        }
        guards
    }

    fn assert_all_there(&self, expected: &[Vec<u8>], when: &str) {
        let there = self.there();
        for bytes in expected {
            assert!(there.contains(bytes), "{when}: a content of {} bytes is nowhere", bytes.len());
        }
    }

    /// What came out of a private folder is in one, wherever it is.
    fn assert_closed(&self, when: &str) {
        for disk in DISKS {
            let ours = self.path(disk).join(".zinc-sieve");
            let private = self.path(disk).join("diary");
            for folder in [ours, private] {
                let Ok(metadata) = fs::metadata(&folder) else { continue };
                let mode = metadata.permissions().mode() & 0o777;
                assert!(mode & 0o077 == 0, "{when}: {} is {mode:o}", folder.display());
            }
        }
    }
}

fn named(folder: &Path, found: &mut Vec<Vec<u8>>) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let path = entry.path();
        let kind = entry.file_type().unwrap();
        if kind.is_dir() && entry.file_name() != ".zinc-sieve" {
            named(&path, found);
        } else if kind.is_file() {
            found.extend(fs::read(&path));
        }
    }
}

fn open(folder: &Path, machine: Arc<dyn Machine>) -> Result<Pool> {
    let text = fs::read_to_string(folder.join("pool.toml")).unwrap();
    sieve_pool::open(machine, &folder.join("pool.toml"), parse(&text).spec.unwrap())
}

fn sync(folder: &Path, machine: Arc<dyn Machine>) -> Result<()> {
    let mut pool = open(folder, machine)?;
    sieve_actions::begin_long(&mut pool, "sync")?;
    let options = sync::Options::default();
    let plan = sync::plan(&pool, &options, &Silent)?;
    sync::execute(&mut pool, &plan, &options, &Silent).map(|_| ())
}

fn put_in(folder: &Path, machine: Arc<dyn Machine>, source: &str, to: &str, replaces: bool) -> Result<()> {
    let mut pool = open(folder, machine)?;
    sieve_actions::begin_short(&mut pool)?;
    let plan = put::plan(&pool, VOLUME, &[folder.join(source)], &RelPath::new(to).unwrap(), replaces)?;
    put::execute(&pool, &plan, &Silent).map(|_| ())
}

fn remove_from(folder: &Path, machine: Arc<dyn Machine>, path: &str) -> Result<()> {
    let mut pool = open(folder, machine)?;
    sieve_actions::begin_short(&mut pool)?;
    let plan = remove::plan(&pool, VOLUME, &[rel(path)], true)?;
    remove::execute(&pool, plan).map(|_| ())
}

fn run(work: Work, folder: &Path, machine: Arc<dyn Machine>) -> Result<()> {
    let again = Arc::clone(&machine);
    if work == Work::Create {
        let file = folder.join("pool.toml");
        let spec = parse(&fs::read_to_string(&file).unwrap()).spec.unwrap();
        let plan = create::plan(&*machine, &file, &spec)?;
        return create::execute(&machine, &file, &spec, &plan, &Silent).map(|_| ());
    }
    if work == Work::Adopt {
        let folders: Vec<PathBuf> = ["alder", "beech", "oak"].iter().map(|name| folder.join(name)).collect();
        let prepared = adopt::plan(&machine, &folder.join("pool.toml"), &folders)?;
        return adopt::execute(&machine, &folder.join("pool.toml"), prepared, &Silent).map(|_| ());
    }
    match work {
        Work::Sync | Work::SyncMirror | Work::FirstCopies => return sync(folder, machine),
        Work::Put => return put_in(folder, machine, "source/card", "", false),
        Work::Replace => return put_in(folder, machine, "source/wren.flac", "dawn", true),
        Work::Remove => return remove_from(folder, machine, "dawn"),
        _ => {}
    }
    let mut pool = open(folder, machine)?;
    if work == Work::Restore {
        sieve_actions::begin_short(&mut pool)?;
        scan::scan_all(&pool, |_| true, &Silent)?;
        let found = restore::list(&pool, VOLUME, &[rel("dawn")])?;
        return restore::execute(&pool, VOLUME, &found, restore::Target::Place, &Silent).map(|_| ());
    }
    if work == Work::Rebuild {
        let lost = pool.member_named("beech")?.row.id;
        sieve_actions::begin_long_without(&mut pool, "rebuild", &[lost])?;
        let request = rebuild::Request { name: "beech".into(), onto: folder.join("new") };
        let prepared = rebuild::plan(&pool, &[request])?;
        return rebuild::execute(&mut pool, &prepared, &rebuild::Options::default(), &Silent).map(|_| ());
    }
    sieve_actions::begin_long(&mut pool, "test")?;
    match work {
        Work::Mend => {
            verify::verify(&pool, &Scope::Whole, &Silent)?;
            verify::mend(&pool, &Silent).map(|_| ())
        }
        Work::GrowData | Work::GrowParity => {
            let (name, role) = match work {
                Work::GrowData => ("elm", Role::Data),
                _ => ("spruce", Role::Parity),
            };
            let at = Some(folder.join(name));
            let request = grow::GrowRequest { name: name.into(), volume: None, role, at };
            let prepared = grow::plan(&pool, &request)?;
            grow::execute(&mut pool, prepared, &Silent).map(|_| ())
        }
        Work::Vacate => {
            let plan = vacate::plan(&pool, &["oak".to_string()])?;
            vacate::execute(&mut pool, &plan).map(|_| ())
        }
        Work::MoveParity => {
            let onto = folder.join("new");
            let request = replace::ReplaceRequest {
                name: "oak".into(),
                onto,
                capacity: None,
                rest: None,
                about: About::default(),
            };
            let prepared = replace::plan(&pool, &request)?;
            replace::execute(&mut pool, prepared, &Silent).map(|_| ())
        }
        Work::Empty => {
            let plan = empty::plan(&pool, &["alder".to_string()], &Silent)?;
            empty::execute(&mut pool, &plan, &Silent).map(|_| ())
        }
        Work::HandOver => {
            let onto = folder.join("new");
            let request = handover::HandoverRequest {
                name: "alder".into(),
                onto,
                capacity: None,
                about: About::default(),
                wipes: false,
            };
            let prepared = handover::plan(&pool, &request)?;
            handover::execute(&mut pool, prepared, &Silent).map(|_| ())
        }
        Work::Transfer => {
            let (from, to) = (pool.volume(Some(VOLUME))?, pool.volume(Some("archive"))?);
            let paths = [rel("dawn"), rel("diary")];
            let request = transfer::Request { from: &from, to: &to, paths: &paths, disk: None };
            let plan = transfer::plan(&pool, request, &Silent)?;
            transfer::execute(&mut pool, &plan, &Silent).map(|_| ())
        }
        Work::Rename => {
            let plan = rename::plan(&pool, Named::Disk, "oak", "ash")?;
            rename::execute(&pool, &plan)?;
            drop(pool);
            sieve_actions::begin_long(&mut open(folder, again)?, "follow")
        }
        Work::Shift => {
            let volume = pool.volume(Some(VOLUME))?;
            let paths = [rel("dawn"), rel("diary"), rel("far")];
            let plan = shift::to_disk(&pool, &volume, &paths, "spruce", &Silent)?;
            shift::execute(&mut pool, &volume, &plan, &[], &Silent).map(|_| ())
        }
        Work::Unmirror | Work::CopyWhole | Work::TakePlace => {
            let request = convert::ConvertRequest {
                volume: VOLUME.into(),
                to: VolumeKind::Unstriped,
                fast: Vec::new(),
                copies: None,
                never_below: None,
            };
            let prepared = convert::plan(&pool, &request, &Silent)?;
            convert::execute(&mut pool, prepared, &Silent).map(|_| ())
        }
        Work::Dissolve => {
            let plan = dissolve::plan(&pool, VOLUME)?;
            dissolve::execute(&mut pool, &plan, &Silent).map(|_| ())
        }
        _ => {
            let volume = pool.volume(Some(VOLUME))?;
            let until =
                (work == Work::SettleForSpace).then_some(sieve_core::units::ByteLength::new(19_990_000));
            let options = settle::Options { until, ..settle::Options::default() };
            let plan = settle::plan(&pool, &volume, &options, &Silent)?;
            settle::execute(&mut pool, &volume, &plan, &options, &Silent).map(|_| ())
        }
    }
}

/// What the neighbour leaves behind.
#[derive(Default)]
struct Doings {
    /// Contents that have to be somewhere from then on.
    wrote: Vec<Vec<u8>>,
    /// Contents that it took away itself.
    took: Vec<Vec<u8>>,
    /// What it is still at.
    waits: Vec<JoinHandle<()>>,
}

type Shared = Arc<Mutex<Doings>>;

/// The file that the neighbour is after, wherever it is at that moment.
fn target(folder: &Path, place: &str) -> PathBuf {
    if place == PIECES {
        let mut pieces = fs::read_dir(folder.join(place)).into_iter().flatten().flatten();
        return pieces.next().map_or_else(|| folder.join(place).join("gone"), |entry| entry.path());
    }
    let usual = folder.join(place).join("dawn/wren.flac");
    let others = ["alder", "beech"].map(|disk| folder.join(disk).join("dawn/wren.flac"));
    others.into_iter().chain([usual.clone()]).rev().find(|path| path.is_file()).unwrap_or(usual)
}

/// What somebody does to a file, in a thread of its own: whoever opens what is leased waits.
fn later(doings: &Shared, work: impl FnOnce(&Shared) + Send + 'static) {
    let inner = Arc::clone(doings);
    let handle = std::thread::spawn(move || work(&inner));
    doings.lock().unwrap().waits.push(handle);
}

fn act(deed: Deed, folder: PathBuf, place: &'static str, doings: Shared, open: Option<fs::File>) -> Act {
    Box::new(move || {
        let path = target(&folder, place);
        let old = fs::read(&path).unwrap_or_default();
        match deed {
            Deed::AppendByOpen => {
                if let Some(mut open) = open {
                    // It may have been moved or not: by its descriptor it is the same.
                    let tail = b"and a line by an open descriptor";
                    use std::os::unix::fs::FileExt;
                    let length = open.metadata().unwrap().len();
                    let mut bytes = vec![0; usize::try_from(length).unwrap()];
                    open.read_exact_at(&mut bytes, 0).unwrap();
                    let mut doings = doings.lock().unwrap();
                    doings.took.push(bytes.clone());
                    bytes.extend_from_slice(tail);
                    open.write_all(tail).unwrap();
                    doings.wrote.push(bytes);
                }
            }
            Deed::Append | Deed::Edit => later(&doings, move |doings| {
                let mut options = OpenOptions::new();
                options.read(true).write(true).append(deed == Deed::Append);
                let Ok(mut file) = options.open(&path) else { return };
                let mut bytes = Vec::new();
                std::io::Read::read_to_end(&mut file, &mut bytes).unwrap();
                let before = bytes.clone();
                if deed == Deed::Append {
                    file.write_all(b"one line more").unwrap();
                    bytes.extend_from_slice(b"one line more");
                } else {
                    use std::os::unix::fs::FileExt;
                    file.write_all_at(b"edited in place", 100).unwrap();
                    if bytes.len() < 115 {
                        bytes.resize(115, 0);
                    }
                    bytes[100..115].copy_from_slice(b"edited in place");
                }
                let mut doings = doings.lock().unwrap();
                doings.took.push(before);
                doings.wrote.push(bytes);
            }),
            Deed::Save if path.parent().is_some_and(Path::is_dir) => {
                let bytes = b"saved anew by way of another file".to_vec();
                let new = path.with_extension("tmp");
                fs::write(&new, &bytes).unwrap();
                fs::rename(&new, &path).unwrap();
                let mut doings = doings.lock().unwrap();
                doings.took.push(old);
                doings.wrote.push(bytes);
            }
            // A further name of a file with several is given to another one.
            Deed::SaveLinked if path.parent().is_some_and(Path::is_dir) => {
                let bytes = b"saved anew under its second name".to_vec();
                let new = path.with_extension("tmp");
                fs::write(&new, &bytes).unwrap();
                fs::rename(&new, path.with_file_name("robin-again.flac")).unwrap();
                doings.lock().unwrap().wrote.push(bytes);
            }
            Deed::Delete => {
                if fs::remove_file(&path).is_ok() {
                    doings.lock().unwrap().took.push(old);
                }
            }
            Deed::Link => {
                let _ = fs::hard_link(&path, folder.join(place).join("second-name.flac"));
            }
            Deed::MoveFolder => {
                let _ = fs::rename(path.parent().unwrap(), folder.join(place).join("dusk"));
            }
            Deed::SwapFolder => {
                if fs::rename(path.parent().unwrap(), folder.join("moved")).is_ok() {
                    let _ = fs::create_dir(folder.join("outside"));
                    std::os::unix::fs::symlink(folder.join("outside"), path.parent().unwrap()).unwrap();
                }
            }
            Deed::NewFile if folder.join(place).is_dir() => {
                let bytes = b"something new".to_vec();
                fs::write(folder.join(place).join("new.flac"), &bytes).unwrap();
                doings.lock().unwrap().wrote.push(bytes);
            }
            Deed::Status => {
                if let Ok(mut pool) = open_for_status(&folder) {
                    let _ = sieve_foresight::status::status(
                        &mut pool,
                        sieve_foresight::status::Look::Always,
                        &Silent,
                    );
                    let _ = read::list(&pool, VOLUME, &RelPath::ROOT, |_| Ok(()));
                    let _ = restore::list(&pool, VOLUME, &[]);
                }
            }
            Deed::Put => later(&doings, move |doings| {
                let _ = fs::create_dir_all(folder.join("source/extra"));
                let bytes = b"put by another terminal".to_vec();
                fs::write(folder.join("source/extra/put.flac"), &bytes).unwrap();
                if put_in(&folder, real(), "source/extra", "", false).is_ok() {
                    doings.lock().unwrap().wrote.push(bytes);
                }
            }),
            Deed::Remove => later(&doings, move |_| {
                let _ = remove_from(&folder, real(), "nest");
            }),
            Deed::Sync => later(&doings, move |_| {
                let _ = sync(&folder, real());
            }),
            Deed::Fails => return Answer::Fails(ErrorKind::Other),
            Deed::Full => return Answer::Fails(ErrorKind::StorageFull),
            Deed::Interrupted => return Answer::Fails(ErrorKind::Interrupted),
            Deed::Vanishes => return Answer::Vanishes,
            Deed::Short => return Answer::Short,
            Deed::Killed
            | Deed::KilledThenAppend
            | Deed::KilledThenSave
            | Deed::KilledThenSaveLinked
            | Deed::KilledThenDelete
            | Deed::KilledThenMoveFolder
            | Deed::KilledThenStatus => return Answer::Dies,
            Deed::Save | Deed::SaveLinked | Deed::NewFile => {}
        }
        Answer::AsEver
    })
}

fn open_for_status(folder: &Path) -> Result<Pool> {
    open(folder, real())
}

/// Whether neither the work nor the neighbour means to weaken anything.
fn is_measured(work: Work, deed: Deed) -> bool {
    use Deed::{Fails, Full, Interrupted, Killed, KilledThenStatus, NewFile, Put, Short, Status, Vanishes};
    use Work::{Adopt, Create, Dissolve, Mend, Rebuild, Remove, Replace, Restore, Unmirror, Vacate};
    matches!(
        deed,
        Status | Fails | Full | Interrupted | NewFile | Put | Vanishes | Short | Killed | KilledThenStatus
    ) && !matches!(
        work,
        Adopt | Create | Dissolve | Mend | Rebuild | Remove | Replace | Restore | Unmirror | Vacate
    )
}

/// One interleaving.
fn interleave(work: Work, deed: Deed, call: u64) {
    let when = format!("{work:?}, {deed:?} before call {call}");
    let scene = Scene::build(work, 7);
    let guards = if is_measured(work, deed) { scene.guards() } else { BTreeMap::new() };
    let doings = Shared::default();
    let held_open = (deed == Deed::AppendByOpen)
        .then(|| {
            let path = target(scene.folder.path(), work.beside());
            OpenOptions::new().read(true).append(true).open(path).ok()
        })
        .flatten();
    let act = act(deed, scene.folder.path().into(), work.beside(), Arc::clone(&doings), held_open);
    let machine = NeighbourMachine::new(call, act);
    let outcome = scene.run(machine.clone());
    if let Err(error) = &outcome {
        assert!(!error.message.is_empty(), "{when}");
        assert_ne!(error.kind, sieve_disk::Kind::Internal, "{when}: {error}");
    }
    drop(machine);
    if let Some(deed) = deed.after_the_kill() {
        self::act(deed, scene.folder.path().into(), work.beside(), Arc::clone(&doings), None)();
    }
    let waits = std::mem::take(&mut doings.lock().unwrap().waits);
    waits.into_iter().for_each(|wait| wait.join().unwrap());
    let mut doings = doings.lock().unwrap();
    // Who wrote twice, or took what somebody wrote.
    let took = doings.took.clone();
    doings.wrote.retain(|bytes| !took.contains(bytes));
    let mut expected: Vec<Vec<u8>> =
        scene.contents.iter().filter(|bytes| !doings.took.contains(bytes)).cloned().collect();
    expected.extend(doings.wrote.iter().cloned());
    if work.makes_whole() && (!took.is_empty() || deed.takes_the_folder()) {
        // A file of which somebody edited or took a piece is none any more.
        expected.retain(|bytes| bytes.len() != 6_500_000);
    }
    if work == Work::Rebuild {
        expected.retain(|bytes| bytes.len() != 700 || outcome.is_ok());
    }
    if matches!(work, Work::Restore | Work::Mend) {
        expected.retain(|bytes| bytes.len() != 9000);
    }
    if work == Work::Sync {
        // What was edited before, only parity had.
        expected.remove(0);
    }
    if work == Work::SyncMirror {
        expected.remove(0);
    }
    if matches!(work, Work::Dissolve | Work::Sync | Work::SyncMirror | Work::Empty) && deed == Deed::Remove {
        // What is held ends with the volume, or with the sync that finds it removed.
        expected.retain(|bytes| bytes.len() != 20_000);
    }
    // A sync of the neighbour passes what was removed before it.
    if !(deed == Deed::Sync && matches!(work, Work::Remove | Work::Replace)) {
        scene.assert_all_there(&expected, &when);
    }
    scene.assert_closed(&when);
    if is_measured(work, deed) {
        for (path, (level, why)) in scene.guards() {
            let mut before = guards.get(&path).map_or(0, |(level, _)| *level);
            if matches!(work, Work::Empty | Work::Transfer) {
                // What has no rows lives in the replicas: with a disk less there is one less of them, and the other volume has
                // fewer disks. Parity is one.
                before = before.min(1);
                // A disk that vanished between a name and its record leaves a doubt, which the next sync reads away.
                before *= u8::from(!(deed == Deed::Vanishes && why.contains("Doubtful")));
            }
            assert!(level >= before, "{when}: the guard of {path} fell from {before} to {level}: {why}");
        }
    }
    if work == Work::Create || work == Work::Dissolve || deed == Deed::SwapFolder {
        return;
    }
    // And after the next sync: only what was removed through us may have gone.
    let removed = work == Work::Remove || deed == Deed::Remove || work == Work::Replace;
    match sync(scene.folder.path(), real()) {
        Ok(()) => {}
        Err(error) if error.kind == sieve_disk::Kind::Safety => {}
        Err(error) => panic!("{when}: the next sync: {error}"),
    }
    if !removed {
        scene.assert_all_there(&expected, &format!("{when}, after the next sync"));
    }
    scene.assert_closed(&when);
}

fn calls_of(work: Work) -> u64 {
    let scene = Scene::build(work, 7);
    let machine = NeighbourMachine::counting();
    scene.run(machine.clone()).unwrap_or_else(|error| panic!("{work:?}: {error}"));
    machine.calls()
}

#[rstest]
fn whatever_a_neighbour_does_nothing_is_lost(
    #[values(
        Work::Settle,
        Work::SettleForSpace,
        Work::SettleToMirror,
        Work::SettleInPieces,
        Work::Tiers,
        Work::Sync,
        Work::SyncMirror,
        Work::FirstCopies,
        Work::Put,
        Work::Replace,
        Work::Remove,
        Work::Restore,
        Work::Mend,
        Work::Rebuild,
        Work::GrowData,
        Work::GrowParity,
        Work::Vacate,
        Work::MoveParity,
        Work::Dissolve,
        Work::Adopt,
        Work::Create,
        Work::Empty,
        Work::HandOver,
        Work::Unmirror,
        Work::Transfer,
        Work::Shift,
        Work::CopyWhole,
        Work::TakePlace,
        Work::Rename
    )]
    work: Work,
) {
    // One of them again, as it was named when it failed: NEIGHBOUR="Settle Save 117".
    if let Ok(one) = std::env::var("NEIGHBOUR") {
        let parts: Vec<&str> = one.split(' ').collect();
        if parts[0] == format!("{work:?}") {
            let deed = DEEDS.into_iter().find(|deed| format!("{deed:?}") == parts[1]).unwrap();
            interleave(work, deed, parts[2].parse().unwrap());
        }
        return;
    }
    let calls = calls_of(work);
    assert!(calls > 20, "{work:?} makes only {calls} calls");
    let wanted = std::env::var("NEIGHBOURS").unwrap_or_default();
    let mut all: BTreeMap<u64, (Deed, u64)> = BTreeMap::new();
    let mut chance = Chance::new(work as u64 + 1);
    for deed in DEEDS {
        for call in 0..calls {
            all.insert(chance.number(), (deed, call));
        }
    }
    let all: Vec<(Deed, u64)> = all.into_values().collect();
    let end = all.len();
    let part = match wanted.split_once("..") {
        Some((from, to)) => from.parse().unwrap_or(0).min(end)..to.parse().unwrap_or(end).min(end),
        None if wanted == "all" => 0..end,
        None => 0..wanted.parse().unwrap_or(USUAL).min(end),
    };
    for (deed, call) in &all[part.clone()] {
        interleave(work, *deed, *call);
    }
    let count = part.len();
    println!("{work:?}: {calls} calls, {count} interleavings of {end}");
}

/// What once lost a file: so many calls apart that each stretch of the work between two kinds of step is met.
#[rstest]
#[case::a_mirrored_settle_killed_before_its_sources_are_held(Work::SettleToMirror, Deed::Killed)]
#[case::a_new_file_under_the_second_name_after_a_killed_settle(Work::Settle, Deed::KilledThenSaveLinked)]
#[case::status_while_a_mirrored_sync_copies(Work::SyncMirror, Deed::Status)]
#[case::status_while_a_file_settles_in_pieces(Work::SettleInPieces, Deed::Status)]
#[case::a_writer_while_tiers_settle(Work::Tiers, Deed::AppendByOpen)]
#[case::a_writer_while_a_cache_makes_room(Work::SettleForSpace, Deed::AppendByOpen)]
fn what_once_lost_a_file(#[case] work: Work, #[case] deed: Deed) {
    const APART: usize = 29;
    for call in (3..calls_of(work)).step_by(APART) {
        interleave(work, deed, call);
    }
}

/// The other process of the next test: it maps the file, or holds it open, until it is killed.
#[test]
fn another_process_that_writes_to_a_file() {
    let (Ok(path), Ok(how)) = (std::env::var("WRITES_TO"), std::env::var("WRITES_BY")) else { return };
    let file = OpenOptions::new().read(true).write(true).open(path).unwrap();
    let _held = if how == "mapping" { (Some(Mapping::of(&file).unwrap()), None) } else { (None, Some(file)) };
    println!("ready");
    std::thread::sleep(std::time::Duration::from_secs(60));
}

fn another_writer(path: &Path, how: &str) -> Option<std::process::Child> {
    use std::io::{BufRead, BufReader};
    let mut child = std::process::Command::new(std::env::current_exe().unwrap())
        .args(["--exact", "neighbour::another_process_that_writes_to_a_file", "--nocapture"])
        .envs([("WRITES_TO", path.as_os_str()), ("WRITES_BY", how.as_ref())])
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stdout.as_mut().unwrap()).lines();
    if lines.any(|line| line.unwrap().contains("ready")) {
        return Some(child);
    }
    child.wait().unwrap();
    None
}

/// Where there are no leases /proc is looked at when a file has been taken: whoever came to have it open or mapped by then
/// keeps it under its name.
#[rstest]
fn without_leases_who_writes_is_seen_when_the_file_is_taken(
    #[values("descriptor", "mapping")] how: &'static str,
    #[values(Work::Settle, Work::Remove, Work::Replace)] work: Work,
) {
    use std::os::unix::fs::MetadataExt;
    let calls = calls_of(work);
    let mut met = 0;
    for call in (0..calls).step_by(usize::try_from(calls / 25).unwrap()) {
        let scene = Scene::build(work, 7);
        let child = Arc::new(Mutex::new(None));
        let (path, inner) = (target(scene.folder.path(), work.place()), Arc::clone(&child));
        let inode = fs::metadata(&path).unwrap().ino();
        let act: Act = Box::new(move || {
            let is_there = fs::metadata(&path).is_ok_and(|metadata| metadata.ino() == inode);
            *inner.lock().unwrap() = is_there.then(|| another_writer(&path, how)).flatten();
            Answer::AsEver
        });
        let _ = scene.run(NeighbourMachine::without_leases(call, act));
        let Some(mut child) = child.lock().unwrap().take() else { continue };
        met += 1;
        let at = target(scene.folder.path(), work.place());
        assert_eq!(fs::metadata(at).unwrap().ino(), inode, "{work:?} by {how} before call {call}");
        child.kill().unwrap();
        child.wait().unwrap();
    }
    assert!(met > 5, "{met}");
}
