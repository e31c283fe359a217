//! The one system call for the priority of disk accesses: no safe wrapper covers it.
#![expect(unsafe_code, reason = "ioprio_set has no wrapper in rustix or the standard library")]

/// `IOPRIO_WHO_PROCESS`: here 0 stands for the calling thread, and the threads it starts later inherit it.
const WHO_PROCESS: libc::c_int = 1;
/// `IOPRIO_CLASS_IDLE`, shifted to its place.
const CLASS_IDLE: libc::c_int = 3 << 13;

/// Lets this thread, and those it starts from now on, have the disks only when nobody else wants them. The portable
/// twin is to do nothing: where the call is refused, the action runs as it would have.
pub fn become_idle() -> bool {
    // SAFETY: the call takes three numbers and touches no memory of ours.
    unsafe { libc::syscall(libc::SYS_ioprio_set, WHO_PROCESS, 0, CLASS_IDLE) == 0 }
}

#[cfg(test)]
mod tests {
    /// IOPRIO_GET of the thread itself says what was set.
    #[test]
    fn the_priority_is_set_for_this_thread_and_its_children() {
        std::thread::spawn(|| {
            assert!(super::become_idle());
            let read = || {
                // SAFETY: as above.
                unsafe { libc::syscall(libc::SYS_ioprio_get, super::WHO_PROCESS, 0) }
            };
            assert_eq!(read(), i64::from(super::CLASS_IDLE));
            assert_eq!(std::thread::spawn(read).join().unwrap(), i64::from(super::CLASS_IDLE));
        })
        .join()
        .unwrap();
    }
}
