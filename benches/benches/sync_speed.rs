//! How fast a pool is scanned and synced on a memory filesystem, beside bare loops over the same files, in one run.
//!
//! `cargo bench -p sieve-benches --bench sync_speed`; under `cargo test` it is small. The pool lies in /dev/shm where there
//! is one, so that the disks are not what is measured.

#![allow(clippy::disallowed_methods, reason = "a benchmark makes files of its own")]

use std::fmt::Write as _;
use std::fs;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::Instant;

use sieve_actions::disks::create;
use sieve_actions::guard::sync;
use sieve_actions::guard::sync::Options;
use sieve_actions::measure::bench::Lanes;
use sieve_core::code::Encoder;
use sieve_core::gf256::Kernel;
use sieve_core::pool::parse;
use sieve_core::units::{ParityIndex, Slot};
use sieve_disk::event::Silent;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_pool::pool::Pool;
use sieve_pool::scan;

const DATA: usize = 8;
const PARITY: usize = 2;

fn main() {
    let is_measured = std::env::args().any(|argument| argument == "--bench");
    let only = std::env::var("ONLY").unwrap_or_default();
    let scale = if is_measured { 1 } else { 256 };
    if only.is_empty() || only == "large" {
        large_files((4 << 30) / scale);
    }
    if only.is_empty() || only == "small" {
        small_files(100_000 / scale);
    }
    if only.is_empty() || only == "scan" {
        unchanged_files(1_000_000 / scale);
    }
}

/// A pool in a folder of its own, which goes with it.
struct Bench {
    folder: tempfile::TempDir,
    pool: Pool,
}

impl Bench {
    fn new() -> Self {
        let memory = Path::new("/dev/shm");
        let folder = if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() };
        let folder = folder.expect("a temporary folder can be made");
        let pool = make_pool(folder.path());
        Self { folder, pool }
    }

    fn disk(&self, number: usize) -> PathBuf {
        self.folder.path().join(format!("d{number}"))
    }

    /// Takes memory and gives it back: on a virtual machine the first touch of a page costs more than what is measured.
    fn touch_memory(&self, bytes: u64, noise: &[u8]) {
        let path = self.folder.path().join("touched");
        let mut file = fs::File::create(&path).expect("a file can be made");
        for _ in 0..bytes.div_ceil(noise.len() as u64) {
            std::io::Write::write_all(&mut file, noise).expect("a file can be written");
        }
        fs::remove_file(&path).expect("it was just made");
    }

    /// [`least`], several times: the first one touches memory.
    fn least(&self, lanes: &[Vec<PathBuf>]) -> f64 {
        let parities = [0, 1].map(|number| self.folder.path().join(format!("least-{number}")));
        let once = |_| {
            let seconds = least(lanes, [&parities[0], &parities[1]]);
            parities.iter().for_each(|path| fs::remove_file(path).expect("it was just made"));
            seconds
        };
        (0..3).map(once).fold(f64::MAX, f64::min)
    }

    /// Plans and does a sync: the seconds of the plan, and of doing it.
    fn sync(&mut self) -> (f64, f64, sync::SyncReport) {
        let options = Options::default();
        let begun = Instant::now();
        let plan = sync::plan(&self.pool, &options, &Silent).expect("the pool can be planned");
        let planned = begun.elapsed().as_secs_f64();
        let begun = Instant::now();
        let report = sync::execute(&mut self.pool, &plan, &options, &Silent).expect("the pool can be synced");
        assert!(report.is_clean(), "{report:?}");
        (planned, begun.elapsed().as_secs_f64(), report)
    }
}

fn make_pool(folder: &Path) -> Pool {
    let name = |position: usize| format!("d{position}");
    let mut text = String::from("[pool]\nname = \"speed\"\n");
    for position in 0..DATA + PARITY {
        let path = folder.join(name(position));
        fs::create_dir(&path).expect("a folder can be made");
        write!(
            text,
            "[[disk]]\nname = \"{}\"\npath = \"{}\"\ncapacity = \"1 TB\"\nmedia = \"ssd\"\nsimulated = true\n",
            name(position),
            path.display()
        )
        .expect("writing to text works");
    }
    let names = |range: std::ops::Range<usize>| range.map(name).collect::<Vec<_>>();
    write!(
        text,
        "[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = {:?}\nparity = {:?}\n",
        names(0..DATA),
        names(DATA..DATA + PARITY)
    )
    .expect("writing to text works");
    let file = folder.join("pool.toml");
    fs::write(&file, &text).expect("it can be written");
    let spec = parse(&text).spec.expect("the pool file is right");
    let machine: Arc<dyn Machine> = Arc::new(RealMachine { clock: Clock::Real });
    let plan = create::plan(&*machine, &file, &spec).expect("the pool can be planned");
    create::execute(&machine, &file, &spec, &plan, &Silent).expect("the pool can be made").0
}

