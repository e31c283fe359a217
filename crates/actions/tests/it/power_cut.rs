//! Guards against a moment at which a power cut costs a file: the power fails before every durable step of
//! put, rm, sync, mend, restore, rebuild and every change of disks, everything that was not durable is undone, and a disk is lost on top.
//!
//! Holds I1, I2.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rstest::rstest;
use sieve_actions::disks::membership::{About, dissolve, empty, grow, handover, replace, vacate};
use sieve_actions::disks::{create, rebuild};
use sieve_actions::files::{put, remove, restore};
use sieve_actions::guard::verify::Scope;
use sieve_actions::guard::{sync, verify};
use sieve_catalogue::label::Role;
use sieve_core::path::RelPath;
use sieve_core::pool::parse;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_disk::event::Silent;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_pool::fate::load;
use sieve_pool::member::State;
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_testkit::{Chance, CrashMachine, CrashPlan, scratch};
use tempfile::TempDir;

const VOLUME: &str = "recordings";

pub(crate) struct Scene {
    folder: TempDir,
    /// The content of each file that the last sync guards.
    guarded: BTreeMap<String, Vec<u8>>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Action {
    Put,
    Replace,
    Remove,
    Sync,
    Rebuild,
    Mend,
    MendInPlace,
    Restore,
    GrowData,
    GrowParity,
    Vacate,
    Empty,
    Handover,
    MoveParity,
    SplitParity,
    /// One more volume comes to the pool.
    AddVolume,
}

impl Action {
    /// What is guarded is not all on the disks before it has been done.
    fn brings_back(self) -> bool {
        matches!(self, Self::Rebuild | Self::Mend | Self::MendInPlace | Self::Restore)
    }

    fn changes_disks(self) -> bool {
        use Action::{AddVolume, Empty, GrowData, GrowParity, Handover, MoveParity, SplitParity, Vacate};
        matches!(
            self,
            AddVolume | GrowData | GrowParity | Vacate | Empty | Handover | MoveParity | SplitParity
        )
    }
}

pub(crate) fn real() -> Arc<dyn Machine> {
    Arc::new(RealMachine { clock: Clock::Real })
}

impl Scene {
    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn pool_file(&self) -> PathBuf {
        self.path("pool.toml")
    }

    pub(crate) fn open(&self, machine: Arc<dyn Machine>) -> Result<Pool> {
        let text = fs::read_to_string(self.pool_file()).unwrap();
        sieve_pool::open(machine, &self.pool_file(), parse(&text).spec.unwrap())
    }

    /// A pool with some files, synced, and then changed in several ways.
    pub(crate) fn build() -> Self {
        let folder = scratch();
        let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
        for name in ["alder", "beech", "cedar", "oak", "spruce", "elm"] {
            fs::create_dir(folder.path().join(name)).unwrap();
            let path = folder.path().join(name).display().to_string();
            text += &format!(
                "[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"40 MB\"\nsimulated = true\n"
            );
        }
        text += "[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]\nstop_when_gone = \"99 %\"\n";
        fs::write(folder.path().join("pool.toml"), &text).unwrap();
        for name in ["attic", "new", "source"] {
            fs::create_dir(folder.path().join(name)).unwrap();
        }
        let mut scene = Self { folder, guarded: BTreeMap::new() };
        let machine = real();
        let spec = parse(&text).spec.unwrap();
        let plan = create::plan(&*machine, &scene.pool_file(), &spec).unwrap();
        create::execute(&machine, &scene.pool_file(), &spec, &plan, &Silent).unwrap();
        let mut chance = Chance::new(7);
        for (disk, name, size) in [
            ("alder", "dawn/wren.flac", 1_100_000),
            ("alder", "dawn/robin.flac", 5_000),
            ("alder", "finch.flac", 250_000),
            ("beech", "nest/box-1.mkv", 900_000),
            ("beech", "nest/box-2.mkv", 4_096),
            ("cedar", "notes/may.txt", 100),
            ("cedar", "notes/june.txt", 300_000),
        ] {
            scene.write(disk, name, &chance.bytes(size));
        }
        scene.run(real(), Action::Sync).unwrap();
        // What is held guards its neighbours: giving it up too early would show.
        let mut pool = scene.open(real()).unwrap();
        sieve_actions::begin_short(&mut pool).unwrap();
        let plan = remove::plan(&pool, VOLUME, &[RelPath::new("finch.flac").unwrap()], false).unwrap();
        remove::execute(&pool, plan).unwrap();
        drop(pool);
        scene.write("cedar", "notes/new.txt", &chance.bytes(50_000));
        let edited = scene.path("beech/nest/box-2.mkv");
        fs::write(edited, b"another length").unwrap();
        fs::create_dir(scene.path("source/card")).unwrap();
        fs::write(scene.path("source/card/owl.flac"), chance.bytes(200_000)).unwrap();
        fs::write(scene.path("source/robin.flac"), chance.bytes(7_000)).unwrap();
        scene.remember_guarded();
        scene
    }

