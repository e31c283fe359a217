//! Whether somebody writes to a file: a read lease of the kernel, refused while anybody has the file open or mapped for
//! writing, and broken when somebody opens it so (`fcntl(2)`, F_SETLEASE). Its plain twin, /proc, is in `open_files`.
#![expect(unsafe_code, reason = "the leases of fcntl have no safe wrapper")]

use std::os::fd::{AsRawFd, BorrowedFd};
use std::sync::Once;

use rustix::io::Errno;

use crate::Lease;

/// Takes a read lease on a file that is open for reading alone; it goes with the last descriptor.
pub(super) fn take(file: BorrowedFd<'_>) -> Result<Lease, Errno> {
    // Else the kernel tells us of a broken lease by a signal that would end the process; it is asked for instead.
    static SIGNAL: Once = Once::new();
    // SAFETY: no handler runs, the signal is dropped; nothing here waits for it.
    SIGNAL.call_once(|| unsafe {
        libc::signal(libc::SIGIO, libc::SIG_IGN);
    });
    match fcntl(file, libc::F_SETLEASE, libc::F_RDLCK) {
        Ok(_) => Ok(Lease::Granted),
        Err(Errno::AGAIN) => Ok(Lease::Refused),
        // The filesystem has none, or the file is somebody else's.
        Err(Errno::INVAL | Errno::ACCESS | Errno::PERM | Errno::NOTSUP | Errno::NOLCK) => {
            Ok(Lease::Unsupported)
        }
        Err(errno) => Err(errno),
    }
}

/// Whether the lease is what it was: while somebody waits for it the kernel names what it is to become.
pub(super) fn holds(file: BorrowedFd<'_>) -> bool {
    fcntl(file, libc::F_GETLEASE, 0) == Ok(libc::F_RDLCK)
}

fn fcntl(file: BorrowedFd<'_>, command: libc::c_int, argument: libc::c_int) -> Result<libc::c_int, Errno> {
    // SAFETY: the descriptor is open as long as it is borrowed, and these commands take an integer and write no memory.
    let answer = unsafe { libc::fcntl(file.as_raw_fd(), command, argument) };
    if answer >= 0 {
        return Ok(answer);
    }
    Err(Errno::from_io_error(&std::io::Error::last_os_error()).unwrap_or(Errno::IO))
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "a test writes its own files")]
mod tests {
    use std::fs::{self, File, OpenOptions};
    use std::os::fd::AsFd;

    use super::*;
    use crate::open_files;
    use std::os::unix::fs::MetadataExt;

    #[test]
    fn a_lease_is_refused_exactly_while_somebody_writes_and_breaks_when_somebody_begins() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("wren.flac");
        fs::write(&path, b"dawn").unwrap();
        let writer = OpenOptions::new().write(true).open(&path).unwrap();
        let file = File::open(&path).unwrap();
        if take(file.as_fd()) == Ok(Lease::Unsupported) {
            return eprintln!("no leases here: nothing to test");
        }
        assert_eq!(take(file.as_fd()), Ok(Lease::Refused));
        drop(writer);
        assert_eq!(take(file.as_fd()), Ok(Lease::Granted));
        assert!(holds(file.as_fd()));
        let waiting = {
            let path = path.clone();
            std::thread::spawn(move || OpenOptions::new().write(true).open(path).unwrap())
        };
        while holds(file.as_fd()) {
            std::thread::yield_now();
        }
        drop(file);
        drop(waiting.join().unwrap());
    }

    #[test]
    fn proc_and_the_lease_agree_on_who_writes() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("robin.flac");
        fs::write(&path, b"dusk").unwrap();
        let mut other = {
            let handle = OpenOptions::new().append(true).open(&path).unwrap();
            std::process::Command::new("sleep").arg("60").stdout(handle).spawn().unwrap()
        };
        let key = fs::metadata(&path).map(|m| (m.dev(), m.ino())).unwrap();
        let file = File::open(&path).unwrap();
        let (by_lease, by_proc) = (take(file.as_fd()), open_files().contains(&key));
        other.kill().unwrap();
        other.wait().unwrap();
        assert!(by_lease == Ok(Lease::Unsupported) || by_lease == Ok(Lease::Refused));
        assert!(by_proc);
        assert!(matches!(take(file.as_fd()), Ok(Lease::Unsupported | Lease::Granted)));
        assert!(!open_files().contains(&key));
    }
}
