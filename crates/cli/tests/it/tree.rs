//! Guards against a file that comes out of a pool otherwise than it went in: twenty thousand of them with every oddity go in,
//! settle from the cache, are guarded, a third of them dies and is rebuilt, and the pool is taken apart. FILES sets how many.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::fs;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, lchown, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, UNIX_EPOCH};

use rustix::fs::{XattrFlags, lgetxattr, llistxattr, lsetxattr};
use sieve_testkit::{Chance, Lab, paths};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// All that an independent look sees of something but its name.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Seen {
    what: Vec<u8>,
    mode: u32,
    owner: (u32, u32),
    mtime: (i64, i64),
    extended: BTreeMap<OsString, Vec<u8>>,
    /// Whether it takes less space than its length, which is what a hole is for.
    is_sparse: bool,
}

impl Seen {
    fn is_symlink(&self) -> bool {
        rustix::fs::FileType::from_raw_mode(self.mode).is_symlink()
    }
}

fn extended_of(path: &Path) -> BTreeMap<OsString, Vec<u8>> {
    let mut names = vec![0_u8; 65_536];
    let length = llistxattr(path, &mut names[..]).unwrap_or(0);
    let listed = names[..length].split(|byte| *byte == 0).filter(|name| !name.is_empty());
    let value = |name: &[u8]| {
        let name = OsStr::from_bytes(name);
        let mut value = vec![0_u8; 65_536];
        let length = lgetxattr(path, name, &mut value[..]).unwrap_or(0);
        (name.to_os_string(), value[..length].to_vec())
    };
    listed.map(value).collect()
}

fn seen(path: &Path) -> Seen {
    let meta = fs::symlink_metadata(path).unwrap();
    let what = if meta.is_dir() {
        b"a folder".to_vec()
    } else if meta.is_symlink() {
        fs::read_link(path).unwrap().into_os_string().into_vec()
    } else {
        fs::read(path).unwrap()
    };
    // The times of a folder are those of its last change here; those of a symlink cannot always be set.
    let mtime = if meta.is_file() { (meta.mtime(), meta.mtime_nsec()) } else { (0, 0) };
    Seen {
        what,
        mode: meta.permissions().mode(),
        owner: (meta.uid(), meta.gid()),
        mtime,
        extended: extended_of(path),
        is_sparse: meta.is_file() && meta.blocks() * 512 + 65_536 < meta.len(),
    }
}

/// Paths that are names of one file.
type Links = BTreeSet<BTreeSet<Vec<u8>>>;

/// What lies below a folder, and which names are of one file.
fn look(root: &Path) -> (BTreeMap<Vec<u8>, Seen>, Links) {
    let mut links: BTreeMap<(u64, u64), BTreeSet<Vec<u8>>> = BTreeMap::new();
    let mut all = BTreeMap::new();
    for key in paths(root) {
        if key.starts_with(b".zinc-sieve") {
            continue;
        }
        let path = root.join(OsStr::from_bytes(&key));
        let meta = fs::symlink_metadata(&path).unwrap();
        if meta.is_file() && meta.nlink() > 1 {
            links.entry((meta.dev(), meta.ino())).or_default().insert(key.clone());
        }
        all.insert(key, seen(&path));
    }
    (all, links.into_values().collect())
}

fn name_of(number: usize, chance: &mut Chance) -> OsString {
    match number % 97 {
        0 => OsString::from_vec(format!("nacht \n{number}\u{fe}").into_bytes()),
        1 => OsString::from_vec([&[0xff, 0xfe, b' '][..], number.to_string().as_bytes()].concat()),
        2 => OsString::from(format!("{number}{}", "x".repeat(240 - chance.below(100)))),
        3 => OsString::from(format!("-rf {number} $(owl) ; \"'`")),
        4 => OsString::from(format!(" zaunkönig_{number} ")),
        _ => OsString::from(format!("take-{number}.flac")),
    }
}