    fn write(&self, disk: &str, name: &str, bytes: &[u8]) {
        let path = self.path(disk).join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    fn remember_guarded(&mut self) {
        let pool = self.open(real()).unwrap();
        for member in pool.members_of(VOLUME, Role::Data) {
            scan::scan(&pool, member).unwrap();
        }
        let model = load(&pool, VOLUME).unwrap();
        let evaluation = model.evaluate(&[]);
        let mut guarded = BTreeMap::new();
        model
            .for_each_file(&pool, &evaluation, |file| {
                if file.guard > 0 {
                    let path = self.path(file.disks[0]).join(&file.path);
                    guarded.insert(file.path, fs::read(path).unwrap());
                }
                Ok(())
            })
            .unwrap();
        self.guarded = guarded;
        assert!(self.guarded.len() >= 3, "the scene guards something: {:?}", self.guarded.keys());
    }

    pub(crate) fn run(&self, machine: Arc<dyn Machine>, action: Action) -> Result<()> {
        let mut pool = self.open(machine)?;
        match action {
            Action::Put | Action::Replace | Action::Remove | Action::Restore => {
                sieve_actions::begin_short(&mut pool)?;
            }
            Action::Rebuild => {
                let lost = pool.member_named("cedar")?.row.id;
                sieve_actions::begin_long_without(&mut pool, "rebuild", &[lost])?;
            }
            _ => sieve_actions::begin_long(&mut pool, "test")?,
        }
        let path = |text: &str| RelPath::new(text).unwrap();
        match action {
            Action::Put => {
                let plan = put::plan(&pool, VOLUME, &[self.path("source/card")], &path("owls"), false)?;
                put::execute(&pool, &plan, &Silent).map(|_| ())
            }
            Action::Replace => {
                let plan = put::plan(&pool, VOLUME, &[self.path("source/robin.flac")], &path("dawn"), true)?;
                put::execute(&pool, &plan, &Silent).map(|_| ())
            }
            Action::Remove => {
                let plan = remove::plan(&pool, VOLUME, &[path("dawn"), path("notes/june.txt")], true)?;
                remove::execute(&pool, plan).map(|_| ())
            }
            Action::Sync => {
                let options = sync::Options::default();
                let plan = sync::plan(&pool, &options, &Silent)?;
                sync::execute(&mut pool, &plan, &options, &Silent).map(|_| ())
            }
            Action::Rebuild => {
                let request = rebuild::Request { name: "cedar".into(), onto: self.path("new") };
                let prepared = rebuild::plan(&pool, &[request])?;
                rebuild::execute(&mut pool, &prepared, &rebuild::Options::default(), &Silent).map(|_| ())
            }
            Action::Mend | Action::MendInPlace => {
                verify::verify(&pool, &Scope::Whole, &Silent)?;
                verify::mend(&pool, &Silent).map(|_| ())
            }
            Action::Restore => {
                scan::scan_all(&pool, |_| true, &Silent)?;
                let found = restore::list(&pool, VOLUME, &[path("dawn")])?;
                restore::execute(&pool, VOLUME, &found, restore::Target::Place, &Silent).map(|_| ())
            }
            Action::GrowData => self.grow(&mut pool, "elm", Role::Data),
            Action::AddVolume => {
                let plan = create::volume::plan(&pool)?;
                create::volume::execute(&mut pool, &plan, &Silent)
            }
            Action::GrowParity => self.grow(&mut pool, "spruce", Role::Parity),
            Action::Vacate => {
                let plan = vacate::plan(&pool, &["oak".to_string()])?;
                vacate::execute(&mut pool, &plan).map(|_| ())
            }
            Action::Empty => {
                let plan = empty::plan(&pool, &["cedar".to_string()], &Silent)?;
                let report = empty::execute(&mut pool, &plan, &Silent)?;
                assert!(matches!(report.departure, empty::Departure::Left(_)), "{:?}", report.departure);
                Ok(())
            }
            Action::Handover => {
                let request = handover::HandoverRequest {
                    name: "cedar".into(),
                    onto: self.path("new"),
                    capacity: None,
                    about: About::default(),
                    wipes: true,
                };
                let prepared = handover::plan(&pool, &request)?;
                let report = handover::execute(&mut pool, prepared, &Silent)?;
                assert!(report.is_done(), "{report:?}");
                Ok(())
            }
            Action::MoveParity | Action::SplitParity => {
                let is_split = action == Action::SplitParity;
                let request = replace::ReplaceRequest {
                    name: "oak".into(),
                    onto: self.path("new"),
                    capacity: is_split.then_some(ByteLength::new(5_000_000)),
                    rest: is_split.then(|| "elm".into()),
                    about: About::default(),
                };
                let prepared = replace::plan(&pool, &request)?;
                replace::execute(&mut pool, prepared, &Silent).map(|_| ())
            }
        }
    }

    fn grow(&self, pool: &mut Pool, name: &str, role: Role) -> Result<()> {
        let request = grow::GrowRequest { name: name.into(), volume: None, role, at: Some(self.path(name)) };
        let prepared = grow::plan(pool, &request)?;
        grow::execute(pool, prepared, &Silent).map(|_| ())
    }

    /// What an action finds before it: a lost disk, damage, a file that somebody deleted.
    fn prepare(&mut self, action: Action) {
        let damaged = self.path("beech/nest/box-1.mkv");
        match action {
            Action::Rebuild => fs::rename(self.path("cedar"), self.path("cedar-dead")).unwrap(),
            Action::Mend => self.rot(&damaged),
            Action::MendInPlace => {
                fs::hard_link(&damaged, self.path("beech/other-name.mkv")).unwrap();
                self.run(real(), Action::Sync).unwrap();
                self.remember_guarded();
                self.rot(&damaged);
            }
            Action::Restore => fs::remove_file(self.path("alder/dawn/robin.flac")).unwrap(),
            Action::Vacate => self.run(real(), Action::GrowParity).unwrap(),
            Action::GrowData => self.write("elm", "nest/box-9.mkv", b"it was there before"),
            Action::AddVolume => {
                self.write("elm", "nest/box-9.mkv", b"it was there before");
                let text = fs::read_to_string(self.pool_file()).unwrap();
                let more = "[[volume]]\nname = \"archive\"\ndata = [\"elm\"]\nparity = [\"spruce\"]\n";
                fs::write(self.pool_file(), text + more).unwrap();
            }
            _ => {}
        }
    }

    /// Flips a bit so that nothing shows it.
    fn rot(&self, path: &Path) {
        use std::os::unix::fs::{FileExt, MetadataExt};
        let file = fs::OpenOptions::new().read(true).write(true).open(path).unwrap();
        let before = file.metadata().unwrap();
        let mut byte = [0];
        file.read_exact_at(&mut byte, 70_000).unwrap();
        file.write_all_at(&[byte[0] ^ 1], 70_000).unwrap();
        file.set_modified(before.modified().unwrap()).unwrap();
        let nanoseconds = |file: &fs::Metadata| file.ctime() * 1_000_000_000 + file.ctime_nsec();
        let (was, is) = (nanoseconds(&before), nanoseconds(&file.metadata().unwrap()));
        let database = rusqlite::Connection::open(self.path(".zinc-sieve/catalogue.sqlite")).unwrap();
        let sql = "UPDATE object SET ctime = ?1 WHERE ctime = ?2 AND size = ?3";
        let changed = database.execute(sql, (is, was, before.len() as i64)).unwrap();
        assert_eq!(changed, 1);
    }

    /// Runs the action again until it says that there is nothing in its way any more.
    fn finish(&self, action: Action) {
        for _ in 0..3 {
            match self.run(real(), action) {
                Ok(()) => return,
                // Done already, or an earlier start finished a part: both are fine.
                Err(error) => assert!(
                    [
                        "put.exists",
                        "file.not-found",
                        "rebuild.present",
                        "pool-file.changed",
                        "pool.exists",
                        "grow.member",
                        "disk.unknown",
                        "disk.member"
                    ]
                    .contains(&error.code),
                    "{action:?}: {error}"
                ),
            }
        }
    }

    /// All contents on the disks, held ones included.
    fn contents(&self) -> Vec<Vec<u8>> {
        let mut found = Vec::new();
        for disk in ["alder", "beech", "cedar", "new"] {
            collect(&self.path(disk), &mut found);
        }
        found
    }

    /// Every content that was guarded is there.
    pub(crate) fn assert_nothing_lost(&self, when: &str) {
        let contents = self.contents();
        for (path, bytes) in &self.guarded {
            assert!(contents.contains(bytes), "{when}: {path} is gone");
        }
    }
}

fn collect(folder: &Path, found: &mut Vec<Vec<u8>>) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap();
        if path.is_dir() && name != "tmp" && name != "parity" {
            collect(&path, found);
        } else if path.is_file() {
            found.push(fs::read(path).unwrap());
        }
    }
}

