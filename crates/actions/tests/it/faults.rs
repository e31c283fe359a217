//! Guards against disks that fail in the middle of the work: what cannot be read, ends early, is full or vanishes never
//! becomes a wrong file or a wrong parity, and costs no more than what it touches.
//!
//! Holds I3.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use rstest::rstest;
use sieve_actions::disks::membership::{About, handover};
use sieve_actions::disks::{create, rebuild};
use sieve_actions::files::put;
use sieve_actions::guard::sync::SyncReport;
use sieve_actions::guard::verify::{Scope, VerifyReport};
use sieve_actions::guard::{sync, verify};
use sieve_core::fate::Fate;
use sieve_core::forecast::{CurveSource, SpeedCurve};
use sieve_core::path::RelPath;
use sieve_core::pool::parse;
use sieve_core::units::Rate;
use sieve_disk::Result;
use sieve_disk::event::Silent;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_pool::pool::Pool;
use sieve_testkit::{Chance, Drive, FaultyMachine, scratch};
use tempfile::TempDir;

const DATA: [&str; 3] = ["alder", "beech", "cedar"];
const LONG: usize = 3_500_000;

pub(crate) struct Scene {
    pub(crate) folder: TempDir,
    pub(crate) machine: Arc<FaultyMachine>,
    contents: BTreeMap<String, Vec<u8>>,
}

pub(crate) fn rel(path: &str) -> RelPath {
    RelPath::new(path).unwrap()
}

/// A synced pool of three data disks and two parity disks.
pub(crate) fn scene() -> Scene {
    let folder = scratch();
    let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
    for name in DATA.iter().chain(&["oak", "pine"]) {
        fs::create_dir(folder.path().join(name)).unwrap();
        let path = folder.path().join(name).display().to_string();
        text += &format!(
            "[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"80 MB\"\nsimulated = true\n"
        );
    }
    text += "[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\", \"pine\"]\nstop_when_gone = \"99 %\"\n";
    fs::write(folder.path().join("pool.toml"), &text).unwrap();
    let mut scene = Scene { folder, machine: FaultyMachine::new(), contents: BTreeMap::new() };
    let mut chance = Chance::new(11);
    for disk in DATA {
        for number in 0..4 {
            let length = if number == 0 { LONG } else { 40_000 + chance.below(600_000) };
            scene.write(disk, &format!("{disk}-{number}.flac"), chance.bytes(length));
        }
    }
    let machine: Arc<dyn Machine> = scene.machine.clone();
    let spec = parse(&text).spec.unwrap();
    let plan = create::plan(&*machine, &scene.path("pool.toml"), &spec).unwrap();
    create::execute(&machine, &scene.path("pool.toml"), &spec, &plan, &Silent).unwrap();
    assert!(scene.sync().unwrap().is_clean());
    scene
}

impl Scene {
    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn write(&mut self, disk: &str, name: &str, bytes: Vec<u8>) {
        fs::write(self.path(disk).join(name), &bytes).unwrap();
        self.contents.insert(name.into(), bytes);
    }

    fn open_on(&self, machine: Arc<dyn Machine>) -> Result<Pool> {
        let text = fs::read_to_string(self.path("pool.toml")).unwrap();
        sieve_pool::open(machine, &self.path("pool.toml"), parse(&text).spec.unwrap())
    }

    pub(crate) fn open(&self) -> Result<Pool> {
        self.open_on(self.machine.clone())
    }

    fn sync(&self) -> Result<SyncReport> {
        let mut pool = self.open()?;
        sieve_actions::begin_long(&mut pool, "sync")?;
        let options = sync::Options::default();
        let plan = sync::plan(&pool, &options, &Silent)?;
        sync::execute(&mut pool, &plan, &options, &Silent)
    }

    fn verify(&self) -> VerifyReport {
        let mut pool = self.open().unwrap();
        sieve_actions::begin_long(&mut pool, "verify").unwrap();
        verify::verify(&pool, &Scope::Whole, &Silent).unwrap()
    }

    /// All that is on the disks is what it was, and all of it survives the loss of any two.
    fn is_well(&self, when: &str) {
        for disk in DATA.iter().chain(&["oak", "pine"]) {
            self.machine.set(&self.path(disk), |faults| *faults = sieve_testkit::Faults::default());
        }
        let report = self.sync().unwrap_or_else(|e| panic!("{when}: {e}"));
        assert!(report.is_clean(), "{when}: {report:?}");
        let report = self.verify();
        assert!(report.is_clean() && report.not_synced == 0, "{when}: {report:?}");
        for (name, bytes) in &self.contents {
            let at = DATA.iter().map(|disk| self.path(disk).join(name)).find(|path| path.exists());
            assert_eq!(fs::read(at.unwrap()).unwrap(), *bytes, "{when}: {name}");
        }
    }
}

