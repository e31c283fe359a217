//! What a pool holds, file by file, for another machine.

use sieve_catalogue::{objects, versions};
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::pool::Pool;

use crate::{Look, Outlook, PoolOutlook};

/// One file, as a listing has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Held {
    /// Its path, as bytes.
    pub path: Vec<u8>,
    /// Its length.
    pub size: ByteLength,
    /// Its modification time, nanoseconds since 1970, where it is known.
    pub modified: Option<i64>,
    /// Its BLAKE3, where its present content was checksummed.
    pub blake3: Option<[u8; 32]>,
}

/// Calls `visit` with every file of every volume; a file in pieces, or on several disks, comes once.
///
/// # Errors
/// Those of `visit`; what a disk or the database says.
pub fn each_file(
    pool: &Pool,
    look: Look,
    observer: &dyn Observer,
    mut visit: impl FnMut(Held) -> Result<()>,
) -> Result<()> {
    let mut outlook = PoolOutlook::open(pool, look, observer)?;
    outlook.lose(&[], false)?;
    outlook.for_each_file(&mut |file| {
        let path = match &file.path_hex {
            Some(hex) => hex::decode(hex).unwrap_or_default(),
            None => file.path.clone().into_bytes(),
        };
        let (mut modified, mut blake3) = (None, None);
        if let Some(known) = file.content {
            let version = versions::get(pool.catalogue.reading(), known)?;
            blake3 = (!version.unfinished).then_some(version.sum.whole);
            modified = Some(version.attributes.mtime);
        } else if let (Ok(at), Some(disk)) = (RelPath::new(path.clone()), file.disks.first()) {
            let disk = pool.member_named(disk)?.row.id;
            modified = objects::by_path(pool.catalogue.reading(), disk, &at)?.map(|object| object.mtime);
        }
        visit(Held { path, size: file.size_bytes, modified, blake3 })
    })
}
