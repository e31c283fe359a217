//! Guards against the wrong disk being pulled or trusted: the inventory, the case, the verdicts, from documents of
//! any shape.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use rstest::rstest;
use serde_json::{Value, json};
use sieve_testkit::{Lab, Run};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// The demo's world, with its documents in `machine`.
fn world() -> (Lab, PathBuf) {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    lab.run(&["demo", "--dir", "world", "--set-up-only"]).expect(&[0]);
    let world = lab.root().join("world");
    (lab, world)
}

fn run(lab: &Lab, world: &Path, arguments: &[&str]) -> Run {
    Run::of(&lab.command(arguments).current_dir(world).output().unwrap())
}

fn edit(world: &Path, name: &str, change: impl FnOnce(&mut Value)) {
    let path = world.join("machine").join(name);
    let mut value: Value = serde_json::from_str(&fs::read_to_string(&path).unwrap()).unwrap();
    change(&mut value);
    fs::write(path, value.to_string()).unwrap();
}

#[test]
fn disks_of_the_pool_are_known_by_their_serial_number_wherever_the_kernel_puts_them() {
    let (lab, world) = world();
    let listed = run(&lab, &world, &["disks", "--from", "machine", "--json"]).expect(&[1]).json();
    let device_of = |listed: &Value, name: &str| {
        let disks = listed["disks"].as_array().unwrap();
        disks.iter().find(|d| d["disk"] == name).unwrap()["found"]["name"].clone()
    };
    assert_eq!(device_of(&listed, "alder"), "sda");
    edit(&world, "lsblk.json", |blocks| {
        for disk in blocks["blockdevices"].as_array_mut().unwrap() {
            let swapped = match disk["name"].as_str() {
                Some("sda") => "sdb",
                Some("sdb") => "sda",
                _ => continue,
            };
            disk["name"] = json!(swapped);
        }
    });
    let listed = run(&lab, &world, &["disks", "--from", "machine", "--json"]).expect(&[1]).json();
    assert_eq!(device_of(&listed, "alder"), "sdb");
}

#[test]
fn what_is_wrong_with_a_disk_is_called_out() {
    let (lab, world) = world();
    let shown = run(&lab, &world, &["disks", "--from", "machine"]).expect(&[1]).stdout;
    for words in [
        "beech is linked at 3.0 Gb/s and could do 6.0 Gb/s",
        "sde has an old (MBR) partition table",
        "easily confused (they differ only in characters that look alike)",
        "TW12-8BQ4K7",
        "spare",
        "system",
    ] {
        assert!(shown.contains(words), "{words}: {shown}");
    }
    let one = run(&lab, &world, &["disks", "alder", "--from", "machine"]).expect(&[0]).stdout;
    assert!(one.contains("ata-Tarnworks_T12_TW12-88Q4K7") && one.contains("12000138625024 bytes"), "{one}");
    assert!(run(&lab, &world, &["disks", "elm", "--from", "machine"]).expect(&[2]).stderr.contains("alder"));
}

#[rstest]
#[case::nulls(json!({ "serial": null, "size": null, "model": null, "rota": null, "children": null }))]
#[case::texts(json!({ "size": "12000138625024", "rota": "1", "pttype": 3 }))]
#[case::nonsense(json!({ "size": -5, "children": [[], {}, 7], "mountpoints": "x" }))]
fn a_listing_of_odd_shape_is_shown_with_gaps(#[case] odd: Value) {
    let (lab, world) = world();
    edit(&world, "lsblk.json", |blocks| {
        let first = blocks["blockdevices"][0].as_object_mut().unwrap();
        odd.as_object().unwrap().iter().for_each(|(key, value)| _ = first.insert(key.clone(), value.clone()));
    });
    for command in [
        &["disks", "--from", "machine"][..],
        &["bays", "--from", "machine"],
        &["health", "--from", "machine"],
    ] {
        let run = run(&lab, &world, command);
        assert!([0, 1].contains(&run.code) && !run.stderr.contains("panicked"), "{}", run.stderr);
    }
}

#[rstest]
#[case::cut("{\"blockdevices\": [{\"name\"")]
#[case::empty("")]
#[case::deep(&"[".repeat(100_000))]
fn a_listing_that_is_none_ends_with_words(#[case] text: &str) {
    let (lab, world) = world();
    fs::write(world.join("machine/lsblk.json"), text).unwrap();
    let run = run(&lab, &world, &["disks", "--from", "machine"]).expect(&[2]);
    assert!(run.stderr.contains("lsblk.json") && !run.stderr.contains("panicked"), "{}", run.stderr);
}