/// A new file that cannot be read costs itself, and the others of its rows nothing.
#[test]
fn a_new_file_with_a_bad_sector_waits_and_the_others_are_guarded() {
    let mut scene = scene();
    let mut chance = Chance::new(12);
    for disk in DATA {
        scene.write(disk, &format!("{disk}-new.flac"), chance.bytes(2_000_000));
    }
    let bad = (rel("beech-new.flac"), 1_200_000..1_200_512);
    scene.machine.set(&scene.path("beech"), |faults| faults.unreadable.push(bad));
    let report = scene.sync().unwrap();
    assert!(report.unreadable.iter().any(|text| text.contains("beech-new.flac")), "{report:?}");
    let model = sieve_pool::fate::load(&scene.open().unwrap(), "recordings").unwrap();
    let pool = scene.open().unwrap();
    let mut unguarded = Vec::new();
    let evaluation = model.evaluate(&[]);
    model
        .for_each_file(&pool, &evaluation, |file| {
            if file.guard < 2 {
                unguarded.push(file.path);
            }
            Ok(())
        })
        .unwrap();
    assert_eq!(unguarded, ["beech-new.flac"]);
    drop(pool);
    scene.is_well("after the bad sector was remapped");
}

/// A file that ends before its length is never taken for a content.
#[rstest]
fn a_read_that_comes_back_short_makes_no_content(#[values(true, false)] is_new: bool) {
    let mut scene = scene();
    let name = if is_new { "cedar-new.flac" } else { "cedar-0.flac" };
    if is_new {
        scene.write("cedar", name, Chance::new(13).bytes(2_500_000));
    } else {
        scene.write("alder", "alder-new.flac", Chance::new(13).bytes(2_500_000));
        fs::remove_file(scene.path("beech").join("beech-0.flac")).unwrap();
        scene.contents.remove("beech-0.flac");
    }
    scene.machine.set(&scene.path("cedar"), |faults| faults.ends_early = Some((rel(name), 1_500_000)));
    let report = scene.sync().unwrap();
    assert!(!report.is_clean() || !is_new, "{report:?}");
    scene.is_well(name);
}

/// Bad sectors of survivors cost only the rows that they touch; two parities make up for them.
#[test]
fn bad_sectors_on_survivors_are_made_up_for_and_named() {
    let mut scene = scene();
    for (disk, offset) in [("alder", 600_000), ("cedar", 2_900_000)] {
        let bad = (rel(&format!("{disk}-0.flac")), offset..offset + 4096);
        scene.machine.set(&scene.path(disk), |faults| faults.unreadable.push(bad));
    }
    fs::rename(scene.path("beech"), scene.path("dead")).unwrap();
    fs::create_dir(scene.path("new")).unwrap();
    let mut pool = scene.open().unwrap();
    let lost = pool.member_named("beech").unwrap().row.id;
    sieve_actions::begin_long_without(&mut pool, "rebuild", &[lost]).unwrap();
    let request = rebuild::Request { name: "beech".into(), onto: scene.path("new") };
    let prepared = rebuild::plan(&pool, &[request]).unwrap();
    let report = rebuild::execute(&mut pool, &prepared, &rebuild::Options::default(), &Silent).unwrap();
    assert_eq!(report.predicted, report.obtained);
    assert_eq!(report.obtained.of(Fate::Rebuilt).files, 4);
    assert!(report.damage.iter().any(|text| text.contains("alder-0.flac")), "{:?}", report.damage);
    assert!(report.damage.iter().any(|text| text.contains("cedar-0.flac")), "{:?}", report.damage);
    for number in 0..4 {
        let name = format!("beech-{number}.flac");
        assert_eq!(fs::read(scene.path("new").join(&name)).unwrap(), scene.contents.remove(&name).unwrap());
    }
}

/// Hands cedar over to a new disk.
fn hand_over(scene: &Scene) -> handover::HandoverReport {
    let _ = fs::create_dir(scene.path("new"));
    let mut pool = scene.open().unwrap();
    sieve_actions::begin_long(&mut pool, "replace").unwrap();
    let request = handover::HandoverRequest {
        name: "cedar".into(),
        onto: scene.path("new"),
        capacity: None,
        about: About::default(),
        wipes: false,
    };
    let prepared = handover::plan(&pool, &request).unwrap();
    handover::execute(&mut pool, prepared, &Silent).unwrap()
}

