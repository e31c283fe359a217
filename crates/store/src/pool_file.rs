//! Changing the pool file, with its comments and order kept.

use std::path::Path;

use sieve_core::path::RelPath;

use crate::disk::Disk;
use crate::durable;
use crate::error::{Error, Kind, Result};

/// Sets the path of a disk in the pool file.
///
/// # Crash safety
/// The old pool file stays whole until the new one is durable.
///
/// # Errors
/// When the file cannot be read or written, or has no such disk.
pub fn set_disk_path(home: &dyn Disk, pool_file: &Path, disk: &str, path: &str) -> Result<()> {
    let text = std::fs::read_to_string(pool_file).map_err(|e| Error::io("pool-file.read", pool_file, e))?;
    let changed = with_disk_path(&text, disk, path).ok_or_else(|| {
        let message = format!("{}: there is no disk {disk} to give another path", pool_file.display());
        Error::new(Kind::Conflict, "pool-file.no-disk", message)
    })?;
    let name = pool_file.file_name().map(std::os::unix::ffi::OsStrExt::as_bytes).unwrap_or_default();
    let name = RelPath::new(name)
        .map_err(|e| Error::new(Kind::Usage, "pool-file.name", format!("{}: {e}", pool_file.display())))?;
    durable::write_file(home, &name, changed.as_bytes())
}

fn with_disk_path(text: &str, disk: &str, path: &str) -> Option<String> {
    let mut document: toml_edit::DocumentMut = text.parse().ok()?;
    let table = document
        .get_mut("disk")?
        .as_array_of_tables_mut()?
        .iter_mut()
        .find(|table| table.get("name").and_then(toml_edit::Item::as_str) == Some(disk))?;
    match table.get_mut("path").and_then(toml_edit::Item::as_value_mut) {
        Some(value) => {
            let decor = value.decor().clone();
            *value = path.into();
            *value.decor_mut() = decor;
        }
        None => {
            table.insert("path", toml_edit::value(path));
        }
    }
    Some(document.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_path_changes_and_comments_stay() {
        let text = "# mine\n[pool]\nname = \"f\"\n\n[[disk]]\nname = \"alder\" # first\npath = \"/a\"  # left\n\n[[disk]]\nname = \"oak\"\n";
        let changed = with_disk_path(text, "alder", "/new").unwrap();
        assert_eq!(changed, text.replace("\"/a\"", "\"/new\""));
        assert!(with_disk_path(text, "oak", "/o").unwrap().ends_with("name = \"oak\"\npath = \"/o\"\n"));
        assert_eq!(with_disk_path(text, "elm", "/e"), None);
    }
}