pub(crate) fn verify_is_clean(scene: &Scene, when: &str) {
    let mut pool = scene.open(real()).unwrap_or_else(|e| panic!("{when}: {e}"));
    sieve_actions::begin_long(&mut pool, "verify").unwrap_or_else(|e| panic!("{when}: {e}"));
    let report = verify::verify(&pool, &Scope::Whole, &Silent).unwrap();
    assert!(report.is_clean(), "{when}: {report:?}");
}

/// Loses a disk after the crash, brings it back, and looks for everything that was guarded.
pub(crate) fn lose_and_rebuild(scene: &Scene, disk: &str, when: &str) {
    let gone = scene.path(&format!("{disk}-gone"));
    fs::rename(scene.path(disk), &gone).unwrap();
    let fresh = scene.path(&format!("fresh-{disk}"));
    fs::create_dir(&fresh).unwrap();
    let mut pool = scene.open(real()).unwrap();
    let lost = pool.member_named(disk).unwrap().row.id;
    sieve_actions::begin_long_without(&mut pool, "rebuild", &[lost]).unwrap();
    let request = rebuild::Request { name: disk.into(), onto: fresh.clone() };
    let prepared = rebuild::plan(&pool, &[request]).unwrap_or_else(|e| panic!("{when}: {e}"));
    let report = rebuild::execute(&mut pool, &prepared, &rebuild::Options::default(), &Silent).unwrap();
    assert_eq!(report.predicted, report.obtained, "{when}");
    let mut contents = scene.contents();
    collect(&fresh, &mut contents);
    for (path, bytes) in &scene.guarded {
        assert!(
            contents.contains(bytes),
            "{when}: {path} did not survive the loss of {disk} after the crash"
        );
    }
}