#[test]
fn a_report_that_is_missing_or_cut_is_a_gap() {
    let (lab, world) = world();
    fs::remove_file(world.join("machine/smart-sda.json")).unwrap();
    fs::write(world.join("machine/smart-sdb.json"), "{\"temperature\": {\"current\"").unwrap();
    let run = run(&lab, &world, &["health", "--from", "machine", "--json"]).expect(&[1]);
    let answer = run.json();
    let alder = answer["disks"].as_array().unwrap().iter().find(|d| d["disk"] == "alder").unwrap();
    assert_eq!((alder["verdict"].as_str(), &alder["found"]["smart"]), (Some("watch"), &Value::Null));
    assert!(answer["gaps"][0].as_str().unwrap().contains("smart-sdb.json"));
}

#[test]
fn what_a_disk_does_not_tell_the_kernel_does() {
    let (lab, world) = world();
    fs::remove_file(world.join("machine/smart-sda.json")).unwrap();
    let port = world.join("machine/sys/devices/pci0/ata1");
    let sensor = port.join("host0/block/sda/device/hwmon/hwmon1");
    let link = port.join("link1/ata_link/link1");
    fs::create_dir_all(world.join("machine/sys/block")).unwrap();
    fs::create_dir_all(&sensor).unwrap();
    fs::create_dir_all(&link).unwrap();
    fs::write(sensor.join("temp1_input"), "57000\n").unwrap();
    fs::write(link.join("sata_spd"), "1.5 Gbps\n").unwrap();
    symlink("../devices/pci0/ata1/host0/block/sda", world.join("machine/sys/block/sda")).unwrap();

    let shown = run(&lab, &world, &["disks", "alder", "--from", "machine"]).expect(&[0]).stdout;
    assert!(shown.contains("57 °C") && shown.contains("1.5 Gb/s"), "{shown}");
    let verdicts = run(&lab, &world, &["health", "--from", "machine", "--json"]).expect(&[1]);
    let answer = verdicts.json();
    let alder = answer["disks"].as_array().unwrap().iter().find(|d| d["disk"] == "alder").unwrap();
    assert!(alder["reasons"].to_string().contains("it is at 57 °C"), "{alder}");
}

#[test]
fn sectors_that_grow_between_two_looks_make_a_verdict_worse() {
    let (lab, world) = world();
    run(&lab, &world, &["create", "--yes"]).expect(&[0]);
    let verdict = |run: &Run| {
        let answer = run.json();
        let cedar =
            answer["disks"].as_array().unwrap().iter().find(|d| d["disk"] == "cedar").unwrap().clone();
        (cedar["verdict"].as_str().unwrap().to_string(), cedar["reasons"].to_string())
    };
    let health = ["health", "--from", "machine", "--json"];
    assert_eq!(verdict(&run(&lab, &world, &health).expect(&[1])).0, "watch");
    assert_eq!(verdict(&run(&lab, &world, &health).expect(&[1])).0, "watch", "nothing grew");
    edit(&world, "smart-sdc.json", |report| {
        report["ata_smart_attributes"]["table"][0]["raw"]["value"] = json!(31);
    });
    let (verdict, reasons) = verdict(&run(&lab, &world, &health).expect(&[1]));
    assert_eq!(verdict, "replace-soon");
    assert!(reasons.contains("7 more than at the last look"), "{reasons}");
}

#[test]
fn a_limit_in_degrees_fahrenheit_is_shown_and_kept_in_them() {
    let (lab, world) = world();
    let pool = world.join("pool.toml");
    let text = fs::read_to_string(&pool)
        .unwrap()
        .replace("name = \"fernhollow\"", "name = \"fernhollow\"\ntoo_hot = \"95 °F\"");
    fs::write(pool, text).unwrap();
    let shown = run(&lab, &world, &["health", "--from", "machine"]).expect(&[1]).stdout;
    assert!(shown.contains("it is at 97 °F, the limit is 95 °F"), "alder: {shown}");
}

#[test]
fn the_bay_to_pull_is_shown_in_words_with_its_neighbours() {
    let (lab, world) = world();
    let shown = run(&lab, &world, &["bays", "--find", "cedar", "--from", "machine"]).expect(&[0]).stdout;
    for words in ["bay B1: second from the top, left", "ends in V7C5", "above: alder"] {
        assert!(shown.contains(words), "{words}: {shown}");
    }
    let found =
        run(&lab, &world, &["bays", "--find", "oak", "--from", "machine", "--json"]).expect(&[0]).json();
    assert_eq!((found["bay"].as_str(), found["place"].as_str()), (Some("C2"), Some("at the bottom, right")));
    let bays = run(&lab, &world, &["bays", "--from", "machine", "--json"]).expect(&[0]).list();
    let empty: Vec<_> =
        bays.as_array().unwrap().iter().filter(|b| b["disk"].is_null()).map(|b| &b["bay"]).collect();
    assert_eq!(empty, ["B2"]);
    assert!(
        run(&lab, &world, &["bays", "--find", "elm", "--from", "machine"])
            .expect(&[2])
            .stderr
            .contains("cedar")
    );
}

