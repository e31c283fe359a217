//! Fate at scale: 24 data disks, 3 parities, 2 % of the files changed since the sync. How long it takes to load the
//! catalogue into the model, to work out all single disks, all pairs and all triples, and the guard of every file; how
//! much memory a file takes; and how that grows with the number of files.
//!
//! Figures are printed, not judged: `cargo bench -p sieve-benches --bench fate_scale`. Under `cargo test` only small pools
//! are measured. The scan of the disks is left out: it is bound by the disks.

use std::fmt::Write as _;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use sieve_actions::disks::create;
use sieve_core::fate::{Cost, DiskIndex, Exposures, LostSet, guards, rank_sets, verdicts};
use sieve_core::pool::parse;
use sieve_disk::event::Silent;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_pool::fate;
use sieve_pool::pool::Pool;

const DATA: usize = 24;
const PARITY: usize = 3;
/// One file in so many changed since the sync.
const CHANGED: u64 = 50;

fn main() {
    let is_bench = std::env::args().any(|a| a == "--bench");
    let sizes: &[u64] = if is_bench { &[10_000, 100_000, 1_000_000] } else { &[1_000, 4_000] };
    println!(
        "{:>9}  {:>9} {:>9} {:>9} {:>9} {:>9} {:>9}  {:>12}",
        "files", "load", "one set", "singles", "pairs", "triples", "guard", "memory/file"
    );
    let mut before: Option<(u64, Figures)> = None;
    for files in sizes {
        let figures = measure(*files);
        let seconds: String = figures.seconds.iter().map(|s| format!(" {s:>8.3}s")).collect();
        println!("{files:>9} {seconds}  {:>10} B", figures.bytes / files);
        if let Some((fewer, earlier)) = &before {
            let step = *files as f64 / *fewer as f64;
            let expected = step * (*files as f64).ln() / (*fewer as f64).ln();
            let pairs = figures.seconds.iter().zip(&earlier.seconds);
            let ratios: String = pairs.map(|(now, then)| format!(" {:>8.1}×", now / then)).collect();
            println!("{:>9} {ratios}  n log n: {expected:.1}×", format!("×{step:.0}"));
        }
        before = Some((*files, figures));
    }
}

struct Figures {
    /// Load, one set, singles, pairs, triples, guard.
    seconds: [f64; 6],
    /// The peak of memory above what it was before.
    bytes: u64,
}

fn measure(files: u64) -> Figures {
    let folder = tempfile::TempDir::new().expect("a temporary folder can be made");
    let pool = make_pool(folder.path());
    fill(&pool, files);
    let base = start_measuring_memory();
    let (load, volume) = timed(|| fate::load(&pool, "recordings").expect("the catalogue can be loaded"));
    let nothing = LostSet::new();
    let lost: LostSet = [0, 7, DATA as u16].map(DiskIndex).into();
    let (one, fates) = timed(|| verdicts(&volume.model, &lost).fates);
    drop(fates);
    let (guard, levels) = timed(|| guards(&volume.model, &nothing));
    drop(levels);
    let sets = |count: usize| {
        let started = Instant::now();
        let stakes = Exposures::new(&volume.model, &nothing, count).stakes(&volume.model, |_| 1);
        let ranked = rank_sets(DATA + PARITY, count, |set| {
            let disks = set.iter().map(|position| DiskIndex(*position as u16));
            Ok::<Cost, ()>(stakes.cost(&disks.collect()))
        });
        assert!(ranked.is_ok_and(|sets| sets.first().is_some_and(|worst| worst.cost.files > 0)));
        started.elapsed().as_secs_f64()
    };
    let (singles, pairs, triples) = (sets(1), sets(2), sets(3));
    Figures {
        seconds: [load, one, singles, pairs, triples, guard],
        bytes: peak_memory().saturating_sub(base),
    }
}

fn timed<T>(work: impl FnOnce() -> T) -> (f64, T) {
    let started = Instant::now();
    let result = work();
    (started.elapsed().as_secs_f64(), result)
}

/// Makes the kernel forget the peak so far; tells what is in use.
#[expect(clippy::disallowed_methods, reason = "a switch of the kernel, no file")]
fn start_measuring_memory() -> u64 {
    std::fs::write("/proc/self/clear_refs", "5").expect("the peak of memory can be reset");
    peak_memory()
}

fn peak_memory() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").expect("the kernel tells what is in use");
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    let kilobytes: Option<u64> = line.and_then(|l| l.trim().trim_end_matches(" kB").trim().parse().ok());
    kilobytes.expect("the kernel tells the peak") * 1024
}

#[expect(clippy::disallowed_methods, reason = "the benchmark's own files")]
fn make_pool(folder: &Path) -> Pool {
    let name = |position: usize| format!("d{position}");
    let mut text = String::from("[pool]\nname = \"scale\"\n");
    for position in 0..DATA + PARITY {
        let path = folder.join(name(position));
        std::fs::create_dir(&path).expect("a folder can be made");
        write!(
            text,
            "[[disk]]\nname = \"{}\"\npath = \"{}\"\ncapacity = \"12 TB\"\nsimulated = true\n",
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
    std::fs::write(&file, &text).expect("it can be written");
    let spec = parse(&text).spec.expect("the pool file is right");
    let machine: Arc<dyn Machine> = Arc::new(RealMachine { clock: Clock::Real });
    let plan = create::plan(&*machine, &file, &spec).expect("the pool can be planned");
    create::execute(&machine, &file, &spec, &plan, &Silent).expect("the pool can be made").0
}

/// Writes a catalogue as after a sync of so many files, a fiftieth of them changed since.
fn fill(pool: &Pool, files: u64) {
    let disks: Vec<i64> = pool.members.iter().take(DATA).map(|m| m.row.id.get()).collect();
    let mut ends = [0u64; DATA];
    let filled = pool.catalogue.transaction(|t| {
        let mut object = t.prepare(
            "INSERT INTO object VALUES (?1, ?2, ?1, ?3, ?3, 0, 0, 420, 0, 0, NULL, ?1, ?4, NULL, 0)",
        )?;
        let mut version = t.prepare(
            "INSERT INTO version VALUES (?1, ?2, ?3, zeroblob(32), zeroblob(112), NULL, ?4, 420, 0, 0, 0, NULL, 1)",
        )?;
        let mut name = t.prepare("INSERT INTO name VALUES (?1, ?2, ?3)")?;
        let mut lane = t.prepare("INSERT INTO lane VALUES (?1, ?2, ?3, ?4, 0)")?;
        for number in 0..files {
            let position = (number % DATA as u64) as usize;
            let size = 1_000 + number.wrapping_mul(2_654_435_761) % 29_000_000;
            let granules = size.div_ceil(4096);
            let (id, disk) = (number as i64 + 1, disks[position]);
            let standing = if number % CHANGED == 0 { 3 } else { 0 };
            object.execute((id, disk, size as i64, standing))?;
            version.execute((id, disk, size as i64, granules as i64))?;
            let (box_number, month) = (number % 97, number % 12 + 1);
            let path = format!("nest-cams\0box-{box_number}\x002031-{month:02}\0clip-{number:07}.mkv");
            name.execute((disk, path.as_bytes(), id))?;
            lane.execute((disk, ends[position] as i64, granules as i64, id))?;
            ends[position] += granules;
        }
        Ok(())
    });
    filled.expect("the catalogue can be written");
    let settled = pool.catalogue.reading().query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()));
    settled.expect("the log can be written back");
}
