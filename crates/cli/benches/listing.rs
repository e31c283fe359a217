//! A listing of a million files on paper: how long `fate` takes and how much memory, and how that grows from a tenth of
//! it. Figures are printed, not judged: `cargo bench --bench listing`.

use std::fmt::Write as _;
use std::process::{Command, Stdio};
use std::time::Instant;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const POOL: &str = include_str!("../../../examples/on-paper/pool.toml");

/// Seconds and the peak of memory in bytes; the kernel keeps the peak until the process has ended.
fn run(folder: &std::path::Path, listing: &str) -> (f64, u64) {
    let started = Instant::now();
    let mut child = Command::new(PROGRAM)
        .args(["fate", "--lose", "alder,beech,oak", "--files", listing])
        .current_dir(folder)
        .stdout(Stdio::null())
        .spawn()
        .expect("the program runs");
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait().expect("the program can be waited for").is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|l| l.strip_prefix("VmHWM:"));
        let kilobytes: Option<u64> = line.and_then(|l| l.trim().trim_end_matches(" kB").trim().parse().ok());
        peak = peak.max(kilobytes.unwrap_or(0) * 1024);
        std::thread::sleep(std::time::Duration::from_millis(1));
    }
    (started.elapsed().as_secs_f64(), peak)
}

#[expect(clippy::disallowed_methods, reason = "the benchmark's own files")]
fn main() {
    let folder = tempfile::TempDir::new().expect("a temporary folder can be made");
    std::fs::write(folder.path().join("pool.toml"), POOL).expect("it can be written");
    let mut before: Option<(u64, f64)> = None;
    for files in [10_000u64, 100_000, 1_000_000] {
        let mut listing = String::from("path,size_bytes\n");
        for number in 0..files {
            let size = 1_000 + number.wrapping_mul(2_654_435_761) % 29_000_000;
            writeln!(
                listing,
                "nest-cams/box-{}/2031-{:02}/clip-{number:07}.mkv,{size}",
                number % 97,
                number % 12 + 1
            )
            .expect("writing to text works");
        }
        std::fs::write(folder.path().join("listing.csv"), listing).expect("it can be written");
        let (seconds, peak) = run(folder.path(), "listing.csv");
        let ratio = before.map_or(String::new(), |(n, s)| {
            format!(", {:.1} times for {} times the files", seconds / s, files / n)
        });
        println!("{files:>9} files: {seconds:.2} s, {} MB at most{ratio}", peak / 1_000_000);
        before = Some((files, seconds));
    }
}