/// What a failing disk does not give any more comes from parity when another one takes its place, file by file, and is told.
#[test]
fn a_failing_disk_is_replaced_with_what_parity_has_of_it() {
    let scene = scene();
    let bad = (rel("cedar-0.flac"), 1_200_000..1_200_512);
    scene.machine.set(&scene.path("cedar"), |faults| faults.unreadable.push(bad));
    let report = hand_over(&scene);
    assert!(report.is_done(), "{report:?}");
    let brought: Vec<&str> = report.from_parity.iter().map(|(path, _)| path.as_str()).collect();
    assert_eq!(brought, ["cedar-0.flac"], "{report:?}");
    for (name, bytes) in scene.contents.iter().filter(|(name, _)| name.starts_with("cedar")) {
        assert!(fs::read(scene.path("new").join(name)).unwrap() == *bytes, "{name}");
    }
}

/// What neither the disk nor parity gives keeps the disk in its place, and nothing has changed.
#[test]
fn a_failing_disk_keeps_its_place_while_a_file_of_it_cannot_be_had() {
    let mut scene = scene();
    scene.write("cedar", "cedar-new.flac", Chance::new(14).bytes(2_000_000));
    let bad = (rel("cedar-new.flac"), 1_200_000..1_200_512);
    scene.machine.set(&scene.path("cedar"), |faults| faults.unreadable.push(bad));
    let report = hand_over(&scene);
    assert!(!report.is_done() && report.unreadable.len() == 1, "{report:?}");
    assert_eq!(report.unreadable[0].0, "cedar-new.flac");
    assert!(scene.path("cedar").join(".zinc-sieve/label.toml").exists());
    let text = fs::read_to_string(scene.path("pool.toml")).unwrap();
    assert!(text.contains(&scene.path("cedar").display().to_string()), "{text}");
    scene.is_well("after the bad sector was remapped");
}

/// A parity disk that gives other bytes than were written is not believed.
#[test]
fn wrong_bytes_from_a_parity_disk_are_not_computed_with() {
    let mut scene = scene();
    let segment = rel(".zinc-sieve/parity/segment-00000");
    for offset in [100_000, 1_100_000, 2_500_000] {
        let flip = (segment.clone(), offset);
        scene.machine.set(&scene.path("oak"), |faults| faults.flipped.push(flip));
    }
    assert!(!scene.verify().is_clean());
    scene.write("alder", "alder-new.flac", Chance::new(14).bytes(1_000_000));
    scene.sync().unwrap();
    scene.is_well("after the flips");
}

/// The disk vanishes after each number of reads and writes: what was guarded is guarded, and the next run goes on.
#[rstest]
fn a_disk_that_vanishes_in_the_middle_does_no_harm(
    #[values("alder", "oak")] disk: &str,
    #[values("sync", "put")] action: &str,
) {
    for moment in (0..60).step_by(if action == "sync" { 3 } else { 7 }) {
        let mut scene = scene();
        let when = format!("{disk} vanishes after {moment} accesses of {action}");
        for disk in DATA {
            scene.write(disk, &format!("{disk}-new.flac"), Chance::new(moment).bytes(700_000));
        }
        fs::create_dir(scene.path("card")).unwrap();
        fs::write(scene.path("card/owl.flac"), Chance::new(moment + 1).bytes(900_000)).unwrap();
        let mut pool = scene.open().unwrap();
        if action != "sync" {
            sieve_actions::begin_short(&mut pool).unwrap();
        }
        scene.machine.set(&scene.path(disk), |faults| faults.vanishes_after = Some(moment));
        let outcome = if action == "sync" {
            drop(pool);
            scene.sync().map(|_| ())
        } else {
            put::plan(&pool, "recordings", &[scene.path("card")], &rel("owls"), false)
                .and_then(|plan| put::execute(&pool, &plan, &Silent).map(|_| ()))
        };
        if let Err(error) = &outcome {
            assert!(!error.message.is_empty());
        }
        for disk in DATA {
            let owl = scene.path(disk).join("owls/card/owl.flac");
            let at = [owl.clone(), scene.path(disk).join("owls/owl.flac")].into_iter().find(|p| p.exists());
            if let Some(at) = at {
                assert_eq!(fs::read(at).unwrap(), fs::read(scene.path("card/owl.flac")).unwrap(), "{when}");
            }
        }
        scene.is_well(&when);
    }
}

