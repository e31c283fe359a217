//! The process that serves a volume is killed at random moments: nothing has half a name afterwards, nothing that was guarded is
//! lost, and the volume can be mounted again at once. MOUNT_KILLS sets how often.

use std::fs;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use sieve_testkit::Chance;

use super::{Drive, lab, may_mount};

/// Renames, replaces, removes and writes until the drive is gone.
fn churn(drive: &Drive<'_>, chance: &mut Chance, ends: &AtomicBool) {
    while !ends.load(Ordering::Relaxed) {
        let (one, other) = (chance.below(12), chance.below(12));
        let file = |number: usize| drive.path(&format!("churn/{number}"));
        // Whatever fails is met by the next round, or by the end.
        let _ = match chance.below(5) {
            0 => fs::write(file(one), chance.bytes(20_000)),
            1 => fs::remove_file(file(one)),
            2 => fs::rename(file(one), file(other)),
            3 => fs::rename(drive.path("churn"), drive.path("turned"))
                .and_then(|()| fs::rename(drive.path("turned"), drive.path("churn"))),
            _ => fs::create_dir_all(drive.path("churn")),
        };
    }
}

#[test]
fn killed_at_random_it_loses_nothing_that_is_guarded() {
    if !may_mount() {
        return;
    }
    let kills: u64 = std::env::var("MOUNT_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(12);
    let lab = lab();
    let kept: Vec<Vec<u8>> = (0..9).map(|n| Chance::new(100 + n).bytes(150_000)).collect();
    {
        let drive = Drive::mount(&lab, &[]);
        fs::create_dir(drive.path("kept")).unwrap();
        fs::create_dir(drive.path("churn")).unwrap();
        for (number, bytes) in kept.iter().enumerate() {
            fs::write(drive.path(&format!("kept/{number}")), bytes).unwrap();
        }
        for number in 0..12 {
            fs::write(drive.path(&format!("churn/{number}")), vec![number; 30_000]).unwrap();
        }
        drive.unmount();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for seed in 0..kills {
        let mut chance = Chance::new(seed);
        let drive = Drive::mount(&lab, &[]);
        let ends = AtomicBool::new(false);
        std::thread::scope(|scope| {
            let (drive, ends) = (&drive, &ends);
            scope.spawn(move || churn(drive, &mut Chance::new(1000 + seed), ends));
            std::thread::sleep(Duration::from_millis(20 + chance.below(120) as u64));
            super::quietly("kill", &["-9", &drive.process().to_string()]);
            ends.store(true, Ordering::Relaxed);
        });
        drop(drive);
        // The neighbours of what was going on are guarded as they were: they come back without their disk.
        let fate = lab.run(&["fate", "--lose", lab.data[(seed % 3) as usize].as_str(), "--scan", "--json"]);
        let fate = fate.expect(&[0, 1]).json();
        let folder = fate["folders"].as_array().unwrap().iter().find(|f| f["folder"] == "kept").unwrap();
        for word in ["older", "torn", "gone"] {
            assert_eq!(folder["totals"][word]["files"], 0, "after kill {seed}: {fate}");
        }
        if seed % 4 == 3 {
            lab.run(&["sync", "--yes", "--accept", "alder,beech,cedar"]).expect(&[0]);
            lab.run(&["verify"]).expect(&[0]);
        }
    }
    let drive = Drive::mount(&lab, &[]);
    for (number, bytes) in kept.iter().enumerate() {
        assert!(fs::read(drive.path(&format!("kept/{number}"))).unwrap() == *bytes);
    }
    drive.kill();
}

#[test]
fn a_folder_that_was_being_renamed_on_several_disks_has_one_name_after_the_next_mount() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    // As a kill leaves it between two disks: what is to be done is written down, and done on the first of them.
    for (disk, folder) in [("alder", "new"), ("beech", "old"), ("cedar", "old")] {
        fs::create_dir(lab.disk(disk).join(folder)).unwrap();
        fs::write(lab.disk(disk).join(folder).join(disk), disk).unwrap();
    }
    let mounts = lab.root().join(".zinc-sieve/mounts");
    fs::create_dir(&mounts).unwrap();
    let hex = |text: &str| text.bytes().map(|byte| format!("{byte:02x}")).collect::<String>();
    let (from, to) = (hex("old"), hex("new"));
    let intent = format!(r#"{{"format":1,"volume":"recordings","from_hex":"{from}","to_hex":"{to}"}}"#);
    fs::write(mounts.join(format!("{}.rename", hex("recordings"))), intent).unwrap();
    let drive = Drive::mount(&lab, &[]);
    assert!(!drive.path("old").exists());
    for disk in ["alder", "beech", "cedar"] {
        assert_eq!(fs::read_to_string(drive.path("new").join(disk)).unwrap(), disk);
    }
    drive.unmount();
    assert!(!mounts.join(format!("{}.rename", hex("recordings"))).exists());
}

#[test]
fn what_is_written_in_the_place_of_an_intent_by_others_leads_nowhere() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    fs::create_dir(lab.disk("alder").join("old")).unwrap();
    let mounts = lab.root().join(".zinc-sieve/mounts");
    fs::create_dir(&mounts).unwrap();
    let place = mounts.join("7265636f7264696e6773.rename");
    let (old, ours, out) = ("6f6c64", "2e7a696e632d73696576652f78", "2e2e2f78");
    for (from, to) in [(old, ours), (ours, old), (old, out), (old, "zz"), ("", old)] {
        let intent = format!(r#"{{"format":1,"volume":"recordings","from_hex":"{from}","to_hex":"{to}"}}"#);
        fs::write(&place, intent).unwrap();
        let drive = Drive::mount(&lab, &[]);
        assert!(drive.path("old").exists(), "{from} to {to}");
        drive.unmount();
    }
}