#[test]
fn disks_of_every_bus_are_judged_by_what_they_say() {
    let (lab, world) = world();
    let of = |answer: &Value, device: &str| {
        let disks = answer["disks"].as_array().unwrap();
        let disk = disks.iter().find(|d| d["found"]["name"] == device).unwrap().clone();
        (disk["verdict"].as_str().unwrap().to_string(), disk["reasons"].to_string(), disk)
    };
    let health = ["health", "--from", "machine", "--json"];
    let answer = run(&lab, &world, &health).expect(&[1]).json();
    let (verdict, reasons, sas) = of(&answer, "sdf");
    assert!(verdict == "watch" && reasons.contains("7 sectors were replaced"), "{reasons}");
    assert!(sas["age_by_hours"] == true && sas["age_years"].as_f64().unwrap() > 2.4, "{sas}");
    assert!(of(&answer, "sdg").1.contains("88 % of the life"));

    edit(&world, "smart-sdf.json", |report| {
        report["scsi_error_counter_log"]["read"]["total_uncorrected_errors"] = json!(3);
    });
    // A newer short test hides nothing.
    edit(&world, "smart-sde.json", |report| {
        let tests = report["ata_smart_self_test_log"]["standard"]["table"].as_array_mut().unwrap();
        tests.insert(
            0,
            json!({ "type": { "value": 1, "string": "Short offline" }, "lifetime_hours": 30_100,
            "status": { "value": 0, "string": "Completed without error", "passed": true } }),
        );
    });
    fs::write(
        world.join("machine/smart-nvme0n1.json"),
        r#"{"smartctl": {"exit_status": 2, "messages": [{"string": "Permission denied", "severity": "error"}]}}"#,
    )
    .unwrap();
    let answer = run(&lab, &world, &health).expect(&[1]).json();
    let (verdict, reasons, _) = of(&answer, "sdf");
    assert!(verdict == "replace-soon" && reasons.contains("3 reads failed for good"), "{reasons}");
    let (verdict, reasons, _) = of(&answer, "sde");
    assert!(verdict == "do-not-use" && reasons.contains("reads less"), "{reasons}");
    let (verdict, reasons, _) = of(&answer, "nvme0n1");
    assert!(
        verdict == "watch" && reasons.contains("could not be asked about itself: Permission denied"),
        "{reasons}"
    );
    assert!(!reasons.contains("self-test"), "{reasons}");
}

/// Is it real? A cable, a disk that dies, or nothing: by what is read, what it says of itself, and what grew since the last look.
#[test]
fn a_probe_tells_a_cable_from_a_dying_disk_and_from_nothing() {
    let (lab, world) = world();
    run(&lab, &world, &["create", "--yes"]).expect(&[0]);
    let probe = |name: &str, codes: &[i32]| {
        let told = run(&lab, &world, &["health", name, "--probe", "--from", "machine", "--json"])
            .expect(codes)
            .json();
        (told["cause"].as_str().unwrap().to_string(), told["next"].to_string(), told)
    };
    run(&lab, &world, &["health", "--from", "machine"]).expect(&[1]);
    let (cause, next, told) = probe("alder", &[0]);
    assert_eq!(cause, "false-alarm", "{told}");
    assert!(
        next.contains("verify --disks alder --mend") && told["read"]["taken"].as_u64() > Some(0),
        "{told}"
    );
    let (cause, next, told) = probe("beech", &[1]);
    assert_eq!(cause, "cable", "{told}");
    assert!(told["reasons"].to_string().contains("check the cable and the port"), "{told}");
    assert!(next.find("--probe") < next.find("verify --disks beech"), "it is looked at again first: {next}");
    assert_eq!(probe("cedar", &[0]).0, "false-alarm", "sectors that were replaced long ago are no alarm");
    edit(&world, "smart-sdc.json", |report| {
        report["ata_smart_attributes"]["table"][0]["raw"]["value"] = json!(90);
    });
    let (cause, next, told) = probe("cedar", &[1]);
    assert_eq!(cause, "dying", "{told}");
    assert!(next.contains("replace cedar --onto DIR"), "{next}");
    let said = run(&lab, &world, &["health", "cedar", "--probe", "--from", "machine"]).expect(&[1]).stdout;
    assert!(
        said.lines().next().unwrap().contains("cedar (bay B1, serial …V7C5): the disk is dying."),
        "{said}"
    );
    fs::remove_dir_all(world.join("disks/beech")).unwrap();
    let away = run(&lab, &world, &["health", "beech", "--probe", "--from", "machine"]).expect(&[2, 3]).stderr;
    assert!(away.contains("zinc-sieve rebuild beech --onto DIR"), "{away}");
    let two = run(&lab, &world, &["health", "alder", "cedar", "--probe"]).expect(&[2]).stderr;
    assert!(two.contains("one disk"), "{two}");
}
