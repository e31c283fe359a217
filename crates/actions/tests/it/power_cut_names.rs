//! Guards against a power cut in the middle of a new name, or while the traces of a pool go from a former disk: the pool is what it
//! was or what it is to be, every command follows, and nothing that is guarded is lost.
//!
//! Holds I1, I2.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::sync::Arc;

use rstest::rstest;
use sieve_actions::disks::membership::{About, handover, wipe};
use sieve_actions::disks::rename;
use sieve_catalogue::pool_file::Named;
use sieve_disk::Result;
use sieve_disk::event::Silent;
use sieve_disk::machine::Machine;
use sieve_pool::member::State;
use sieve_pool::pool::Pool;
use sieve_testkit::{CrashMachine, CrashPlan};

use crate::power_cut::{Action, Scene, lose_and_rebuild, real, verify_is_clean};

/// A new name, and the next command, which makes labels and catalogue follow it.
fn name_anew(scene: &Scene, machine: &Arc<dyn Machine>, (what, old, new): (Named, &str, &str)) -> Result<()> {
    let mut pool = scene.open(Arc::clone(machine))?;
    sieve_actions::begin_long(&mut pool, "rename")?;
    let plan = rename::plan(&pool, what, old, new)?;
    rename::execute(&pool, &plan)?;
    drop(pool);
    let mut pool = scene.open(Arc::clone(machine))?;
    sieve_actions::begin_long(&mut pool, "follow")
}

/// The names of that sort that the pool has.
fn names(pool: &Pool, what: Named) -> Vec<&str> {
    match what {
        Named::Disk => pool.members.iter().map(|member| member.row.name.as_str()).collect(),
        Named::Volume => pool.members.iter().map(|member| member.row.volume.as_str()).collect(),
        Named::Pool => vec![pool.spec.name.as_str()],
    }
}

#[rstest]
#[case::of_a_disk(Named::Disk, "cedar", "larch")]
#[case::of_a_volume(Named::Volume, "recordings", "songs")]
#[case::of_the_pool(Named::Pool, "fernhollow", "owlfield")]
fn a_new_name_is_there_or_it_is_not(#[case] what: Named, #[case] old: &str, #[case] new: &str) {
    let scene = Scene::build();
    let counter = CrashMachine::new(CrashPlan::Never, &scene.path("attic"));
    let machine: Arc<dyn Machine> = counter.clone();
    name_anew(&scene, &machine, (what, old, new)).unwrap();
    let steps = counter.steps();
    assert!(steps >= 5, "only {steps} durable steps");
    for step in 0..steps {
        let when = format!("{what:?}, power cut before durable step {step} of {steps}");
        let scene = Scene::build();
        let crashing = CrashMachine::new(CrashPlan::Before(step), &scene.path("attic"));
        let machine: Arc<dyn Machine> = crashing.clone();
        assert!(name_anew(&scene, &machine, (what, old, new)).is_err(), "{when}: the power did not fail");
        crashing.lose_what_was_not_durable();
        scene.assert_nothing_lost(&when);
        verify_is_clean(&scene, &when);
        let pool = scene.open(real()).unwrap();
        assert!(pool.members.iter().all(|member| member.state == State::Present), "{when}");
        let has = |name: &str| names(&pool, what).contains(&name);
        assert!(has(old) != has(new), "{when}: {:?}", names(&pool, what));
        let is_old = has(old);
        drop(pool);
        if is_old {
            name_anew(&scene, &real(), (what, old, new)).unwrap_or_else(|e| panic!("{when}: {e}"));
        }
        scene.run(real(), Action::Sync).unwrap_or_else(|e| panic!("{when}: {e}"));
        let pool = scene.open(real()).unwrap();
        assert!(names(&pool, what).contains(&new), "{when}");
        drop(pool);
        if step % 4 == 0 {
            lose_and_rebuild(&scene, ["alder", "beech"][step as usize / 4 % 2], &when);
        }
    }
}

/// A disk that gave its place to another, and has its label still.
fn with_a_former_disk() -> Scene {
    let scene = Scene::build();
    let mut pool = scene.open(real()).unwrap();
    sieve_actions::begin_long(&mut pool, "replace").unwrap();
    let request = handover::HandoverRequest {
        name: "cedar".into(),
        onto: scene.path("new"),
        capacity: None,
        about: About::default(),
        wipes: false,
    };
    let prepared = handover::plan(&pool, &request).unwrap();
    assert!(handover::execute(&mut pool, prepared, &Silent).unwrap().is_done());
    drop(pool);
    scene.run(real(), Action::Sync).unwrap();
    scene
}

#[test]
fn traces_go_from_a_former_disk_and_nothing_else() {
    let wipe = |scene: &Scene, machine: Arc<dyn Machine>| -> Result<()> {
        let pool = scene.open(Arc::clone(&machine))?;
        let at = scene.path("cedar");
        let plan = wipe::plan(&*machine, &at, Some("cedar of fernhollow"), Some(&pool))?;
        wipe::execute(&*machine, &plan, Some(&pool))
    };
    let scene = with_a_former_disk();
    let counter = CrashMachine::new(CrashPlan::Never, &scene.path("attic"));
    wipe(&scene, counter.clone()).unwrap();
    let steps = counter.steps();
    assert!(steps >= 3, "only {steps} durable steps");
    for step in 0..steps {
        let when = format!("power cut before durable step {step} of {steps}");
        let scene = with_a_former_disk();
        let files = |scene: &Scene| {
            ["notes/june.txt", "notes/new.txt"].map(|name| fs::read(scene.path("cedar").join(name)).unwrap())
        };
        let before = files(&scene);
        let machine = CrashMachine::new(CrashPlan::Before(step), &scene.path("attic"));
        assert!(wipe(&scene, machine.clone()).is_err(), "{when}: the power did not fail");
        machine.lose_what_was_not_durable();
        assert_eq!(files(&scene), before, "{when}: somebody's files");
        match wipe(&scene, real()) {
            Err(error) => assert_eq!(error.code, "wipe.no-label", "{when}: {error}"),
            Ok(()) => assert!(!scene.path("cedar/.zinc-sieve").exists(), "{when}"),
        }
        assert_eq!(files(&scene), before, "{when}: somebody's files");
        scene.assert_nothing_lost(&when);
        verify_is_clean(&scene, &when);
    }
}
