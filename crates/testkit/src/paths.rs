//! What lies on a disk, as an independent look sees it.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

/// The paths of everything on a disk but what is ours.
pub fn paths(root: &Path) -> Vec<Vec<u8>> {
    let mut found = Vec::new();
    let mut pending = vec![root.to_path_buf()];
    while let Some(folder) = pending.pop() {
        for entry in fs::read_dir(&folder).expect("a folder") {
            let path = entry.expect("an entry").path();
            let key = path.strip_prefix(root).expect("it is below").as_os_str().as_bytes().to_vec();
            if key == b".zinc-sieve" {
                continue;
            }
            if fs::symlink_metadata(&path).expect("it is there").is_dir() {
                pending.push(path);
            }
            found.push(key);
        }
    }
    found.sort();
    found
}