fn assert_members_are_those_of_the_pool_file(scene: &Scene, action: Action, when: &str) {
    let pool = scene.open(real()).unwrap();
    let members: Vec<&str> = pool.members.iter().map(|m| m.row.name.as_str()).collect();
    let written: Vec<&str> = pool.spec.volumes.iter().rev().flat_map(|volume| volume.members()).collect();
    assert_eq!(members, written, "{when}");
    assert!(pool.members.iter().all(|m| m.state == State::Present), "{when}");
    let expected: &[&str] = match action {
        Action::GrowData => &["alder", "beech", "cedar", "elm", "oak"],
        Action::GrowParity => &["alder", "beech", "cedar", "oak", "spruce"],
        Action::Vacate => &["alder", "beech", "cedar", "spruce"],
        Action::Empty => &["alder", "beech", "oak"],
        Action::AddVolume => &["elm", "spruce", "alder", "beech", "cedar", "oak"],
        Action::SplitParity => &["alder", "beech", "cedar", "oak", "elm"],
        _ => &["alder", "beech", "cedar", "oak"],
    };
    assert_eq!(members, expected, "{when}");
    if action == Action::Empty {
        assert!(!scene.path("cedar/.zinc-sieve").exists(), "{when}: traces of the pool stay");
    }
    if action == Action::Vacate {
        assert!(!scene.path("oak/.zinc-sieve").exists(), "{when}: traces of the pool stay");
    }
}