/// A tree of so many files.
fn plant(root: &Path, count: usize) {
    let mut chance = Chance::new(97);
    let folders: Vec<PathBuf> = (0..count.div_ceil(90))
        .map(|number| match number % 5 {
            0 => root.join(format!("dawn {number}")),
            1 => root.join(format!("nest/ä{number}/deep/deeper")),
            _ => root.join(format!("herbarium/sheet-{number}")),
        })
        .collect();
    folders.iter().for_each(|folder| fs::create_dir_all(folder).unwrap());
    fs::create_dir_all(root.join("an empty one/and one in it")).unwrap();
    let mut last: Option<PathBuf> = None;
    for number in 0..count {
        let path = folders[number % folders.len()].join(name_of(number, &mut chance));
        match (number % 50, &last) {
            (7, Some(other)) => fs::hard_link(other, &path).unwrap(),
            (11, _) => symlink(format!("../take-{}.flac", chance.below(count)), &path).unwrap(),
            (13, _) => sparse(&path, number),
            _ => {
                let longest = if number % 100 == 0 { 300_000 } else { 6_000 };
                let length = chance.below(longest);
                fs::write(&path, chance.bytes(length)).unwrap();
            }
        }
        if number % 50 != 7 && number % 50 != 11 {
            adorn(&path, number);
            last = Some(path);
        }
    }
}

fn sparse(path: &Path, number: usize) {
    let file = fs::File::create(path).unwrap();
    file.set_len(1_500_000 + number as u64).unwrap();
    file.write_all_at(b"a song in the middle of the night", 700_000).unwrap();
}

fn adorn(path: &Path, number: usize) {
    if number % 30 == 3 {
        // Where a filesystem does not take them there are none to compare.
        let _ = lsetxattr(path, "user.site", number.to_string().as_bytes(), XattrFlags::empty());
        let _ = lsetxattr(path, "user.empty", b"", XattrFlags::empty());
    }
    if number % 60 == 9 {
        let set = Command::new("setfacl")
            .args(["-m", "u:1234:r,g:4321:rw"])
            .arg(path)
            .stderr(Stdio::null())
            .status();
        assert!(set.is_ok_and(|status| status.success() || status.code() == Some(1)));
    }
    if number % 40 == 5 {
        // Only root may; for others the owner stays.
        let _ = lchown(path, Some(1000 + number as u32 % 7), Some(2000));
    }
    let mode = [0o644, 0o600, 0o440, 0o755, 0o664, 0o4755][number % 6];
    if number % 60 != 9 {
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    }
    let file = fs::File::open(path).unwrap();
    let time = Duration::new(1_000_000_000 + number as u64 * 37, 1 + number as u32 % 999_999_999);
    file.set_modified(UNIX_EPOCH + time).unwrap();
}

