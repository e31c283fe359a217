//! Guards against files that come out otherwise than they went in, and against commands that disturb each other.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, UNIX_EPOCH};

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab, Run, paths};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn json(run: &Run) -> Value {
    serde_json::from_str(&run.stdout).unwrap_or_else(|e| panic!("{e}: {}\n{}", run.stdout, run.stderr))
}

#[derive(Debug, PartialEq)]
enum Seen {
    Folder { mode: u32 },
    Symlink(PathBuf),
    File { bytes: u64, hash: [u8; 8], mode: u32, mtime: (i64, i64), attribute: Vec<u8> },
}

fn attribute_of(path: &Path) -> Vec<u8> {
    let mut value = vec![0; 256];
    let length = rustix::fs::lgetxattr(path, "user.site", &mut value[..]).unwrap_or(0);
    value.truncate(length);
    value
}

/// Everything below a folder, as an independent look sees it.
fn look(root: &Path) -> BTreeMap<Vec<u8>, Seen> {
    paths(root).into_iter().map(|key| (key.clone(), seen_at(&root.join(OsStr::from_bytes(&key))))).collect()
}

fn seen_at(path: &Path) -> Seen {
    let meta = fs::symlink_metadata(path).unwrap();
    let mode = meta.permissions().mode();
    if meta.is_dir() {
        return Seen::Folder { mode };
    }
    if meta.is_symlink() {
        return Seen::Symlink(fs::read_link(path).unwrap());
    }
    // A hash of its own, so that the comparison does not lean on the program's.
    let mix = |h: u64, b: &u8| (h ^ u64::from(*b)).wrapping_mul(0x100_0000_01b3);
    let hash = fs::read(path).unwrap().iter().fold(0xcbf2_9ce4_8422_2325, mix);
    Seen::File {
        bytes: meta.len(),
        hash: hash.to_le_bytes(),
        mode,
        mtime: (meta.mtime(), meta.mtime_nsec()),
        attribute: attribute_of(path),
    }
}

/// A tree with every oddity.
fn odd_tree(root: &Path) {
    let mut chance = Chance::new(61);
    fs::create_dir_all(root.join("dawn/empty")).unwrap();
    fs::create_dir_all(root.join("nest/ä ö/deep/deeper")).unwrap();
    for (name, size) in [
        ("dawn/a", 0),
        ("dawn/b", 1),
        ("nest/c", 4096),
        ("nest/ä ö/d", 1_048_577),
        ("nest/ä ö/deep/e", 70_000),
    ] {
        fs::write(root.join(name), chance.bytes(size)).unwrap();
    }
    fs::write(root.join(OsStr::from_bytes(b"dawn/\xff\xfe\n odd")), b"odd").unwrap();
    fs::write(root.join("dawn").join("x".repeat(255)), b"long").unwrap();
    fs::hard_link(root.join("nest/c"), root.join("dawn/c-again")).unwrap();
    symlink("../nest/c", root.join("dawn/link")).unwrap();
    symlink("/nowhere", root.join("dawn/dangling")).unwrap();
    let sparse = fs::File::create(root.join("nest/sparse.img")).unwrap();
    sparse.set_len(40_000_000).unwrap();
    sparse.write_all_at(b"middle", 20_000_000).unwrap();
    drop(sparse);
    fs::set_permissions(root.join("dawn/b"), fs::Permissions::from_mode(0o640)).unwrap();
    fs::set_permissions(root.join("dawn/empty"), fs::Permissions::from_mode(0o700)).unwrap();
    // Not every filesystem takes attributes; where it does, they have to come along.
    let _ = rustix::fs::setxattr(root.join("nest/c"), "user.site", b"hedge", rustix::fs::XattrFlags::empty());
    let file = fs::File::options().write(true).open(root.join("nest/ä ö/d")).unwrap();
    file.set_modified(UNIX_EPOCH + Duration::new(1_500_000_000, 123_456_789)).unwrap();
}

fn on_disks(lab: &Lab) -> BTreeMap<Vec<u8>, Seen> {
    lab.data.iter().flat_map(|d| look(&lab.disk(d))).collect()
}

