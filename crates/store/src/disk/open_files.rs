//! Which files some process has open, as /proc tells: what is open is not moved.

use std::collections::HashSet;
use std::fs;
use std::os::unix::fs::MetadataExt;

/// The device and inode of every file that another process has open, as far as this one may see.
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
    let handles = others.flat_map(|process| fs::read_dir(process.path().join("fd")).into_iter().flatten());
    handles
        .flatten()
        .filter_map(|handle| fs::metadata(handle.path()).ok())
        .filter(fs::Metadata::is_file)
        .map(|metadata| (metadata.dev(), metadata.ino()))
        .collect()
}
