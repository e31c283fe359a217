//! Which files some process has open or mapped, as /proc tells: what is in use is not moved.

use std::collections::HashSet;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// The device and inode of every file that another process has open, or mapped for writing, as far as this one may see.
///
/// Processes come and go while it looks; what cannot be seen is left out.
pub fn open_files() -> HashSet<(u64, u64)> {
    let own = std::process::id().to_string();
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let others = processes.filter(|entry| {
        let name = entry.file_name();
        let digits = name.as_encoded_bytes().iter().all(u8::is_ascii_digit);
        digits && name != own.as_str()
    });
    let mut files = HashSet::new();
    for process in others {
        let handles = fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten();
        let handles = handles.filter_map(|handle| fs::metadata(handle.path()).ok());
        files.extend(handles.filter(fs::Metadata::is_file).map(|file| (file.dev(), file.ino())));
        files.extend(mapped_for_writing(&process.path()));
    }
    files
}

/// The files that a process writes to by way of its memory, with no descriptor: `address perms offset device inode path`
/// in proc_pid_maps(5). The device there is not the one that `stat` tells on every filesystem; the link beside it leads to
/// the file itself.
fn mapped_for_writing(process: &Path) -> Vec<(u64, u64)> {
    let maps = fs::read(process.join("maps")).unwrap_or_default();
    let ranges = maps.split(|byte| *byte == b'\n').filter_map(shared_and_writable);
    let files = ranges.filter_map(|range| fs::metadata(process.join("map_files").join(range)).ok());
    files.filter(fs::Metadata::is_file).map(|file| (file.dev(), file.ino())).collect()
}

/// The range of addresses of a line, as `map_files` names it: without leading zeros.
fn shared_and_writable(line: &[u8]) -> Option<String> {
    let mut fields = line.split(|byte| *byte == b' ');
    let (range, perms) = (std::str::from_utf8(fields.next()?).ok()?, fields.next()?);
    let (start, end) = range.split_once('-')?;
    let bare = |address: &str| u64::from_str_radix(address, 16).ok().map(|address| format!("{address:x}"));
    let is_it = perms.get(1) == Some(&b'w') && perms.get(3) == Some(&b's');
    is_it.then_some(format!("{}-{}", bare(start)?, bare(end)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_is_shared_and_writable_counts() {
        let line = b"00400000-7f0000452000 rw-s 00000000 fe:01 42    /srv/disks/alder/wren.flac";
        assert_eq!(shared_and_writable(line).as_deref(), Some("400000-7f0000452000"));
        for other in ["rw-p", "r--s", "r-xp", ""] {
            let line = format!("00400000-00452000 {other} 00000000 fe:01 42");
            assert_eq!(shared_and_writable(line.as_bytes()), None);
        }
        assert_eq!(shared_and_writable(b""), None);
    }
}
