//! Guards against a change of the pool's disks that costs a guard or a file, or leaves the pool file, the labels and the
//! catalogue at odds.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::Path;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// A synced pool of three data disks and so many parity disks, with some more disks that are in no volume yet.
fn synced(parity: usize, spare: &[(&str, &str)]) -> Lab {
    let lab = Lab::new(PROGRAM, 3, parity, "40 MB");
    let mut entries = String::new();
    for (name, capacity) in spare {
        fs::create_dir(lab.disk(name)).unwrap();
        let path = lab.disk(name).display().to_string();
        entries += &format!(
            "[[disk]]\nname = \"{name}\" # bought in May\npath = \"{path}\"\ncapacity = \"{capacity}\"\nsimulated = true\n\n"
        );
    }
    let text = lab.pool_text().replace("[[volume]]", &format!("{entries}# all of it\n[[volume]]"));
    lab.write_pool_file(&text);
    let mut chance = Chance::new(3);
    for disk in &lab.data {
        for number in 0..5 {
            let length = 300_000 + chance.below(3_000_000);
            fs::write(lab.disk(disk).join(format!("{disk}-{number}.flac")), chance.bytes(length)).unwrap();
        }
    }
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

fn lowest_guard(lab: &Lab) -> u64 {
    let status = lab.run(&["status", "--json"]).expect(&[0, 1, 5]).json();
    let levels = status["guard"].as_array().unwrap();
    let used = levels.iter().find(|level| level["files"].as_u64().unwrap() > 0).unwrap();
    used["level"].as_u64().unwrap()
}

fn snapshot_of(folder: &Path) -> Vec<(String, u64, std::time::SystemTime)> {
    let entries = fs::read_dir(folder.join(".zinc-sieve/parity")).unwrap();
    let mut found: Vec<_> = entries
        .map(|entry| {
            let entry = entry.unwrap();
            let stat = entry.metadata().unwrap();
            (entry.file_name().into_string().unwrap(), stat.len(), stat.modified().unwrap())
        })
        .collect();
    found.sort();
    found
}

#[test]
fn a_parity_disk_is_added_and_it_alone_is_written() {
    let lab = synced(1, &[("spruce", "40 MB")]);
    assert_eq!(lowest_guard(&lab), 1);
    let before = snapshot_of(&lab.disk("oak"));
    let plan = lab.run(&["grow", "spruce", "--as", "parity", "--dry-run", "--json"]).expect(&[0]).json();
    assert!(!lab.disk("spruce").join(".zinc-sieve").exists(), "a plan writes nothing");
    let report = lab.run(&["grow", "spruce", "--as", "parity", "--yes", "--json"]).expect(&[0]).json();
    assert_eq!(snapshot_of(&lab.disk("oak")), before, "the other parity is not touched");
    let cells = report["parity_cells"].as_u64().unwrap();
    assert!(cells > 5);
    assert_eq!(plan["written_bytes"]["spruce"].as_u64().unwrap(), cells << 20);
    assert_eq!(lowest_guard(&lab), 2);
    assert!(lab.pool_text().contains("parity = [\"oak\", \"spruce\"]"), "{}", lab.pool_text());
    assert!(lab.pool_text().contains("# bought in May") && lab.pool_text().contains("# all of it"));
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["drill", "--lose", "alder,cedar"]).expect(&[0]);
    lab.run(&["grow", "spruce", "--as", "parity", "--yes"]).expect(&[2]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
}

#[test]
fn a_data_disk_joins_with_the_files_on_it() {
    let lab = synced(1, &[]);
    let elm = lab.root().join("elm");
    fs::create_dir_all(elm.join("attic")).unwrap();
    let old = Chance::new(8).bytes(700_000);
    fs::write(elm.join("attic/old.flac"), &old).unwrap();
    let at = elm.display().to_string();
    let refused = lab.run(&["grow", "elm", "--as", "data", "--at", &at, "--yes"]).expect(&[4]);
    assert!(refused.stderr.contains("nothing is mounted"), "{}", refused.stderr);
    // Larger than the parity disk: what lies beyond could not be guarded.
    let entry = |more: &str| format!("[[disk]]\nname = \"elm\"\npath = \"{at}\"\n{more}\n\n[[volume]]");
    let text = lab.pool_text();
    lab.write_pool_file(&text.replace("[[volume]]", &entry("shares_filesystem = true")));
    let refused = lab.run(&["grow", "elm", "--as", "data", "--yes"]).expect(&[4, 2]);
    assert!(refused.stderr.contains("capacity"), "{}", refused.stderr);
    lab.write_pool_file(&text.replace("[[volume]]", &entry("capacity = \"40 MB\"\nsimulated = true")));
    let report = lab.run(&["grow", "elm", "--as", "data", "--yes", "--json"]).expect(&[0]).json();
    assert_eq!(report["files"], 1);
    assert_eq!(fs::read(elm.join("attic/old.flac")).unwrap(), old);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::rename(&elm, lab.root().join("dead")).unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    lab.run(&["rebuild", "elm", "--onto", "new", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.root().join("new/attic/old.flac")).unwrap(), old);
}

#[test]
fn a_parity_disk_leaves_without_a_trace_and_can_come_back() {
    let lab = synced(2, &[]);
    let plan = lab.run(&["vacate", "oak", "--dry-run", "--json"]).expect(&[0]).json();
    let of = |guard: u64| {
        let guards = plan["guards"].as_array().unwrap();
        guards.iter().find(|g| g["guard"] == guard).map_or(0, |g| g["after"]["files"].as_u64().unwrap())
    };
    assert_eq!((of(1), of(2)), (15, 0));
    lab.run(&["vacate", "oak", "--yes"]).expect(&[0]);
    assert_eq!(fs::read_dir(lab.disk("oak")).unwrap().count(), 0, "nothing of ours is left");
    assert_eq!(lowest_guard(&lab), 1);
    lab.run(&["verify"]).expect(&[0]);
    // The parity that is left is not the first one, and works alone.
    lab.run(&["drill", "--lose", "beech"]).expect(&[0]);
    lab.run(&["check"]).expect(&[0]);
    lab.run(&["grow", "oak", "--as", "parity", "--yes"]).expect(&[0]);
    assert_eq!(lowest_guard(&lab), 2);
    lab.run(&["drill", "--lose", "beech,alder"]).expect(&[0]);
    // Data disks and parity disks leave in different ways, and a volume keeps one of the first.
    lab.run(&["vacate", "alder", "oak", "--yes"]).expect(&[2]);
    lab.run(&["vacate", "alder", "beech", "cedar", "--yes"]).expect(&[2]);
}

#[test]
fn a_dead_parity_disk_can_leave_instead_of_being_rebuilt() {
    let lab = synced(2, &[]);
    fs::rename(lab.disk("pine"), lab.root().join("dead")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[4]);
    lab.run(&["vacate", "pine", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["status"]).expect(&[0]);
}

#[test]
fn an_image_moves_by_copying_and_cells_that_rotted_are_computed() {
    let lab = synced(1, &[]);
    fs::create_dir(lab.root().join("larger")).unwrap();
    let small =
        lab.run(&["replace", "oak", "--onto", "larger", "--capacity", "3 MB", "--yes"]).expect(&[2, 4]);
    assert!(small.stderr.contains("too small"), "{}", small.stderr);
    // A folder that the pool file has for the disk of another volume would leave it with a mistake.
    let other = format!("\n[[disk]]\nname = \"ash\"\npath = \"{}\"\n", lab.root().join("larger").display());
    let volume = "\n[[volume]]\nname = \"other\"\nkind = \"unstriped\"\ndata = [\"ash\"]\n";
    let text = lab.pool_text();
    lab.write_pool_file(&(text.clone() + &other + volume));
    let refused =
        lab.run(&["replace", "oak", "--onto", "larger", "--capacity", "80 MB", "--yes"]).expect(&[2]);
    assert!(refused.stderr.contains("would have a mistake"), "{}", refused.stderr);
    lab.write_pool_file(&text);
    lab.run(&["verify"]).expect(&[0]);
    let segment = ".zinc-sieve/parity/segment-00000";
    lab.rot(&lab.disk("oak").join(segment), 3_500_000);
    let run = lab.run(&["replace", "oak", "--onto", "larger", "--capacity", "80 MB", "--yes", "--json"]);
    let report = &run.expect(&[0]).list()[0];
    assert_eq!(report["computed"], 1);
    assert!(report["copied"].as_u64().unwrap() > 5);
    let text = lab.pool_text();
    assert!(text.contains(&format!("path = \"{}\"", lab.root().join("larger").display())), "{text}");
    fs::remove_dir_all(lab.disk("oak")).unwrap();
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["drill", "--lose", "cedar"]).expect(&[0]);
    // The data disks were read for the one cell alone.
    lab.run(&["status"]).expect(&[0]);
}

/// One image over two disks: each of them is worth its own rows, in the prediction and in fact.
#[rstest]
fn an_image_over_two_disks_counts_row_by_row(#[values("oak", "elm")] lost: &str) {
    let lab = synced(1, &[("elm", "40 MB")]);
    fs::create_dir(lab.root().join("ash")).unwrap();
    let report = lab
        .run(&["replace", "oak", "--onto", "ash", "--capacity", "8 MB", "--rest", "elm", "--yes", "--json"])
        .expect(&[0])
        .list();
    assert_eq!((&report[0]["computed"], &report[0]["left"]), (&Value::from(0), &Value::from(0)));
    assert!(lab.pool_text().contains("parity = [[\"oak\", \"elm\"]]"), "{}", lab.pool_text());
    lab.run(&["check"]).expect(&[0]);
    assert_eq!(lowest_guard(&lab), 1);
    // What comes later lies on both as well.
    fs::write(lab.disk("alder").join("later.flac"), Chance::new(5).bytes(9_000_000)).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    // Each disk is charged with its own cells, and not with all of them.
    fs::write(lab.disk("alder").join("small.txt"), b"a small change").unwrap();
    let plan = lab.run(&["sync", "--dry-run", "--json"]).expect(&[0, 1]).json();
    let sum = |key: &str| ["oak", "elm"].iter().map(|d| plan[key][d].as_u64().unwrap_or(0)).sum::<u64>();
    let (cells, by_delta) = (plan["cells"].as_u64().unwrap(), plan["cells_by_delta"].as_u64().unwrap());
    assert!(cells > 0 && sum("written_bytes") == cells << 20, "{plan}");
    assert_eq!(sum("read_bytes"), by_delta << 20, "{plan}");
    fs::remove_file(lab.disk("alder").join("small.txt")).unwrap();
    lab.run(&["drill", "--lose", "alder"]).expect(&[0]);
    let half = lab.run(&["drill", "--lose", &format!("alder,{lost}"), "--json"]).expect(&[0, 1]).json();
    let totals = &half["report"]["predicted"];
    let totals = if totals.is_null() { &half["predicted"] } else { totals };
    for fate in ["rebuilt", "gone"] {
        assert!(totals[fate]["files"].as_u64().unwrap() > 0, "{fate}: {half}");
    }
    // No sync would bring back what does not lie there.
    let names = format!("alder,{lost}");
    let now = lab.run(&["fate", "--lose", &names, "--json"]).expect(&[1]).json();
    let synced = lab.run(&["fate", "--lose", &names, "--after", "sync", "--json"]).expect(&[1]).json();
    assert_eq!(now["totals"], synced["totals"], "{synced}");
    let said = lab.run(&["fate", "--lose", &names]).expect(&[1]).stdout;
    let said = said.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(!said.contains("first would save") && said.contains("no parity is left"), "{said}");
    lab.run(&["vacate", "oak", "--yes"]).expect(&[2]);
    let place = if lost == "oak" { lab.root().join("ash") } else { lab.disk("elm") };
    fs::rename(&place, lab.root().join("dead")).unwrap();
    fs::rename(lab.disk("cedar"), lab.root().join("dead-too")).unwrap();
    for new in ["new-data", "new-parity"] {
        fs::create_dir(lab.root().join(new)).unwrap();
    }
    let run = lab
        .run(&["rebuild", "cedar", lost, "--onto", "new-data", "--onto", "new-parity", "--yes", "--json"])
        .expect(&[0, 1])
        .json();
    assert_eq!(run["predicted"], run["obtained"]);
    assert!(run["obtained"]["rebuilt"]["files"].as_u64().unwrap() > 0, "{run}");
    lab.run(&["sync", "--yes", "--accept", "cedar"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    assert_eq!(lowest_guard(&lab), 1);
}

#[test]
fn a_pool_can_begin_with_an_image_over_two_disks() {
    let lab = Lab::new(PROGRAM, 2, 2, "40 MB");
    let text = lab.pool_text().replace("parity = [\"oak\", \"pine\"]", "parity = [[\"oak\", \"pine\"]]");
    assert!(text.contains("[["), "{text}");
    lab.write_pool_file(&text.replacen("capacity = \"40 MB\"", "capacity = \"60 MB\"", 2));
    fs::write(lab.disk("alder").join("long.flac"), Chance::new(6).bytes(45_000_000)).unwrap();
    lab.run(&["check"]).expect(&[0]);
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for disk in ["oak", "pine"] {
        let segment = lab.disk(disk).join(".zinc-sieve/parity/segment-00000");
        assert!(fs::metadata(segment).unwrap().len() > 0, "{disk} has a part of it");
    }
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["drill", "--lose", "alder"]).expect(&[0]);
}

/// A damaged table makes its own parity invalid, and stops nobody else.
#[test]
fn a_damaged_parity_table_is_a_parity_that_is_not_valid() {
    let lab = synced(2, &[]);
    fs::write(lab.disk("oak").join(".zinc-sieve/parity/table"), b"ZSPARITY but no more than that").unwrap();
    assert_eq!(lowest_guard(&lab), 1, "the other parity is left");
    lab.run(&["fate", "--lose", "cedar"]).expect(&[0]);
    lab.run(&["drill", "--lose", "cedar"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[1]);
    let report = lab.run(&["sync", "--yes"]).expect(&[0, 1]);
    assert!(report.stdout.contains("all of it is computed anew"), "{}", report.stdout);
    lab.run(&["verify"]).expect(&[0]);
    assert_eq!(lowest_guard(&lab), 2);
}

/// What went in comes out: the same files, with nothing of ours beside them.
#[test]
fn a_dissolved_volume_leaves_ordinary_files_and_no_trace() {
    let lab = synced(2, &[]);
    let list = |disk: &str| {
        let mut names: Vec<_> = fs::read_dir(lab.disk(disk))
            .unwrap()
            .map(|e| e.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    };
    let contents = |disk: &str| -> Vec<Vec<u8>> {
        let files = list(disk).into_iter().filter(|name| !name.starts_with('.'));
        files.map(|name| fs::read(lab.disk(disk).join(name)).unwrap()).collect()
    };
    lab.run(&["rm", "beech-1.flac", "--yes"]).expect(&[0]);
    let before: Vec<_> = lab.data.iter().map(|disk| contents(disk)).collect();
    lab.run(&["dissolve", "herbarium", "--yes"]).expect(&[2]);
    let plan = lab.run(&["dissolve", "recordings", "--dry-run"]).expect(&[0]).stdout;
    assert!(plan.contains("1 file removed or replaced"), "{plan}");
    lab.run(&["dissolve", "recordings", "--yes"]).expect(&[0]);
    let after: Vec<_> = lab.data.iter().map(|disk| contents(disk)).collect();
    assert_eq!(before, after);
    for disk in lab.data.iter().chain(&lab.parity) {
        assert!(!list(disk).contains(&".zinc-sieve".to_string()), "{disk}");
    }
    assert_eq!(list("oak"), Vec::<String>::new());
    let gone = lab.run(&["status"]).expect(&[2]);
    assert!(gone.stderr.contains("not been created"), "{}", gone.stderr);
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(lowest_guard(&lab), 2);
}

/// One of two volumes ends, and the other one is as it was.
#[test]
fn one_of_two_volumes_ends_and_the_other_goes_on() {
    let lab = Lab::new(PROGRAM, 4, 2, "40 MB");
    let text = lab.pool_text();
    let start = text.find("[[volume]]").unwrap();
    let volumes = "[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n\n\
         [[volume]]\nname = \"herbarium\"\nkind = \"unstriped\"\ndata = [\"cedar\", \"elm\"]\nparity = [\"pine\"]\n";
    lab.write_pool_file(&format!("{}{volumes}", &text[..start]));
    for disk in &lab.data {
        fs::write(lab.disk(disk).join(format!("{disk}.tif")), Chance::new(9).bytes(900_000)).unwrap();
    }
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["dissolve", "herbarium", "--yes"]).expect(&[0]);
    assert!(!lab.disk("cedar").join(".zinc-sieve").exists());
    assert!(lab.disk("cedar").join("cedar.tif").exists());
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["drill", "--lose", "alder"]).expect(&[0]);
    assert_eq!(lowest_guard(&lab), 1);
}

/// Killed at any moment, a volume that ends has all its files, and running it again ends it.
#[test]
fn a_dissolve_that_is_killed_leaves_all_files() {
    let mut chance = Chance::new(24);
    for round in 0..24 {
        let lab = synced(2, &[]);
        let files = |disk: &String| -> Vec<Vec<u8>> {
            (0..5).map(|n| fs::read(lab.disk(disk).join(format!("{disk}-{n}.flac"))).unwrap()).collect()
        };
        let before: Vec<_> = lab.data.iter().map(files).collect();
        let mut command = lab.command(&["dissolve", "recordings", "--yes"]);
        command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
        let mut child = command.spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_micros(chance.below(25_000) as u64));
        child.kill().unwrap();
        child.wait().unwrap();
        for _ in 0..8 {
            if lab.run(&["dissolve", "recordings", "--yes"]).stderr.contains("not been created") {
                break;
            }
        }
        assert_eq!(lab.data.iter().map(files).collect::<Vec<_>>(), before, "round {round}");
        for disk in lab.data.iter().chain(&lab.parity) {
            assert!(!lab.disk(disk).join(".zinc-sieve").exists(), "round {round}: {disk}");
        }
    }
}

/// What a missing disk held needs the parity: neither goes while it is away.
#[test]
fn no_parity_leaves_while_a_data_disk_is_missing() {
    let lab = synced(2, &[]);
    fs::rename(lab.disk("cedar"), lab.root().join("dead")).unwrap();
    for arguments in [&["vacate", "oak", "--yes"][..], &["dissolve", "recordings", "--yes"]] {
        let run = lab.run(arguments).expect(&[4]);
        assert!(
            run.stderr.contains("only with the parity") && run.stderr.contains("rebuild"),
            "{}",
            run.stderr
        );
    }
    fs::create_dir(lab.disk("new")).unwrap();
    lab.run(&["rebuild", "cedar", "--onto", "new", "--yes"]).expect(&[0]);
    lab.run(&["vacate", "oak", "--yes"]).expect(&[0]);
    lab.run(&["dissolve", "recordings", "--yes"]).expect(&[0]);
}

/// Something of ours that lost its label is not written over.
#[test]
fn a_disk_that_lost_its_label_does_not_join() {
    let lab = synced(1, &[("elm", "40 MB")]);
    fs::create_dir_all(lab.disk("elm").join(".zinc-sieve/held")).unwrap();
    fs::write(lab.disk("elm").join(".zinc-sieve/held/1-0"), b"somebody's song").unwrap();
    for role in ["data", "parity"] {
        let run = lab.run(&["grow", "elm", "--as", role, "--yes"]).expect(&[4]);
        assert!(run.stderr.contains("without a label"), "{}", run.stderr);
    }
    assert_eq!(fs::read(lab.disk("elm").join(".zinc-sieve/held/1-0")).unwrap(), b"somebody's song");
}

/// A disk that left, or that was another pool's, can be used again once it was said whose it was; a member, or one with
/// files in our folders, never.
#[test]
fn a_former_member_is_used_again_after_saying_whose_it_was() {
    let lab = synced(1, &[("elm", "40 MB")]);
    fs::create_dir(lab.root().join("ash")).unwrap();
    lab.run(&["replace", "oak", "--onto", "ash", "--yes"]).expect(&[0]);
    let former = lab.disk("oak").display().to_string();
    fs::write(lab.disk("oak").join("mine.txt"), b"an ordinary file").unwrap();
    // Where it is to become a member it says how that goes.
    let other = Lab::new(PROGRAM, 1, 0, "40 MB");
    fs::remove_dir_all(other.disk("alder")).unwrap();
    let text = other.pool_text().replace(&other.disk("alder").display().to_string(), &former);
    other.write_pool_file(&text);
    let refused = other.run(&["create", "--yes"]).expect(&[4]).stderr;
    let was = refused.split("--was \"").nth(1).unwrap().split('"').next().unwrap().to_string();
    assert!(was.starts_with("oak of "), "{refused}");
    assert!(lab.run(&["wipe", &former, "--yes"]).expect(&[4]).stderr.contains(&was), "says whose it was");
    lab.run(&["wipe", &former, "--was", "oak of another", "--yes"]).expect(&[4]);
    // Where its folder is called otherwise, its own name finds it; a member's name finds nothing.
    fs::rename(&former, lab.root().join("old")).unwrap();
    assert!(lab.run(&["wipe", "oak", "--yes"]).expect(&[4]).stderr.contains("/old was disk oak of "));
    fs::rename(lab.disk("alder"), lab.root().join("away")).unwrap();
    assert!(
        lab.run(&["wipe", "alder", "--yes"]).expect(&[4]).stderr.contains("alder is a member of this pool")
    );
    fs::rename(lab.root().join("away"), lab.disk("alder")).unwrap();
    assert!(
        lab.run(&["wipe", "willow", "--yes"]).expect(&[2]).stderr.contains("no former disk of that name")
    );
    fs::rename(lab.root().join("old"), &former).unwrap();
    let member = lab.disk("alder").display().to_string();
    let of_member = was.replace("oak", "alder");
    let refused = lab.run(&["wipe", &member, "--was", &of_member, "--yes"]).expect(&[4]).stderr;
    assert!(refused.contains("a member of this pool"), "{refused}");
    // Somebody's files in our folders stay.
    fs::create_dir_all(lab.disk("oak").join(".zinc-sieve/held")).unwrap();
    fs::write(lab.disk("oak").join(".zinc-sieve/held/a"), b"removed by mistake").unwrap();
    assert!(lab.run(&["wipe", &former, "--was", &was, "--yes"]).expect(&[4]).stderr.contains("held"));
    assert!(lab.disk("oak").join(".zinc-sieve/label.toml").exists());
    fs::remove_dir_all(lab.disk("oak").join(".zinc-sieve/held")).unwrap();
    // Somebody is at work on it.
    let path = lab.disk("oak").join(".zinc-sieve/lock");
    let lock = fs::OpenOptions::new().write(true).create(true).truncate(false).open(path).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    lab.run(&["wipe", &former, "--was", &was, "--yes"]).expect(&[4]);
    drop(lock);
    lab.run(&["wipe", &former, "--was", &was, "--dry-run"]).expect(&[0]);
    assert!(lab.disk("oak").join(".zinc-sieve").exists(), "a dry run changes nothing");
    lab.run(&["wipe", &former, "--was", &was, "--yes"]).expect(&[0]);
    assert!(!lab.disk("oak").join(".zinc-sieve").exists());
    assert_eq!(fs::read(lab.disk("oak").join("mine.txt")).unwrap(), b"an ordinary file");
    assert!(lab.run(&["wipe", &former, "--yes"]).expect(&[2]).stderr.contains("no label"));
    other.run(&["create", "--yes"]).expect(&[0]);
    assert_eq!(lowest_guard(&lab), 1, "the pool that it left is as it was");
}
