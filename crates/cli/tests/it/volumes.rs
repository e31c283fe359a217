//! Guards against one volume that leaks into another: their files, their parity, their fates and their rebuilds are
//! each their own.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab, Run};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn json(run: &Run) -> Value {
    serde_json::from_str(&run.stdout).unwrap_or_else(|e| panic!("{e}: {}\n{}", run.stdout, run.stderr))
}

/// Alder and beech with oak in one volume; cedar and elm with pine in the other; files of 200 kB on each.
fn two_volumes() -> Lab {
    let lab = Lab::new(PROGRAM, 4, 2, "40 MB");
    let text = lab.pool_text();
    let cut = text.find("[[volume]]").unwrap();
    let volume = |name: &str, data: &str, parity: &str| {
        format!(
            "[[volume]]\nname = \"{name}\"\nkind = \"unstriped\"\ndata = [{data}]\nparity = [\"{parity}\"]\n"
        )
    };
    let volumes =
        volume("recordings", "\"alder\", \"beech\"", "oak") + &volume("scans", "\"cedar\", \"elm\"", "pine");
    lab.write_pool_file(&format!("{}{volumes}", &text[..cut]));
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(21);
    for disk in ["alder", "beech", "cedar", "elm"] {
        fs::write(lab.disk(disk).join(format!("{disk}.dat")), chance.bytes(200_000)).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

fn fates(answer: &Value) -> Vec<(String, String)> {
    let text = |v: &Value| v.as_str().unwrap().to_string();
    let files = answer["files"].as_array().unwrap();
    files.iter().map(|f| (format!("{}:{}", text(&f["volume"]), text(&f["path"])), text(&f["fate"]))).collect()
}

#[test]
fn a_loss_in_one_volume_leaves_the_other_alone() {
    let lab = two_volumes();
    // One disk of each: each volume has a parity of its own.
    let both = json(&lab.run(&["fate", "--lose", "alder,cedar", "--json"]).expect(&[0]));
    let expected = [
        ("recordings:alder.dat", "rebuilt"),
        ("recordings:beech.dat", "untouched"),
        ("scans:cedar.dat", "rebuilt"),
        ("scans:elm.dat", "untouched"),
    ];
    assert_eq!(fates(&both), expected.map(|(a, b)| (a.to_string(), b.to_string())));
    let same = json(&lab.run(&["fate", "--lose", "alder,beech", "--json"]).expect(&[1]));
    assert_eq!(same["totals"]["gone"]["files"], 2);
    assert_eq!(same["totals"]["untouched"]["files"], 2);
}

/// Volumes are passed over one after another, and it takes as long as that.
#[test]
fn a_pass_over_two_volumes_takes_as_long_as_both() {
    let lab = two_volumes();
    let sync = || {
        let told = json(&lab.run(&["sync", "--dry-run", "--json"]).expect(&[0, 1]));
        told["forecast"]["likely_seconds"].as_f64().unwrap_or_else(|| panic!("{told}"))
    };
    fs::write(lab.disk("alder").join("more.dat"), vec![7; 3_000_000]).unwrap();
    let one = sync();
    fs::write(lab.disk("cedar").join("more.dat"), vec![8; 3_000_000]).unwrap();
    assert!((sync() / one - 2.0).abs() < 0.01, "{one}, then {}", sync());
}

#[test]
fn commands_ask_which_volume_is_meant() {
    let lab = two_volumes();
    fs::write(lab.root().join("late.dat"), b"late").unwrap();
    for command in
        [&["put", "late.dat", ".", "--yes"][..], &["rm", "cedar.dat", "--yes"], &["get", "cedar.dat", "."]]
    {
        let run = lab.run(command).expect(&[2]);
        assert!(run.stderr.contains("--volume"), "{command:?}: {}", run.stderr);
    }
    let run = lab.run(&["put", "late.dat", ".", "--volume", "scan", "--yes"]).expect(&[2]);
    assert!(run.stderr.contains("did you mean `scans`?"), "{}", run.stderr);
    lab.run(&["put", "late.dat", ".", "--volume", "scans", "--yes"]).expect(&[0]);
    assert!(["cedar", "elm"].iter().any(|d| lab.disk(d).join("late.dat").exists()));
    let listed = lab.run(&["ls", "--volume", "scans"]).expect(&[0]);
    assert!(!listed.stdout.contains("alder.dat") && listed.stdout.contains("late.dat"), "{}", listed.stdout);
}

#[test]
fn disks_of_two_volumes_are_rebuilt_one_volume_at_a_time() {
    let lab = two_volumes();
    let original = fs::read(lab.disk("cedar").join("cedar.dat")).unwrap();
    for (dead, new) in [("alder", "new-1"), ("cedar", "new-2")] {
        fs::remove_dir_all(lab.disk(dead)).unwrap();
        fs::create_dir(lab.disk(new)).unwrap();
    }
    let both = ["rebuild", "alder", "cedar", "--onto", "new-1", "--onto", "new-2", "--yes"];
    let run = lab.run(&both).expect(&[2]);
    assert!(run.stderr.contains("one volume at a time"), "{}", run.stderr);
    lab.run(&["rebuild", "cedar", "--onto", "new-2", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.disk("new-2").join("cedar.dat")).unwrap(), original);
    let status = json(&lab.run(&["status", "--json"]).expect(&[1]));
    let states: Vec<_> =
        status["disks"].as_array().unwrap().iter().map(|d| (&d["disk"], &d["state"])).collect();
    assert!(states.iter().all(|(name, state)| (*name == "alder") == (*state == "missing")), "{states:?}");
    lab.run(&["rebuild", "alder", "--onto", "new-1", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_path_in_both_volumes_is_no_conflict() {
    let lab = two_volumes();
    for disk in ["alder", "cedar"] {
        fs::write(lab.disk(disk).join("index.txt"), disk).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let status = json(&lab.run(&["status", "--json"]).expect(&[0]));
    assert_eq!(status["conflicts"], serde_json::json!([]));
    fs::write(lab.disk("beech").join("index.txt"), "another").unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let status = json(&lab.run(&["status", "--json"]).expect(&[1]));
    assert_eq!(status["conflicts"][0]["path"], "index.txt");
    assert_eq!(status["guard"][0]["files"], 0, "both are guarded");
    fs::create_dir(lab.root().join("out")).unwrap();
    let get = ["get", "index.txt", "out", "--volume", "recordings"];
    let run = lab.run(&get).expect(&[4]);
    assert!(run.stderr.contains("--disk"), "{}", run.stderr);
    lab.run(&[&get[..], &["--disk", "beech"]].concat()).expect(&[0]);
    assert_eq!(fs::read(lab.root().join("out/index.txt")).unwrap(), b"another");
}

/// A limit is kept by what goes through us, and told where somebody else passed it.
#[rstest]
#[case("25 MB")]
#[case("20.9 %")]
fn a_volume_holds_no_more_than_its_limit(#[case] limit: &str) {
    let lab = Lab::new(PROGRAM, 3, 1, "40 MB");
    let text = lab.pool_text().replace("kind = ", &format!("limit = \"{limit}\"\nkind = "));
    lab.write_pool_file(&text);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (name, bytes) in [("dawn.flac", 20_000_000), ("dusk.flac", 6_000_000), ("noon.flac", 4_000_000)] {
        fs::write(lab.root().join(name), Chance::new(bytes as u64).bytes(bytes)).unwrap();
    }
    lab.run(&["put", "dawn.flac", ".", "--yes"]).expect(&[0]);
    let refused = lab.run(&["put", "dusk.flac", ".", "--yes"]);
    assert!(refused.code != 0 && refused.stderr.contains("may hold 25."), "{}", refused.stderr);
    lab.run(&["put", "noon.flac", ".", "--yes"]).expect(&[0]);
    fs::write(lab.disk("cedar").join("other.flac"), vec![1; 3_000_000]).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let status = lab.run(&["status", "--json"]).expect(&[0]).json();
    let limited = &status["limits"][0];
    assert!(limited["used_bytes"].as_u64().unwrap() > limited["limit_bytes"].as_u64().unwrap(), "{limited}");
}

/// A limit counts all copies: what `status` calls free is what can be put, also where each file lies twice.
#[rstest]
#[case("unstriped", 20)]
#[case("mirrored", 10)]
fn what_is_free_below_a_limit_can_be_put_and_no_more(#[case] kind: &str, #[case] megabytes: u64) {
    let volume = format!("kind = \"{kind}\"\ndata = [\"alder\", \"beech\"]\nlimit = \"20 MB\"");
    let lab = Lab::of(PROGRAM, &[("alder", 40), ("beech", 40)], &volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let free = || {
        let status = lab.run(&["status", "--json"]).expect(&[0, 5]).json();
        status["volumes"][0]["free_bytes"].as_u64().unwrap()
    };
    assert_eq!(free(), megabytes * 1_000_000);
    fs::write(lab.root().join("more.bin"), vec![1; free() as usize + 10_000]).unwrap();
    lab.run(&["put", "more.bin", ".", "--yes"]).expect(&[2, 4]);
    fs::write(lab.root().join("less.bin"), vec![1; free() as usize - 100_000]).unwrap();
    lab.run(&["put", "less.bin", ".", "--yes"]).expect(&[0]);
}
