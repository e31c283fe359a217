//! A mounted volume beside the filesystem that its disks are on, in one run, in turns: `cargo bench --bench mounted`. What is
//! printed is native time ÷ time through the mount: 1 is native, less is slower. Figures are printed, not judged. Needs root.

#![allow(
    clippy::disallowed_methods,
    clippy::unwrap_used,
    reason = "the benchmark's own files, and it may fail"
)]

use std::fs;
use std::io::{Read, Write};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const ROUNDS: usize = 5;
const LARGE: usize = 256 << 20;
const SMALL_FILES: usize = 4000;

/// One thing that programs do, in a folder that `prepare` made ready.
struct Row {
    name: &'static str,
    prepare: fn(&Path),
    work: fn(&Path),
}

fn nothing(_: &Path) {}

fn make_large(folder: &Path) {
    if !folder.join("large").exists() {
        write_large(folder, false);
    }
    read_large(folder);
}

fn write_large(folder: &Path, syncs: bool) {
    let block = vec![0x5a; 1 << 20];
    let mut file = fs::File::create(folder.join("large")).unwrap();
    for _ in 0..LARGE >> 20 {
        file.write_all(&block).unwrap();
    }
    if syncs {
        file.sync_all().unwrap();
    }
}

fn read_large(folder: &Path) {
    let mut block = vec![0; 1 << 20];
    let mut file = fs::File::open(folder.join("large")).unwrap();
    while file.read(&mut block).unwrap() > 0 {}
}

/// Places all over a file, the same in each round.
fn places() -> impl Iterator<Item = u64> {
    (0..20_000_u64).map(|n| n.wrapping_mul(2_654_435_761) % (LARGE as u64 / 4096) * 4096)
}

fn make_small(folder: &Path) {
    fs::create_dir_all(folder.join("small")).unwrap();
    for number in 0..SMALL_FILES {
        fs::write(folder.join(format!("small/{number}")), [7; 1024]).unwrap();
    }
}

fn remove_small(folder: &Path) {
    for number in 0..SMALL_FILES {
        fs::remove_file(folder.join(format!("small/{number}"))).unwrap();
    }
}

fn clear_small(folder: &Path) {
    let _ = fs::remove_dir_all(folder.join("small"));
}

fn keep_small(folder: &Path) {
    if !folder.join("small/0").exists() {
        make_small(folder);
    }
    look_at_small(folder);
}

fn look_at_small(folder: &Path) {
    for number in 0..SMALL_FILES {
        fs::metadata(folder.join(format!("small/{number}"))).unwrap();
    }
}

fn run(folder: &Path, command: &str) {
    let status = Command::new("sh").args(["-c", command]).current_dir(folder).stdout(Stdio::null()).status();
    assert!(status.unwrap().success(), "{command}");
}

const ROWS: [Row; 12] = [
    Row { name: "write 256 MiB", prepare: nothing, work: |f| write_large(f, false) },
    Row { name: "write 256 MiB and sync", prepare: nothing, work: |f| write_large(f, true) },
    Row { name: "read 256 MiB, warm", prepare: make_large, work: read_large },
    Row {
        name: "20,000 reads of 4 KiB of an open file",
        prepare: make_large,
        work: |folder| {
            let file = fs::File::open(folder.join("large")).unwrap();
            let mut block = [0; 4096];
            places().for_each(|at| file.read_exact_at(&mut block, at).unwrap());
        },
    },
    Row {
        name: "20,000 writes of 4 KiB to an open file",
        prepare: make_large,
        work: |folder| {
            let file = fs::OpenOptions::new().write(true).open(folder.join("large")).unwrap();
            places().for_each(|at| file.write_all_at(&[1; 4096], at).unwrap());
        },
    },
    Row { name: "make 4,000 files of 1 KiB", prepare: clear_small, work: make_small },
    Row { name: "stat 4,000 files, warm", prepare: keep_small, work: look_at_small },
    Row { name: "find, warm", prepare: keep_small, work: |f| run(f, "find small") },
    Row { name: "ls -l, warm", prepare: keep_small, work: |f| run(f, "ls -l small") },
    Row { name: "read 4,000 files of 1 KiB", prepare: keep_small, work: |f| run(f, "cat small/*") },
    Row { name: "remove 4,000 files", prepare: keep_small, work: remove_small },
    Row {
        name: "git clone",
        prepare: |folder| drop(fs::remove_dir_all(folder.join("clone"))),
        work: |folder| run(folder, concat!("git clone -q ", env!("CARGO_MANIFEST_DIR"), "/../.. clone")),
    },
];

fn seconds(row: &Row, folder: &Path) -> f64 {
    (row.prepare)(folder);
    let begun = Instant::now();
    (row.work)(folder);
    begun.elapsed().as_secs_f64()
}

fn median(mut of: Vec<f64>) -> f64 {
    of.sort_by(f64::total_cmp);
    of[of.len() / 2]
}

fn program(home: &Path, arguments: &[&str]) {
    let output = Command::new(PROGRAM).current_dir(home).args(arguments).output().expect("the program runs");
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}

fn main() {
    if !Path::new("/dev/fuse").exists() || !rustix::process::geteuid().is_root() {
        println!("not run: needs root and /dev/fuse");
        return;
    }
    let folder = tempfile::TempDir::new().expect("a temporary folder can be made");
    let home = folder.path();
    let mut pool = String::from("[pool]\nname = \"fernhollow\"\n");
    for disk in ["alder", "beech", "cedar", "oak"] {
        fs::create_dir(home.join(disk)).unwrap();
        let at = home.join(disk).display().to_string();
        pool += &format!("[[disk]]\nname = \"{disk}\"\npath = \"{at}\"\nsimulated = true\n");
    }
    pool += "[[volume]]\nname = \"recordings\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]\nheadroom = \"1 MB\"\n";
    fs::write(home.join("pool.toml"), pool).unwrap();
    program(home, &["create", "--yes"]);
    let (native, drive) = (home.join("native"), home.join("drive"));
    [&native, &drive].into_iter().for_each(|folder| fs::create_dir(folder).unwrap());
    println!(
        "A volume of three disks and a parity beside the filesystem below it, in turns; native ÷ mount, median of {ROUNDS}"
    );
    println!("  {:<40} {:>8} {:>11}", "", "mounted", "--no-xattr");
    let mut table: Vec<[f64; 2]> = vec![[0.0; 2]; ROWS.len()];
    for (way, options) in [&[][..], &["--no-xattr", "--owner-only"]].into_iter().enumerate() {
        program(home, &[&["mount", "drive"], options].concat());
        for (row, cells) in ROWS.iter().zip(&mut table) {
            let ratio = |_| {
                let there = seconds(row, &native);
                there / seconds(row, &drive)
            };
            cells[way] = median((0..ROUNDS).map(ratio).collect());
        }
        program(home, &["umount", "drive"]);
    }
    for (row, [usual, lean]) in ROWS.iter().zip(table) {
        println!("  {:<40} {usual:>8.2} {lean:>11.2}", row.name);
    }
}