/// Bytes that do not repeat soon.
fn noise(length: usize, seed: u64) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let mut bytes = vec![0; length];
    for word in bytes.chunks_mut(8) {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        word.copy_from_slice(&state.to_le_bytes()[..word.len()]);
    }
    bytes
}

fn write_file(path: &Path, bytes: &[u8]) {
    fs::create_dir_all(path.parent().expect("it lies in a folder")).expect("a folder can be made");
    fs::write(path, bytes).expect("a file can be written");
}

/// The bare loop: two threads read the files and hash them, and do nothing else.
fn bare(files: &[PathBuf]) -> f64 {
    let begun = Instant::now();
    let next = AtomicUsize::new(0);
    let work = || {
        let mut buffer = vec![0; 256 << 10];
        while let Some(path) = files.get(next.fetch_add(1, Ordering::Relaxed)) {
            let file = fs::File::open(path).expect("it was just made");
            let mut hasher = blake3::Hasher::new();
            let mut offset = 0;
            loop {
                let count = file.read_at(&mut buffer, offset).expect("it can be read");
                if count == 0 {
                    break;
                }
                hasher.update(&buffer[..count]);
                offset += count as u64;
            }
            std::hint::black_box(hasher.finalize());
        }
    };
    std::thread::scope(|scope| {
        scope.spawn(work);
        work();
    });
    begun.elapsed().as_secs_f64()
}

/// What no sync can do without: the files of each disk read and hashed, parity computed, hashed and written; on two
/// threads, each with all of a row in its own cache, and with nothing kept, checked or made durable.
fn least(lanes: &[Vec<PathBuf>], parities: [&Path; PARITY]) -> f64 {
    const STEP: u64 = 64 << 10;
    let begun = Instant::now();
    let lanes: Vec<Vec<Extent>> = lanes.iter().map(|files| extents(files)).collect();
    let end = lanes.iter().filter_map(|lane| lane.last()).map(|last| last.start + last.length).max();
    let parities = parities.map(|path| fs::File::create(path).expect("a file can be made"));
    let slots: Vec<Slot> = (0..DATA as u8).map(Slot::new).collect();
    let encoder = Encoder::new(Kernel::best(), &[0, 1].map(ParityIndex::new), &slots);
    let next = AtomicU64::new(0);
    let work = || {
        let (mut data, mut computed) =
            (Lanes::filled(DATA, STEP as usize), Lanes::filled(PARITY, STEP as usize));
        let mut open: Vec<Option<(usize, fs::File)>> = (0..DATA).map(|_| None).collect();
        loop {
            let at = next.fetch_add(STEP, Ordering::Relaxed);
            if end.is_none_or(|end| at >= end) {
                break;
            }
            for ((lane, open), buffer) in lanes.iter().zip(&mut open).zip(data.all_mut()) {
                read_lane(lane, open, at, buffer);
                std::hint::black_box(blake3::hash(buffer));
            }
            encoder.encode(&mut computed.all_mut(), &data.all());
            for (file, bytes) in parities.iter().zip(computed.all()) {
                std::hint::black_box(blake3::hash(bytes));
                file.write_all_at(bytes, at).expect("it can be written");
            }
        }
    };
    std::thread::scope(|scope| {
        scope.spawn(work);
        work();
    });
    begun.elapsed().as_secs_f64()
}

/// Where a file lies in a lane.
struct Extent {
    start: u64,
    length: u64,
    path: PathBuf,
}

/// A lane of these files, one after the other. Looking at each is part of the work.
fn extents(files: &[PathBuf]) -> Vec<Extent> {
    let mut start = 0;
    let extent = |path: &PathBuf| {
        let length = fs::symlink_metadata(path).expect("it was just made").len();
        let extent = Extent { start, length, path: path.clone() };
        start += length;
        extent
    };
    files.iter().map(extent).collect()
}

fn read_lane(lane: &[Extent], open: &mut Option<(usize, fs::File)>, at: u64, buffer: &mut [u8]) {
    let end = at + buffer.len() as u64;
    let first = lane.partition_point(|extent| extent.start + extent.length <= at);
    for (number, extent) in lane.iter().enumerate().skip(first).take_while(|(_, extent)| extent.start < end) {
        let (from, to) = (at.max(extent.start), end.min(extent.start + extent.length));
        let (_, file) = match open.take() {
            Some(open) if open.0 == number => open,
            _ => (number, fs::File::open(&extent.path).expect("it was just made")),
        };
        let part = &mut buffer[(from - at) as usize..(to - at) as usize];
        file.read_exact_at(part, from - extent.start).expect("it can be read");
        *open = Some((number, file));
    }
}

fn compare(what: &str, bytes: u64, (bare, least): (f64, f64), planned: f64, done: f64) {
    let rate = |seconds: f64| bytes as f64 / seconds / 1e9;
    println!(
        "{what}: bare loop {:.2} GB/s; with parity and nothing else {:.2} of it; sync {:.2} of it ({:.2} with the scan and the plan: {planned:.2} s of {:.2} s)",
        rate(bare),
        bare / least,
        bare / done,
        bare / (planned + done),
        planned + done
    );
}

