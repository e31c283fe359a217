//! The journal: what happened, one event a line (JSON), beside the catalogue, in files of bounded size.

mod entry;
mod read;
mod segments;
mod write;

pub use entry::{Did, Ended, Entry, PATHS, VERSION};
pub use read::{backward, forward, last, times};
pub use write::add;

/// From this size on a file of the journal is closed, and another begun, in bytes.
const SEGMENT: u64 = 8 << 20;

/// So many closed files are kept: half a gigabyte, about ten years of a busy pool.
const SEGMENTS: usize = 64;

/// The longest line, in bytes.
const LONGEST_LINE: u64 = 1 << 20;

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods, reason = "what lies in a temporary folder is a test's own")]

    use std::fs;
    use std::ops::ControlFlow;

    use sieve_disk::RealDisk;

    use super::*;

    fn home() -> (tempfile::TempDir, RealDisk) {
        let folder = tempfile::tempdir().unwrap();
        let disk = RealDisk::open(folder.path()).unwrap();
        (folder, disk)
    }

    fn said(text: &str) -> Entry {
        Entry { said: Some(text.into()), ..Entry::new(Did::Notice) }
    }

    fn all(home: &RealDisk, since: i64) -> Vec<i64> {
        let mut found = Vec::new();
        forward(home, since, |entry| {
            found.push(entry.at);
            ControlFlow::Continue(())
        })
        .unwrap();
        found
    }

    /// Lines of a kilobyte, one a second from `from` on.
    fn many(from: i64, to: i64) -> String {
        let text = "x".repeat(1000);
        (from..to)
            .map(|at| serde_json::to_string(&Entry { at: at * 1_000_000_000, ..said(&text) }).unwrap() + "\n")
            .collect()
    }

    #[test]
    fn a_line_that_a_crash_cut_off_costs_no_other_one() {
        let (folder, home) = home();
        add(&home, 1, said("one")).unwrap();
        let path = folder.path().join(".zinc-sieve/journal.jsonl");
        let whole = fs::read_to_string(&path).unwrap();
        fs::write(&path, format!("{whole}{}", &whole[..20])).unwrap();
        add(&home, 3, said("three")).unwrap();
        assert_eq!(all(&home, 0), [1, 3]);
        let newest_first = last(&home, 9, |_| true).unwrap();
        assert_eq!(newest_first.iter().map(|entry| entry.at).collect::<Vec<_>>(), [3, 1]);
    }

    #[test]
    fn a_full_file_is_closed_and_everything_is_found_over_all_files() {
        let (folder, home) = home();
        let path = folder.path().join(".zinc-sieve/journal.jsonl");
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        for part in 0..3 {
            fs::write(&path, many(part * 8000, (part + 1) * 8000)).unwrap();
            add(&home, ((part + 1) * 8000 - 1) * 1_000_000_000, said("the last of a file")).unwrap();
            assert!(!path.exists(), "a file over the limit is closed");
        }
        let since = 15_990 * 1_000_000_000;
        assert_eq!(all(&home, since).len(), 10 + 1 + 8001);
        assert_eq!(
            last(&home, 10_000, |entry| entry.said.as_deref() == Some("the last of a file")).unwrap().len(),
            3
        );
    }

    #[test]
    fn the_oldest_files_go_beyond_what_is_kept() {
        let (folder, home) = home();
        let closed = folder.path().join(".zinc-sieve/journal");
        fs::create_dir_all(&closed).unwrap();
        for number in 1..=SEGMENTS {
            fs::write(closed.join(format!("{number:08}.jsonl")), many(number as i64, number as i64 + 1))
                .unwrap();
        }
        fs::write(folder.path().join(".zinc-sieve/journal.jsonl"), many(100, 8500)).unwrap();
        add(&home, 8500 * 1_000_000_000, said("more")).unwrap();
        assert_eq!(fs::read_dir(&closed).unwrap().count(), SEGMENTS);
        assert!(!closed.join("00000001.jsonl").exists());
        assert_eq!(all(&home, 0)[0], 2 * 1_000_000_000);
    }

    #[test]
    fn lines_of_several_writers_do_not_mix() {
        let (folder, _) = home();
        std::thread::scope(|scope| {
            for writer in 0..4 {
                let folder = folder.path();
                scope.spawn(move || {
                    let home = RealDisk::open(folder).unwrap();
                    (0..25).for_each(|n| add(&home, writer * 100 + n, said(&"y".repeat(3000))).unwrap());
                });
            }
        });
        assert_eq!(all(&RealDisk::open(folder.path()).unwrap(), 0).len(), 100);
    }

    #[test]
    fn a_line_without_an_end_is_not_collected() {
        let (folder, home) = home();
        add(&home, 1, said("one")).unwrap();
        let path = folder.path().join(".zinc-sieve/journal.jsonl");
        let junk = vec![b'z'; 3 << 20];
        fs::write(&path, [fs::read(&path).unwrap(), junk].concat()).unwrap();
        add(&home, 2, said("two")).unwrap();
        assert_eq!(all(&home, 0), [1, 2]);
        assert_eq!(last(&home, 9, |_| true).unwrap().len(), 2);
    }
}
