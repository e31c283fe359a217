//! Guards against a power cut that costs a file of a span, a mirror or tiers, or one on its way from a cache: the power
//! fails before every durable step, and everything that was not durable is undone. Each file is whole, in one version.
//!
//! Holds I1, I2.
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
use sieve_actions::disks::{convert, create};
use sieve_actions::files::{put, read, settle, shift, transfer};
use sieve_actions::guard::verify::Scope;
use sieve_actions::guard::{sync, verify};
use sieve_core::path::RelPath;
use sieve_core::pool::{VolumeKind, parse};
use sieve_disk::Result;
use sieve_disk::event::Silent;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_testkit::{Chance, CrashMachine, CrashPlan, scratch};
use tempfile::TempDir;

const VOLUME: &str = "recordings";

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Action {
    Settle,
    SettleToMirror,
    SettleInPieces,
    Tiers,
    PutInPieces,
    Mirror,
    /// A mirrored volume becomes unstriped.
    Unmirror,
    /// A disk of a volume that nothing guards gives its place to another one.
    HandOver,
    /// Everything goes to another volume.
    Transfer,
    /// The same out of a spanned one, with a file in pieces.
    TransferInPieces,
    /// A file in pieces goes to another disk of its volume, piece by piece.
    ShiftPieces,
    /// A file in pieces is copied whole, on the way of its volume to another kind.
    CopyWhole,
    /// The copy takes the place of the pieces.
    TakePlace,
    /// A volume becomes one of another kind.
    Convert(VolumeKind, VolumeKind),
}

/// What is moved to another volume goes there.
const OTHER: &str = "archive";

impl Action {
    fn volume(self) -> &'static str {
        match self {
            Self::Settle => "data = [\"alder\", \"beech\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\n",
            Self::SettleToMirror => {
                "kind = \"mirrored\"\ndata = [\"alder\", \"beech\"]\ncache = [\"flint\", \"jasper\"]\ncache_copies = 2\n"
            }
            Self::SettleInPieces => {
                "kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\n"
            }
            Self::Tiers => {
                "kind = \"tiered\"\ndata = [\"alder\", \"beech\"]\nfast = [\"alder\"]\nparity = [\"oak\"]\n"
            }
            Self::HandOver => "data = [\"alder\", \"beech\"]\n",
            Self::Transfer => "data = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n",
            Self::PutInPieces | Self::TransferInPieces => {
                "kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n"
            }
            Self::ShiftPieces | Self::CopyWhole | Self::TakePlace => {
                "kind = \"spanned\"\ndata = [\"alder\", \"beech\", \"jasper\"]\nparity = [\"oak\"]\n"
            }
            Self::Convert(VolumeKind::Spanned, _) => {
                "kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n"
            }
            Self::Convert(VolumeKind::Tiered, _) => {
                "kind = \"tiered\"\ndata = [\"alder\", \"beech\"]\nfast = [\"alder\"]\nparity = [\"oak\"]\n"
            }
            Self::Convert(..) => "data = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n",
            Self::Mirror | Self::Unmirror => {
                "kind = \"mirrored\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n"
            }
        }
    }

    /// It brings a file that was not there: afterwards it is whole, or still not there.
    fn brings(self) -> Option<&'static str> {
        (self == Self::PutInPieces).then_some("nest/night.mkv")
    }

    fn goes_elsewhere(self) -> bool {
        matches!(self, Self::Transfer | Self::TransferInPieces)
    }

    /// The volumes that its files may be in.
    fn volumes(self) -> &'static [&'static str] {
        if self.goes_elsewhere() { &[VOLUME, OTHER] } else { &[VOLUME] }
    }
}

struct Scene {
    folder: TempDir,
    action: Action,
    expected: BTreeMap<String, Vec<u8>>,
}

fn real() -> Arc<dyn Machine> {
    Arc::new(RealMachine { clock: Clock::Real })
}