#[test]
fn twenty_thousand_odd_files_come_out_as_they_went_in() {
    let count: usize = std::env::var("FILES").ok().and_then(|n| n.parse().ok()).unwrap_or(20_000);
    let disks = [("alder", 800), ("beech", 800), ("cedar", 800), ("oak", 800), ("flint", 2000)];
    let volume = "data = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\nreserve = \"1 MB\"";
    let lab = Lab::of(PROGRAM, &disks, volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let tree = lab.root().join("tree");
    fs::create_dir(&tree).unwrap();
    plant(&tree, count);
    let (before, links_before) = look(&tree);
    assert!(before.len() >= count && !links_before.is_empty());
    lab.run(&["put", "tree", ".", "--yes"]).expect(&[0]);
    // Over the cache, to the disks.
    assert!(!look(&lab.disk("flint").join("tree")).0.is_empty());
    lab.run(&["settle", "--then-sync", "--yes"]).expect(&[0]);
    // A third of it is lost and comes back from parity.
    fs::remove_dir_all(lab.disk("beech")).unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    lab.run(&["rebuild", "beech", "--onto", "new", "--yes"]).expect(&[0]);
    lab.run(&["dissolve", "recordings", "--yes"]).expect(&[0]);
    assert!(!lab.disk("flint").join("tree").exists(), "nothing stays on the cache");
    let after = gathered(&lab, &["alder", "new", "cedar"], false);
    compare(&(before, links_before), &after);
}

/// What lies on these folders together; of a mirrored volume each file may be there twice, and looks the same.
fn gathered(lab: &Lab, folders: &[&str], may_be_twice: bool) -> (BTreeMap<Vec<u8>, Seen>, Links) {
    let (mut all, mut links) = (BTreeMap::new(), Links::new());
    // A disk that came just now has nothing of it yet.
    let trees = folders.iter().map(|folder| lab.root().join(folder).join("tree"));
    for tree in trees.filter(|tree| tree.exists()) {
        let (found, found_links) = look(&tree);
        for (path, seen) in found {
            let twin = all.insert(path.clone(), seen.clone());
            // A volume that was mirrored has its symlinks on all disks still.
            let may_be = may_be_twice || seen.what == b"a folder" || seen.is_symlink();
            assert!(twin.is_none_or(|twin| may_be && twin == seen), "{} is there twice", path.escape_ascii());
        }
        links.extend(found_links);
    }
    (all, links)
}

fn compare(before: &(BTreeMap<Vec<u8>, Seen>, Links), after: &(BTreeMap<Vec<u8>, Seen>, Links)) {
    for (path, expected) in &before.0 {
        let found = after.0.get(path).unwrap_or_else(|| panic!("{} is gone", path.escape_ascii()));
        let (short, expected_short) =
            (Seen { what: Vec::new(), ..found.clone() }, Seen { what: Vec::new(), ..expected.clone() });
        assert_eq!(short, expected_short, "{}", path.escape_ascii());
        assert!(found.what == expected.what, "{}: other content", path.escape_ascii());
    }
    assert_eq!(after.0.len(), before.0.len(), "nothing else is there");
    assert_eq!(after.1, before.1);
}

/// Disks are exchanged, leave and come, files are evened out, the volume becomes other kinds and what it was: at each step
/// every file is there as it was, and guarded after the next sync.
#[test]
fn odd_files_go_through_every_change_of_a_pool() {
    let count: usize = std::env::var("FILES").ok().and_then(|n| n.parse().ok()).unwrap_or(2_000);
    let disks = [("alder", 2000), ("beech", 2000), ("cedar", 2000), ("oak", 2000)];
    let lab = Lab::of(
        PROGRAM,
        &disks,
        "kind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]",
    );
    lab.run(&["create", "--yes"]).expect(&[0]);
    let tree = lab.root().join("tree");
    fs::create_dir(&tree).unwrap();
    plant(&tree, count);
    let before = look(&tree);
    let lab = std::mem::ManuallyDrop::new(lab);
    lab.run(&["put", "tree", ".", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("new")).unwrap();
    let steps: [(&[&str], &[&str], bool); 7] = [
        (&["replace", "alder", "--onto", "new"], &["new", "beech", "cedar"], false),
        (&["vacate", "cedar"], &["new", "beech"], false),
        (&["grow", "cedar", "--as", "data"], &["new", "beech", "cedar"], false),
        (&["even-out"], &["new", "beech", "cedar"], false),
        (&["convert", "recordings", "--to", "tiered", "--fast", "beech"], &["new", "beech", "cedar"], false),
        (&["convert", "recordings", "--to", "mirrored"], &["new", "beech", "cedar"], true),
        (&["convert", "recordings", "--to", "unstriped"], &["new", "beech", "cedar"], false),
    ];
    for (step, on, may_be_twice) in steps {
        lab.run(&[step, &["--yes"]].concat()).expect(&[0]);
        compare(&before, &gathered(&lab, on, may_be_twice));
        lab.run(&["sync", "--yes"]).expect(&[0]);
        compare(&before, &gathered(&lab, on, may_be_twice));
        let status = lab.run(&["status", "--json"]).expect(&[0, 5]).json();
        assert_eq!(
            (&status["guard"][0]["level"], &status["guard"][0]["files"]),
            (&0.into(), &0.into()),
            "{step:?}"
        );
    }
    lab.run(&["verify"]).expect(&[0]);
}