/// A parity disk that is full although its filesystem said that there is room.
#[test]
fn a_disk_that_is_full_before_its_time_stops_the_sync_and_nothing_is_lost() {
    for room in [0, 10_000, 1_500_000, 3_000_000] {
        let mut scene = scene();
        for disk in DATA {
            scene.write(disk, &format!("{disk}-new.flac"), Chance::new(room).bytes(2_000_000));
        }
        scene.machine.set(&scene.path("pine"), |faults| faults.room = Some(room));
        let error = scene.sync().unwrap_err();
        assert!(error.message.contains("pine"), "{error}");
        scene.is_well(&format!("pine had room for {room} bytes"));
    }
}

/// What a slow disk took corrects the next forecast.
#[test]
fn the_next_forecast_knows_how_slow_a_disk_was() {
    let mut scene = scene();
    let slow = |scene: &Scene, disk: &str, rate: f64| {
        let curve = SpeedCurve::flat(Rate::from_per_second(rate), CurveSource::Given).unwrap();
        scene.machine.set(&scene.path(disk), |faults| {
            faults.drive = Some(Drive::new(curve, 80_000_000));
            faults.is_slow = true;
        });
    };
    let forecast = |scene: &Scene| {
        let pool = scene.open_on(Arc::new(RealMachine { clock: Clock::Real })).unwrap();
        let amounts = sieve_core::amounts::Amounts::from_iter([(
            "alder".to_string(),
            sieve_core::units::ByteLength::new(60_000_000),
        )]);
        sieve_pool::curves::forecast_pass(&pool, &amounts).unwrap().likely.seconds()
    };
    let before = forecast(&scene);
    scene.write("alder", "alder-long.flac", Chance::new(15).bytes(50_000_000));
    for disk in DATA.iter().chain(&["oak", "pine"]) {
        slow(&scene, disk, 20e6);
    }
    let report = scene.sync().unwrap();
    assert!(report.seconds > 2.0);
    let after = forecast(&scene);
    // At most 20 MB/s, however busy this machine is, are far from the 180 MB/s that are assumed; but one pass changes
    // what is thought by a quarter at most.
    assert!((1.15..1.26).contains(&(after / before)), "{before} s, then {after} s");
    scene.is_well("slow");
}

/// A filesystem without hard links has no inodes that stay either: it is refused, and nothing of ours is left on any disk.
#[test]
fn a_disk_without_hard_links_does_not_become_a_member() {
    let folder = scratch();
    let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
    for name in ["alder", "beech", "oak"] {
        fs::create_dir(folder.path().join(name)).unwrap();
        let path = folder.path().join(name).display().to_string();
        text += &format!(
            "[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"40 MB\"\nsimulated = true\n"
        );
    }
    text += "[[volume]]\nname = \"recordings\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n";
    let file = folder.path().join("pool.toml");
    fs::write(&file, &text).unwrap();
    let faulty = FaultyMachine::new();
    faulty.set(&folder.path().join("beech"), |faults| faults.has_no_links = true);
    let machine: Arc<dyn Machine> = faulty;
    let spec = parse(&text).spec.unwrap();
    let plan = create::plan(&*machine, &file, &spec).unwrap();
    let error = create::execute(&machine, &file, &spec, &plan, &Silent).err().unwrap();
    assert_eq!(error.code, "disk.no-links", "{error}");
    for name in ["alder", "beech", "oak"] {
        assert!(!folder.path().join(name).join(".zinc-sieve").exists(), "{name}");
    }
}

/// What cannot be read is found with its place, and what can be is counted; the disk that answers no more at all is an error.
#[test]
fn samples_of_a_suspicious_disk_tell_what_cannot_be_read() {
    use sieve_actions::measure::probe::of_files;
    let scene = scene();
    let root = scene.folder.path().join("beech");
    let whole = of_files(&*scene.machine.open_disk(&root).unwrap(), &Silent).unwrap();
    assert!(whole.taken > 0 && whole.unreadable.is_empty() && !whole.of_device, "{whole:?}");
    let path = rel("beech-1.flac");
    scene.machine.set(&root, |faults| faults.unreadable.push((path.clone(), 0..u64::MAX)));
    let found = of_files(&*scene.machine.open_disk(&root).unwrap(), &Silent).unwrap();
    assert_eq!((found.taken, found.unreadable.len()), (whole.taken, 1), "{found:?}");
    assert_eq!(found.unreadable[0].at, path.to_string());
    assert_eq!(found.samples().unreadable, 1);
}