impl Scene {
    fn build(action: Action) -> Self {
        let folder = scratch();
        let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
        for (name, megabytes) in [("alder", 5), ("beech", 5), ("oak", 20), ("flint", 20), ("jasper", 20)] {
            fs::create_dir(folder.path().join(name)).unwrap();
            let path = folder.path().join(name).display().to_string();
            text += &format!(
                "[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"{megabytes} MB\"\nsimulated = true\n"
            );
        }
        text += &format!(
            "[[volume]]\nname = \"recordings\"\n{}settle_after = \"0.000001 minutes\"\n",
            action.volume()
        );
        if action.goes_elsewhere() {
            text += "[[volume]]\nname = \"archive\"\ndata = [\"jasper\"]\nparity = [\"flint\"]\n";
        }
        for name in ["attic", "out", "card", "nest", "larger"] {
            fs::create_dir(folder.path().join(name)).unwrap();
        }
        let mut scene = Self { folder, action, expected: BTreeMap::new() };
        fs::write(scene.path("pool.toml"), &text).unwrap();
        let spec = parse(&text).spec.unwrap();
        let plan = create::plan(&*real(), &scene.path("pool.toml"), &spec).unwrap();
        create::execute(&real(), &scene.path("pool.toml"), &spec, &plan, &Silent).unwrap();
        scene.fill();
        scene
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn open(&self, machine: Arc<dyn Machine>) -> Result<Pool> {
        let text = fs::read_to_string(self.path("pool.toml")).unwrap();
        sieve_pool::open(machine, &self.path("pool.toml"), parse(&text).spec.unwrap())
    }

    /// Files that are there before, and what makes the action have something to do.
    fn fill(&mut self) {
        let mut chance = Chance::new(11);
        let mut files = vec![("card/wren.flac", 700_000), ("card/robin.flac", 3_000), ("card/empty.txt", 0)];
        if matches!(
            self.action,
            Action::SettleInPieces
                | Action::PutInPieces
                | Action::TransferInPieces
                | Action::ShiftPieces
                | Action::CopyWhole
                | Action::TakePlace
        ) {
            files.push(("nest/night.mkv", 6_500_000));
        }
        for (path, size) in files {
            let bytes = chance.bytes(size);
            fs::write(self.path(path), &bytes).unwrap();
            self.expected.insert(path.into(), bytes);
        }
        fs::hard_link(self.path("card/robin.flac"), self.path("card/robin-again.flac")).unwrap();
        let robin = self.expected["card/robin.flac"].clone();
        self.expected.insert("card/robin-again.flac".into(), robin);
        match self.action {
            Action::Mirror => {
                self.put(real(), "card").unwrap();
                self.sync(real()).unwrap();
                // Behind our back on one disk only: a new file, and one that is edited.
                let (new, edited) = (chance.bytes(400_000), chance.bytes(500_000));
                fs::write(self.path("alder/card/late.flac"), &new).unwrap();
                fs::write(self.path("alder/card/wren.flac"), &edited).unwrap();
                self.expected.insert("card/late.flac".into(), new);
                self.expected.insert("card/wren.flac".into(), edited);
            }
            Action::PutInPieces => {
                self.put(real(), "card").unwrap();
                self.expected.remove("nest/night.mkv");
            }
            Action::SettleInPieces => {
                self.put(real(), "nest").unwrap();
                self.put(real(), "card").unwrap();
            }
            Action::Tiers => {
                self.put(real(), "card").unwrap();
                self.sync(real()).unwrap();
                let text = fs::read_to_string(self.path("pool.toml")).unwrap();
                let pinned = format!("{text}[[volume.folder]]\npath = \"card\"\npin = \"slow\"\n");
                fs::write(self.path("pool.toml"), pinned).unwrap();
            }
            Action::Settle | Action::SettleToMirror => {
                self.put(real(), "card").unwrap();
            }
            Action::Unmirror | Action::HandOver | Action::Transfer | Action::Convert(..) => {
                self.put(real(), "card").unwrap();
                self.sync(real()).unwrap();
            }
            Action::TransferInPieces | Action::ShiftPieces | Action::CopyWhole | Action::TakePlace => {
                self.put(real(), "card").unwrap();
                self.put(real(), "nest").unwrap();
                self.sync(real()).unwrap();
                if self.action == Action::TakePlace {
                    assert!(self.convert(real(), VolumeKind::Unstriped).unwrap().waits());
                    self.sync(real()).unwrap();
                }
            }
        }
    }

    fn put(&self, machine: Arc<dyn Machine>, folder: &str) -> Result<()> {
        let mut pool = self.open(machine)?;
        sieve_actions::begin_short(&mut pool)?;
        let plan = put::plan(&pool, VOLUME, &[self.path(folder)], &RelPath::ROOT, false)?;
        put::execute(&pool, &plan, &Silent).map(|_| ())
    }

    fn sync(&self, machine: Arc<dyn Machine>) -> Result<()> {
        let mut pool = self.open(machine)?;
        sieve_actions::begin_long(&mut pool, "sync")?;
        let plan = sync::plan(&pool, &sync::Options::default(), &Silent)?;
        sync::execute(&mut pool, &plan, &sync::Options::default(), &Silent).map(|_| ())
    }

    fn run(&self, machine: Arc<dyn Machine>) -> Result<()> {
        match self.action {
            Action::Mirror => self.sync(machine),
            Action::PutInPieces => self.put(machine, "nest"),
            Action::Unmirror | Action::TakePlace => self.become_another(machine, VolumeKind::Unstriped),
            Action::Convert(_, to) => self.become_another(machine, to),
            Action::CopyWhole => {
                let report = self.convert(machine, VolumeKind::Unstriped)?;
                assert!(report.waits() && report.left_alone.is_empty(), "{report:?}");
                Ok(())
            }
            Action::ShiftPieces => {
                let mut pool = self.open(machine)?;
                sieve_actions::begin_long(&mut pool, "move")?;
                let volume = pool.volume(Some(VOLUME))?;
                let plan =
                    shift::to_disk(&pool, &volume, &[RelPath::new("nest").unwrap()], "jasper", &Silent)?;
                let report = shift::execute(&mut pool, &volume, &plan, &[], &Silent)?;
                assert!(report.moved.left_alone.is_empty(), "{report:?}");
                Ok(())
            }
            Action::HandOver => {
                let mut pool = self.open(machine)?;
                sieve_actions::begin_long(&mut pool, "replace")?;
                let request = handover::HandoverRequest {
                    name: "alder".into(),
                    onto: self.path("larger"),
                    capacity: None,
                    about: About::default(),
                    wipes: false,
                };
                let prepared = handover::plan(&pool, &request)?;
                let report = handover::execute(&mut pool, prepared, &Silent)?;
                assert!(report.is_done(), "{report:?}");
                Ok(())
            }
            Action::Transfer | Action::TransferInPieces => {
                let mut pool = self.open(machine)?;
                sieve_actions::begin_long(&mut pool, "move")?;
                let (from, to) = (pool.volume(Some(VOLUME))?, pool.volume(Some(OTHER))?);
                let paths: Vec<RelPath> = ["card", "nest"]
                    .into_iter()
                    .map(|path| RelPath::new(path).unwrap())
                    .filter(|path| transfer::has(&pool, VOLUME, path).unwrap())
                    .collect();
                let request = transfer::Request { from: &from, to: &to, paths: &paths, disk: None };
                let plan = transfer::plan(&pool, request, &Silent)?;
                let report = transfer::execute(&mut pool, &plan, &Silent)?;
                assert!(report.is_whole(), "{report:?}");
                Ok(())
            }
            _ => {
                let mut pool = self.open(machine)?;
                sieve_actions::begin_long(&mut pool, "settle")?;
                let volume = pool.volume(Some(VOLUME))?;
                let options = settle::Options::default();
                let plan = settle::plan(&pool, &volume, &options, &Silent)?;
                settle::execute(&mut pool, &volume, &plan, &options, &Silent).map(|_| ())
            }
        }
    }

    fn become_another(&self, machine: Arc<dyn Machine>, to: VolumeKind) -> Result<()> {
        let report = self.convert(machine, to)?;
        assert!(report.is_done(), "{report:?}");
        Ok(())
    }

    fn convert(&self, machine: Arc<dyn Machine>, to: VolumeKind) -> Result<convert::ConvertReport> {
        let mut pool = self.open(machine)?;
        sieve_actions::begin_long(&mut pool, "convert")?;
        let request = convert::ConvertRequest {
            volume: VOLUME.into(),
            to,
            fast: if to == VolumeKind::Tiered { vec!["alder".into()] } else { Vec::new() },
            copies: None,
            never_below: None,
        };
        let prepared = convert::plan(&pool, &request, &Silent)?;
        convert::execute(&mut pool, prepared, &Silent)
    }

    /// Every file comes out as it went in.
    fn assert_all_whole(&self, when: &str) {
        let pool = self.open(real()).unwrap_or_else(|e| panic!("{when}: {e}"));
        // As `get` does: what the catalogue had no time to learn is found.
        scan::scan_all(&pool, |_| true, &Silent).unwrap();
        let mut expected = self.expected.clone();
        let mut listed = Vec::new();
        for volume in self.action.volumes() {
            read::list(&pool, volume, &RelPath::ROOT, |entry| {
                if entry.kind == "file" {
                    listed.push(entry.path);
                }
                Ok(())
            })
            .unwrap();
        }
        if let Some(path) = self.action.brings().filter(|path| listed.iter().any(|found| found == path)) {
            expected.insert(path.into(), fs::read(self.path(path)).unwrap());
        }
        let out = self.path("out");
        for (path, bytes) in &expected {
            let wanted = RelPath::new(path.as_str()).unwrap();
            // Which of two copies is the newest, where somebody edited one, the next sync finds out.
            let is_undecided = self.action == Action::Mirror && path == "card/wren.flac";
            let from = is_undecided.then_some("alder");
            let mut volumes = self.action.volumes().iter();
            let get =
                |volume: &&str| read::get(&pool, volume, std::slice::from_ref(&wanted), from, &out, &Silent);
            let outcomes: Vec<_> = volumes.by_ref().map(get).collect();
            assert!(outcomes.iter().any(Result::is_ok), "{when}: {path}: {outcomes:?}");
            let file = out.join(path.rsplit('/').next().unwrap());
            assert!(fs::read(&file).unwrap() == *bytes, "{when}: {path} has another content");
            fs::remove_file(file).unwrap();
        }
        listed.sort();
        if self.action.goes_elsewhere() {
            listed.dedup(); // in both volumes for a while
        }
        // What lies on two disks as copies is listed once where copies are the rule.
        if !matches!(self.action, Action::Mirror | Action::Convert(_, VolumeKind::Mirrored)) {
            assert_eq!(listed, expected.keys().cloned().collect::<Vec<_>>(), "{when}");
        }
    }
}

#[rstest]
fn every_file_is_whole_whenever_the_power_fails(
    #[values(
        Action::Settle,
        Action::SettleToMirror,
        Action::SettleInPieces,
        Action::Tiers,
        Action::PutInPieces,
        Action::Mirror,
        Action::Unmirror,
        Action::HandOver,
        Action::Transfer,
        Action::TransferInPieces,
        Action::ShiftPieces,
        Action::CopyWhole,
        Action::TakePlace,
        Action::Convert(VolumeKind::Unstriped, VolumeKind::Spanned),
        Action::Convert(VolumeKind::Spanned, VolumeKind::Unstriped),
        Action::Convert(VolumeKind::Unstriped, VolumeKind::Tiered),
        Action::Convert(VolumeKind::Tiered, VolumeKind::Unstriped),
        Action::Convert(VolumeKind::Unstriped, VolumeKind::Mirrored)
    )]
    action: Action,
) {
    let scene = Scene::build(action);
    let counter = CrashMachine::new(CrashPlan::Never, &scene.path("attic"));
    scene.run(counter.clone()).unwrap();
    let steps = counter.steps();
    assert!(steps >= 10, "{action:?} has only {steps} durable steps");
    for step in 0..steps {
        let when = format!("{action:?}, power cut before durable step {step} of {steps}");
        let scene = Scene::build(action);
        let machine = CrashMachine::new(CrashPlan::Before(step), &scene.path("attic"));
        assert!(scene.run(machine.clone()).is_err(), "{when}: the power did not fail");
        machine.lose_what_was_not_durable();
        scene.assert_all_whole(&when);
        // What was begun can be done again, and ends as if nothing had been.
        let mut again = scene.run(real());
        if again.as_ref().is_err_and(|error| error.code == "pool-file.changed") {
            again = scene.run(real());
        }
        match again {
            Err(error)
                if ["put.exists", "convert.same", "convert.waits", "disk.member"].contains(&error.code) => {}
            other => other.unwrap_or_else(|e| panic!("{when}: {e}")),
        }
        scene.assert_all_whole(&when);
        scene.sync(real()).unwrap_or_else(|e| panic!("{when}: {e}"));
        let mut pool = scene.open(real()).unwrap();
        sieve_actions::begin_long(&mut pool, "verify").unwrap();
        let report = verify::verify(&pool, &Scope::Whole, &Silent).unwrap();
        assert!(report.is_clean(), "{when}: {report:?}");
        drop(pool);
        scene.assert_all_whole(&when);
    }
}