fn crash_everywhere(action: Action) {
    let prepared = || {
        let mut scene = Scene::build();
        scene.prepare(action);
        scene
    };
    let scene = prepared();
    let counter = CrashMachine::new(CrashPlan::Never, &scene.path("attic"));
    scene.run(counter.clone(), action).unwrap();
    let steps = counter.steps();
    assert!(steps >= 5, "{action:?} has only {steps} durable steps");
    for step in 0..steps {
        let when = format!("{action:?}, power cut before durable step {step} of {steps}");
        let scene = prepared();
        let machine = CrashMachine::new(CrashPlan::Before(step), &scene.path("attic"));
        assert!(scene.run(machine.clone(), action).is_err(), "{when}: the power did not fail");
        assert!(machine.is_off());
        machine.lose_what_was_not_durable();
        if action.changes_disks() {
            scene.assert_nothing_lost(&when);
            scene.finish(action);
            scene.run(real(), Action::Sync).unwrap_or_else(|e| panic!("{when}: {e}"));
            verify_is_clean(&scene, &when);
            assert_members_are_those_of_the_pool_file(&scene, action, &when);
            lose_and_rebuild(&scene, ["alder", "beech"][step as usize % 2], &when);
            continue;
        }
        if action.brings_back() {
            scene.finish(action);
            if action != Action::Mend {
                scene.assert_nothing_lost(&when);
                verify_is_clean(&scene, &when);
            }
            // Undoing a rename here moves the change time of the damaged file, so that it is left alone; parity has it.
            if action != Action::Rebuild {
                lose_and_rebuild(&scene, ["alder", "beech"][step as usize % 2], &when);
            }
            continue;
        }
        scene.assert_nothing_lost(&when);
        verify_is_clean(&scene, &when);
        if step % 2 == 0 {
            scene.finish(action);
            scene.assert_nothing_lost(&when);
        }
        lose_and_rebuild(&scene, ["alder", "beech", "cedar", "oak"][(step as usize / 2) % 4], &when);
        scene.run(real(), Action::Sync).unwrap_or_else(|e| panic!("{when}: {e}"));
        verify_is_clean(&scene, &when);
    }
}

#[rstest]
fn nothing_guarded_is_lost(
    #[values(
        Action::Put,
        Action::Replace,
        Action::Remove,
        Action::Sync,
        Action::Rebuild,
        Action::Mend,
        Action::MendInPlace,
        Action::Restore,
        Action::GrowData,
        Action::GrowParity,
        Action::Vacate,
        Action::Empty,
        Action::Handover,
        Action::MoveParity,
        Action::SplitParity,
        Action::AddVolume
    )]
    action: Action,
) {
    crash_everywhere(action);
}

#[test]
fn a_second_power_cut_during_recovery_does_no_harm() {
    for first in 0..12 {
        for second in 0..4 {
            let scene = Scene::build();
            let machine = CrashMachine::new(CrashPlan::Before(first), &scene.path("attic"));
            let _ = scene.run(machine.clone(), Action::Remove);
            machine.lose_what_was_not_durable();
            let again = CrashMachine::new(CrashPlan::Before(second), &scene.path("attic"));
            let _ = scene.run(again.clone(), Action::Remove);
            again.lose_what_was_not_durable();
            let when = format!("power cuts before steps {first} and {second}");
            scene.assert_nothing_lost(&when);
            verify_is_clean(&scene, &when);
            lose_and_rebuild(&scene, "alder", &when);
        }
    }
}

/// What is left of a volume that ends is its files, whenever the power fails, and in the end nothing else.
#[test]
fn a_dissolve_that_is_cut_off_leaves_all_files_and_is_finished_by_the_next_starts() {
    let dissolve = |scene: &Scene, machine: Arc<dyn Machine>| -> Result<()> {
        let mut pool = scene.open(machine)?;
        sieve_actions::begin_long(&mut pool, "dissolve")?;
        let plan = dissolve::plan(&pool, VOLUME)?;
        dissolve::execute(&mut pool, &plan, &Silent).map(|_| ())
    };
    let scene = Scene::build();
    let counter = CrashMachine::new(CrashPlan::Never, &scene.path("attic"));
    dissolve(&scene, counter.clone()).unwrap();
    let steps = counter.steps();
    assert!(steps >= 5, "only {steps} durable steps");
    let of = |scene: &Scene| -> Vec<Vec<u8>> {
        let names =
            ["alder/dawn/wren.flac", "beech/nest/box-1.mkv", "cedar/notes/june.txt", "cedar/notes/new.txt"];
        names.iter().map(|name| fs::read(scene.path(name)).unwrap()).collect()
    };
    for step in 0..steps {
        let scene = Scene::build();
        let before = of(&scene);
        let machine = CrashMachine::new(CrashPlan::Before(step), &scene.path("attic"));
        assert!(dissolve(&scene, machine.clone()).is_err() || step + 1 == steps);
        machine.lose_what_was_not_durable();
        let ends: Vec<_> = (0..8)
            .map(|_| dissolve(&scene, real()).map_or_else(|error| error.code, |()| "done"))
            .take_while(|code| *code != "pool.not-created")
            .collect();
        assert!(
            ends.iter().all(|code| ["done", "pool-file.changed"].contains(code)) && ends.len() < 8,
            "step {step}: {ends:?}"
        );
        assert_eq!(of(&scene), before, "step {step}");
        for disk in ["alder", "beech", "cedar", "oak"] {
            assert!(!scene.path(disk).join(".zinc-sieve").exists(), "step {step}: {disk}");
        }
    }
}