#[test]
fn a_tree_with_every_oddity_goes_in_and_comes_out_as_it_was() {
    let lab = Lab::new(PROGRAM, 3, 2, "100 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    let tree = lab.root().join("tree");
    odd_tree(&tree);
    let before = look(lab.root().join("tree").as_path());
    lab.run(&["put", "tree", ".", "--yes"]).expect(&[0]);
    let below: BTreeMap<Vec<u8>, Seen> = on_disks(&lab)
        .into_iter()
        .filter_map(|(path, seen)| Some((path.strip_prefix(b"tree/")?.to_vec(), seen)))
        .collect();
    assert_eq!(below, before, "on the disks");
    let same = |a: &str, b: &str| {
        let inode =
            |p: &str| lab.data.iter().find_map(|d| fs::metadata(lab.disk(d).join("tree").join(p)).ok());
        inode(a).unwrap().ino() == inode(b).unwrap().ino()
    };
    assert!(same("nest/c", "dawn/c-again"), "two names of one file stay so");
    fs::create_dir(lab.root().join("out")).unwrap();
    lab.run(&["get", "tree", "out"]).expect(&[0]);
    assert_eq!(look(&lab.root().join("out/tree")).len(), before.len());
    for (path, seen) in look(&lab.root().join("out/tree")) {
        if !matches!(seen, Seen::Folder { .. }) {
            assert_eq!(Some(&seen), before.get(&path), "{}", path.escape_ascii());
        }
    }
    // Any one disk dies, and comes back the same.
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let (whole, dead) = (on_disks(&lab), lab.disk("beech"));
    fs::remove_dir_all(&dead).unwrap();
    fs::create_dir(&dead).unwrap();
    lab.run(&["rebuild", "beech", "--onto", "beech", "--yes"]).expect(&[0]);
    assert_eq!(on_disks(&lab), whole);
}

#[test]
fn what_is_replaced_or_removed_guards_its_neighbours_until_the_next_sync() {
    let lab = Lab::new(PROGRAM, 2, 1, "60 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(62);
    for disk in ["alder", "beech"] {
        fs::write(lab.disk(disk).join(format!("{disk}.dat")), chance.bytes(900_000)).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(lab.root().join("alder.dat"), chance.bytes(500_000)).unwrap();
    lab.run(&["put", "alder.dat", ".", "--yes"]).expect(&[4]);
    lab.run(&["put", "alder.dat", ".", "--replace", "--yes"]).expect(&[0]);
    let fate =
        |lab: &Lab| json(&lab.run(&["fate", "--lose", "beech", "--json"]).expect(&[0, 1]))["totals"].clone();
    assert_eq!(fate(&lab)["rebuilt"]["files"], 1, "beech's file comes back: what alder held is still there");
    let status = json(&lab.run(&["status", "--json"]).expect(&[5]));
    assert_eq!(
        (&status["held"]["files"], &status["held"]["bytes"]),
        (&Value::from(1), &Value::from(900_000))
    );
    // The same change behind our back would have cost it.
    let behind = Lab::new(PROGRAM, 2, 1, "60 MB");
    behind.run(&["create", "--yes"]).expect(&[0]);
    for disk in ["alder", "beech"] {
        fs::write(behind.disk(disk).join(format!("{disk}.dat")), chance.bytes(900_000)).unwrap();
    }
    behind.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(behind.disk("alder").join("alder.dat"), chance.bytes(500_000)).unwrap();
    assert_eq!(fate(&behind)["rebuilt"]["files"], 0);
    let run = lab.run(&["sync", "--yes", "--json"]).expect(&[0]);
    assert_eq!(json(&run)["released"], 1);
    assert_eq!(fs::read_dir(lab.disk("alder").join(".zinc-sieve/held")).unwrap().count(), 0);
}

#[test]
fn removing_takes_what_it_was_told_and_nothing_else() {
    let lab = Lab::new(PROGRAM, 2, 1, "60 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (disk, name) in
        [("alder", "dawn/a"), ("alder", "dawn/sub/b"), ("beech", "dawn/c"), ("beech", "dawn-chorus/d")]
    {
        let path = lab.disk(disk).join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, name).unwrap();
    }
    fs::hard_link(lab.disk("alder").join("dawn/a"), lab.disk("alder").join("twin")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert!(lab.run(&["rm", "dawn", "--yes"]).expect(&[2]).stderr.contains("--recursive"));
    assert!(lab.run(&["rm", "dwan", "--yes"]).expect(&[2]).stderr.contains("there is no dwan"));
    lab.run(&["rm", "dawn", "--recursive", "--dry-run"]).expect(&[0]);
    assert!(lab.disk("alder").join("dawn/a").exists());
    lab.run(&["rm", "dawn", "--recursive", "--yes"]).expect(&[0]);
    assert!(!lab.disk("alder").join("dawn").exists() && !lab.disk("beech").join("dawn").exists());
    assert_eq!(
        fs::read(lab.disk("alder").join("twin")).unwrap(),
        b"dawn/a",
        "its other name is another file's"
    );
    assert!(lab.disk("beech").join("dawn-chorus/d").exists());
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    assert_eq!(json(&lab.run(&["status", "--json"]).expect(&[0]))["guard"][0]["files"], 0);
}

#[rstest]
#[case("emptiest", ["beech", "alder", "alder"])]
#[case("in-order", ["alder", "alder", "alder"])]
#[case("keep-together", ["beech", "beech", "alder"])]
fn files_land_where_the_placement_says(#[case] placement: &str, #[case] expected: [&str; 3]) {
    let lab = Lab::new(PROGRAM, 2, 1, "60 MB");
    let text = lab.pool_text().replace("kind =", &format!("placement = \"{placement}\"\nkind ="));
    lab.write_pool_file(&text);
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::write(lab.disk("alder").join("there-already"), vec![1; 1_000_000]).unwrap();
    let landed = |name: &str, size: usize, folder: &str| {
        fs::write(lab.root().join(name), vec![2; size]).unwrap();
        lab.run(&["put", name, folder, "--yes"]).expect(&[0]);
        *["alder", "beech"].iter().find(|d| lab.disk(d).join(folder).join(name).exists()).unwrap()
    };
    // Two into one folder, then one into another.
    let disks = [landed("a", 3_000_000, "dawn"), landed("b", 1_000, "dawn"), landed("c", 1_000, "nest")];
    assert_eq!(disks, expected);
}

#[test]
fn putting_removing_and_looking_go_on_while_a_sync_runs() {
    let lab = Lab::new(PROGRAM, 3, 1, "300 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(63);
    for disk in ["alder", "beech", "cedar"] {
        for number in 0..40 {
            fs::write(lab.disk(disk).join(format!("{disk}-{number}")), chance.bytes(1_500_000)).unwrap();
        }
    }
    let mut sync = lab.command(&["sync", "--yes"]);
    let mut running = sync.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let mut meanwhile = 0;
    for number in 0..12 {
        fs::write(lab.root().join(format!("new-{number}")), chance.bytes(200_000)).unwrap();
        let (new, old) = (format!("new-{number}"), format!("alder-{number}"));
        let put = ["put", &new, ".", "--yes"];
        for command in [&put[..], &["rm", &old, "--yes"], &["fate", "--lose", "beech"]] {
            lab.run(command).expect(if command[0] == "fate" { &[0, 1] } else { &[0] });
            meanwhile += u32::from(running.try_wait().unwrap().is_none());
        }
    }
    let output = running.wait_with_output().unwrap();
    assert!([0, 1].contains(&output.status.code().unwrap()), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(meanwhile > 0, "the sync was too fast to be met");
    // What changed meanwhile waits for the next sync; nothing of it is lost.
    lab.run(&["sync", "--yes", "--accept", "alder"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    let fate = json(&lab.run(&["fate", "--lose", "cedar", "--json"]).expect(&[0]));
    assert_eq!(fate["files"].as_array().unwrap().len(), 120 - 12 + 12);
}

#[test]
fn getting_refuses_to_overwrite_and_tells_damage() {
    let lab = Lab::new(PROGRAM, 1, 1, "60 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::write(lab.disk("alder").join("a"), vec![3; 50_000]).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("out")).unwrap();
    lab.run(&["get", "a", "out"]).expect(&[0]);
    assert!(lab.run(&["get", "a", "out"]).expect(&[4]).stderr.contains("exists already"));
    lab.rot(&lab.disk("alder").join("a"), 4_000);
    fs::create_dir(lab.root().join("again")).unwrap();
    let run = lab.run(&["get", "a", "again"]).expect(&[1]);
    assert!(run.stdout.contains("damaged on its disk"), "{}", run.stdout);
    assert_eq!(fs::read(lab.root().join("again/a")).unwrap(), vec![3; 50_000], "it comes from parity");
    // Without parity there is no other.
    fs::rename(lab.disk("oak"), lab.root().join("away")).unwrap();
    fs::create_dir(lab.root().join("more")).unwrap();
    assert!(lab.run(&["get", "a", "more"]).expect(&[3]).stderr.contains("damaged"));
    assert_eq!(fs::read_dir(lab.root().join("more")).unwrap().count(), 0, "nothing damaged is handed out");
    let listed = Command::new(PROGRAM).args(["ls", "b"]).current_dir(lab.root()).output().unwrap();
    assert!([0, 2].contains(&listed.status.code().unwrap()));
}

/// A slip of the pen is told with what was meant.
#[rstest]
#[case(&["get", "dawn/chrous.flac", "."], "did you mean dawn/chorus.flac?")]
#[case(&["rm", "dawn/chorus.flc", "--yes"], "did you mean dawn/chorus.flac?")]
#[case(&["get", "chorus.flac", "."], "did you mean dawn/chorus.flac?")]
#[case(&["ls", "dwan"], "did you mean dawn?")]
#[case(&["fate", "--lose", "alder", "--explain", "dawn/chorus.fla"], "did you mean dawn/chorus.flac?")]
#[case(&["fate", "--lose", "aldr"], "did you mean `alder`?")]
#[case(&["sync", "--disks", "baech"], "did you mean `beech`?")]
#[case(&["ls", "--volume", "recrodings"], "did you mean `recordings`?")]
#[case(&["get", "nothing/like/it", "."], "zinc-sieve ls")]
fn what_was_meant_is_named(#[case] arguments: &[&str], #[case] words: &str) {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::create_dir_all(lab.disk("alder").join("dawn")).unwrap();
    fs::write(lab.disk("alder").join("dawn/chorus.flac"), vec![1; 9_000]).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let run = lab.run(arguments).expect(&[2]);
    assert!(run.stderr.contains(words), "{}", run.stderr);
}

/// Without parity a sync has nothing to compute: what `put` has hashed already is not read again.
#[test]
fn a_volume_without_parity_is_not_read_again() {
    let lab = Lab::new(PROGRAM, 2, 0, "60 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("card")).unwrap();
    let mut chance = Chance::new(3);
    for n in 0..4 {
        fs::write(lab.root().join(format!("card/{n}.bin")), chance.bytes(3_000_000)).unwrap();
    }
    lab.run(&["put", "card", ".", "--yes"]).expect(&[0]);
    fs::write(lab.disk("alder").join("direct.bin"), chance.bytes(500_000)).unwrap();
    let bytes = |told: &Value, key: &str| -> u64 {
        told[key].as_object().unwrap().values().map(|b| b.as_u64().unwrap()).sum()
    };
    let plan = lab.run(&["sync", "--dry-run", "--json"]).expect(&[0, 1]).json();
    assert!((500_000..600_000).contains(&bytes(&plan, "read_bytes")), "{plan}");
    let done = lab.run(&["sync", "--yes", "--json"]).expect(&[0]).json();
    assert!((500_000..600_000).contains(&bytes(&done, "read_bytes")), "{done}");
    assert_eq!(done["files_checksummed"], 1);
    let status = lab.run(&["status"]).expect(&[0]);
    assert!(status.stdout.contains("all is well"), "{}", status.stdout);
    let again = lab.run(&["sync", "--yes", "--json"]).expect(&[0]).json();
    assert_eq!((bytes(&again, "read_bytes"), &again["cells"]), (0, &Value::from(0)), "{again}");
    // The checksums are those of the content: a flipped byte is found.
    assert_eq!(lab.run(&["verify", "--json"]).expect(&[0]).json()["files_checked"], 5);
    let path =
        ["alder", "beech"].map(|d| lab.disk(d).join("card/0.bin")).into_iter().find(|p| p.exists()).unwrap();
    let times = fs::metadata(&path).unwrap().modified().unwrap();
    let file = fs::OpenOptions::new().write(true).open(&path).unwrap();
    file.write_all_at(b"flipped", 1_234_567).unwrap();
    file.set_modified(times).unwrap();
    lab.run(&["verify"]).expect(&[1]);
}
