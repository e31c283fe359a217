//! Bit rot: bytes that change while size, times and inode stay as they were.

use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::Path;

use crate::Lab;

impl Lab {
    /// Flips a bit of a file and puts its times back; the catalogue is told the change time that this
    /// leaves, as if nothing had happened.
    pub fn rot(&self, path: &Path, offset: u64) {
        self.unnoticed(path, || self.flip(path, offset));
    }

    /// Replaces a part of a file by other bytes, as unnoticed as [`Self::rot`].
    pub fn overwrite(&self, path: &Path, offset: u64, bytes: &[u8]) {
        self.unnoticed(path, || {
            let file = std::fs::OpenOptions::new().write(true).open(path).expect("the file can be opened");
            let modified = file.metadata().and_then(|m| m.modified()).expect("the file has a time");
            file.write_all_at(bytes, offset).expect("the bytes can be written");
            file.set_modified(modified).expect("the time can be put back");
        });
    }

    fn unnoticed(&self, path: &Path, change: impl FnOnce()) {
        let before = std::fs::metadata(path).expect("the file exists");
        change();
        let after = std::fs::metadata(path).expect("the file exists");
        let nanoseconds = |seconds: i64, part: i64| seconds * 1_000_000_000 + part;
        let database = rusqlite::Connection::open(self.root().join(".zinc-sieve/catalogue.sqlite"))
            .expect("the catalogue can be opened");
        // Other files may have been written within the same tick of the clock.
        let same = format!("inode = {}", after.ino());
        for (table, same) in [("object", same), ("segment", format!("size = {}", after.len()))] {
            let sql = format!("UPDATE {table} SET ctime = ?1 WHERE ctime = ?2 AND {same}");
            database
                .execute(
                    &sql,
                    (
                        nanoseconds(after.ctime(), after.ctime_nsec()),
                        nanoseconds(before.ctime(), before.ctime_nsec()),
                    ),
                )
                .expect("the catalogue can be changed");
        }
    }

    /// Flips a bit of a file and puts its modification time back; the change time shows it.
    pub fn flip(&self, path: &Path, offset: u64) {
        let file =
            std::fs::OpenOptions::new().read(true).write(true).open(path).expect("the file can be opened");
        let modified = file.metadata().and_then(|m| m.modified()).expect("the file has a time");
        let mut byte = [0];
        file.read_exact_at(&mut byte, offset).expect("the byte can be read");
        file.write_all_at(&[byte[0] ^ 0x04], offset).expect("the byte can be written");
        file.set_modified(modified).expect("the time can be put back");
    }
}