/// Files from 1 MB to 300 MB.
fn large_files(total: u64) {
    let mut bench = Bench::new();
    let noise = noise(300_000_000.min(total as usize), 7);
    let (mut bytes, mut state) = (0, 88_172_645_463_325_252_u64);
    let mut lanes = vec![Vec::new(); DATA];
    let mut filled = [0; DATA];
    while bytes < total {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        let length = 1_000_000 + state % 299_000_000.min(total / 4);
        // On the emptiest disk, as files are placed.
        let disk = (0..DATA).min_by_key(|disk| filled[*disk]).unwrap_or(0);
        let path = bench.disk(disk).join(format!("dawn/chorus-{:04}.flac", lanes[disk].len()));
        let length = length.min(noise.len() as u64);
        write_file(&path, &noise[..length as usize]);
        filled[disk] += length;
        bytes += length;
        lanes[disk].push(path);
    }
    let files = lanes.concat();
    let before = bare(&files);
    bench.touch_memory(total / 2, &noise);
    let least = bench.least(&lanes);
    let (planned, done, _) = bench.sync();
    let bare = before.min(self::bare(&files));
    let what = format!("{} files, {:.1} GB", files.len(), bytes as f64 / 1e9);
    compare(&what, bytes, (bare, least), planned, done);
    let (planned, done, report) = bench.sync();
    println!("  nothing changed: scan and plan {planned:.3} s, sync {done:.3} s, {} cells", report.cells);
    let added = (1 << 30).min(total / 4);
    write_file(&bench.disk(3).join("dawn/added.flac"), &noise.repeat(4)[..added as usize]);
    let (planned, done, report) = bench.sync();
    let sum = |map: &sieve_core::amounts::Amounts, from: usize| -> u64 {
        map.iter()
            .filter(|(name, _)| name[1..].parse::<usize>().is_ok_and(|n| n >= from))
            .map(|(_, b)| b.exact())
            .sum()
    };
    println!(
        "  one file of {added} B added: {planned:.2} + {done:.2} s, read {} B of it and {} B of parity in {} cells, wrote {} B to parity disks",
        report.read_bytes.of("d3").exact(),
        sum(&report.read_bytes, DATA),
        report.cells,
        sum(&report.written_bytes, DATA),
    );
}

fn small_files(count: u64) {
    let mut bench = Bench::new();
    let noise = noise(16 << 10, 3);
    let mut lanes = vec![Vec::new(); DATA];
    for number in 0..count as usize {
        let folder = bench.disk(number % DATA).join(format!("herbarium/sheet-{:04}", number / 800));
        let path = folder.join(format!("plate-{number:07}.tif"));
        write_file(&path, &noise);
        lanes[number % DATA].push(path);
    }
    let files = lanes.concat();
    let before = bare(&files);
    let least = bench.least(&lanes);
    let (planned, done, _) = bench.sync();
    let bare = before.min(self::bare(&files));
    compare(&format!("{count} files of 16 KiB"), count * (16 << 10), (bare, least), planned, done);
}

fn unchanged_files(count: u64) {
    let bench = Bench::new();
    for number in 0..count as usize {
        let folder = bench.disk(number % DATA).join(format!("herbarium/sheet-{:05}", number / 1600));
        let path = folder.join(format!("plate-{number:08}.tif"));
        write_file(&path, &[]);
    }
    let walk = |count: &AtomicU64| {
        let begun = Instant::now();
        let mut builder = ignore::WalkBuilder::new(bench.disk(0));
        (1..DATA).for_each(|number| {
            builder.add(bench.disk(number));
        });
        builder.standard_filters(false).threads(2).build_parallel().run(|| {
            Box::new(|entry| {
                if entry.is_ok_and(|entry| entry.metadata().is_ok()) {
                    count.fetch_add(1, Ordering::Relaxed);
                }
                ignore::WalkState::Continue
            })
        });
        begun.elapsed().as_secs_f64()
    };
    let first = Instant::now();
    scan::scan_all(&bench.pool, |_| true, &Silent).expect("the disks can be scanned");
    let first = first.elapsed().as_secs_f64();
    let (mut walked, mut scanned, seen) = (f64::MAX, f64::MAX, AtomicU64::new(0));
    for _ in 0..4 {
        walked = walked.min(walk(&seen));
        let begun = Instant::now();
        let reports = scan::scan_all(&bench.pool, |_| true, &Silent).expect("the disks can be scanned");
        scanned = scanned.min(begun.elapsed().as_secs_f64());
        assert_eq!(reports.iter().map(|report| report.known).sum::<u64>(), count);
        assert!(reports.iter().all(|report| report.new + report.changed + report.gone == 0));
    }
    println!(
        "scan of {count} files: first {first:.2} s; unchanged {scanned:.2} s, {:.2} of a bare walk with metadata",
        scanned / walked
    );
}
