//! How often the kernel has to ask, counted by the kernel itself: that decides how fast a drive is, and is the same on every
//! machine. Where its tracing cannot be had, this says so and ends.

use std::fs;
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

use super::{Drive, lab, may_mount};

/// The kernel's list of what was asked.
struct Trace {
    root: PathBuf,
}

impl Trace {
    fn begin() -> Option<Self> {
        let root = PathBuf::from("/sys/kernel/tracing/instances/zinc-sieve-trips");
        super::quietly("mount", &["-t", "tracefs", "nodev", "/sys/kernel/tracing"]);
        if !root.exists() && fs::create_dir(&root).is_err() {
            eprintln!("this machine's kernel cannot be asked what it asks: not counted here");
            return None;
        }
        let trace = Self { root };
        fs::write(trace.root.join("events/fuse/fuse_request_send/enable"), "1").ok()?;
        Some(trace)
    }

    /// What was asked while `work` ran, in the kernel's words, and those that nobody waits for left out.
    fn asked(&self, drive: &Drive<'_>, work: impl FnOnce()) -> Vec<String> {
        let device = fs::metadata(&drive.at).map(|stat| std::os::unix::fs::MetadataExt::dev(&stat)).unwrap();
        fs::write(self.root.join("trace"), "").unwrap();
        work();
        let text = fs::read_to_string(self.root.join("trace")).unwrap();
        let connection = format!("connection {}", rustix::fs::minor(device));
        let asked =
            text.lines().filter(|line| line.contains("fuse_request_send") && line.contains(&connection));
        let word = |line: &str| {
            let opcode = line.split("opcode ").nth(1)?;
            let name = opcode.split(['(', ')']).nth(1)?;
            Some(name.trim_start_matches("FUSE_").to_string())
        };
        let nobody_waits = ["RELEASE", "RELEASEDIR", "FORGET", "BATCH_FORGET", "INTERRUPT"];
        asked.filter_map(word).filter(|word| !nobody_waits.contains(&word.as_str())).collect()
    }
}

impl Drop for Trace {
    fn drop(&mut self) {
        let _ = fs::remove_dir(&self.root);
    }
}

#[test]
fn the_kernel_asks_no_more_than_it_must() {
    if !may_mount() {
        return;
    }
    let Some(trace) = Trace::begin() else { return };
    let lab = lab();
    for (options, new_file) in [(&[][..], 4), (&["--no-xattr"][..], 3)] {
        let drive = Drive::mount(&lab, options);
        fs::write(drive.path("warm"), b"x").unwrap();
        let asked = |work: &dyn Fn()| trace.asked(&drive, work);
        let most = |what: &str, count: usize, asked: Vec<String>| {
            assert!(
                asked.len() <= count,
                "{what} with {options:?} asks {asked:?}, and may ask {count} times"
            );
        };
        // The directory is limited here, so that files are written by way of us: one write more.
        most("a new file", new_file + 1, asked(&|| fs::write(drive.path("new"), [7; 1024]).unwrap()));
        fs::metadata(drive.path("new")).unwrap();
        most("a known file", 0, asked(&|| assert!(fs::metadata(drive.path("new")).is_ok())));
        let _ = fs::metadata(drive.path("nothing"));
        most("a known nothing", 0, asked(&|| assert!(fs::metadata(drive.path("nothing")).is_err())));
        let mut file = fs::OpenOptions::new().append(true).open(drive.path("new")).unwrap();
        most("opening", 1, asked(&|| drop(fs::File::open(drive.path("new")).unwrap())));
        file.write_all(b"y").unwrap();
        drop(file);
        most("renaming", 3, asked(&|| fs::rename(drive.path("new"), drive.path("renamed")).unwrap()));
        most("removing", 2, asked(&|| fs::remove_file(drive.path("renamed")).unwrap()));
        most("a folder", 3, asked(&|| fs::create_dir(drive.path("folder")).unwrap()));
        fs::remove_dir(drive.path("folder")).unwrap();
        std::thread::sleep(Duration::from_millis(50));
        drive.unmount();
    }
}
