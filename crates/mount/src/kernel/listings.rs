//! Listings of folders, in parts: nothing is opened for them, and whoever reads on later goes on where he was.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::os::unix::ffi::OsStrExt;
use std::sync::{Arc, Mutex};
use std::time::Instant;

use fuser::{FileType, Generation, INodeNo, ReplyDirectory, ReplyDirectoryPlus};
use rustix::io::Errno;

use super::words::{HOLDS, attr_of, kind_of, told};
use crate::guarded;
use crate::tree::number::Number;
use crate::tree::volume::{Entry, Volume};

/// So many listings of folders are kept while they are read in parts.
const LISTINGS: usize = 64;

/// The names of a folder, each with where it stands.
type Listing = Arc<Vec<(u64, Entry)>>;

/// Listings that are being read.
#[derive(Default)]
pub(super) struct Listings {
    known: Mutex<HashMap<Number, (Instant, Listing)>>,
}

/// Where a name stands in a listing; 0, 1 and 2 are the beginning, the folder itself, and the one above.
fn cookie(name: &[u8]) -> u64 {
    let mut hasher = DefaultHasher::new();
    name.hash(&mut hasher);
    // The last ones are kept for names that would stand at the same place.
    (hasher.finish() >> 2).max(3)
}

impl Listings {
    /// The names in a folder with where each stands in the listing: by a number made of the name, so that whoever reads on later
    /// misses nothing that was there all the time, whatever came and went.
    fn listing(&self, volume: &Volume, number: Number, offset: u64) -> Result<Listing, Errno> {
        if offset > 0
            && let Some((_, listing)) = guarded(&self.known).get(&number)
        {
            return Ok(Arc::clone(listing));
        }
        let mut entries: Vec<(u64, Entry)> =
            volume.list(number)?.into_iter().map(|entry| (cookie(&entry.name), entry)).collect();
        entries.sort_by(|(one, a), (other, b)| (one, &a.name).cmp(&(other, &b.name)));
        for position in 1..entries.len() {
            entries[position].0 = entries[position].0.max(entries[position - 1].0 + 1);
        }
        let listing = Arc::new(entries);
        let mut listings = guarded(&self.known);
        if listings.len() >= LISTINGS {
            listings.retain(|_, (since, _)| since.elapsed() < HOLDS);
        }
        if listings.len() < 4 * LISTINGS {
            listings.insert(number, (Instant::now(), Arc::clone(&listing)));
        }
        Ok(listing)
    }

    pub(super) fn list(&self, volume: &Volume, ino: INodeNo, offset: u64, mut reply: ReplyDirectory) {
        let listing = match self.listing(volume, Number(ino.0), offset) {
            Ok(listing) => listing,
            Err(errno) => return reply.error(told(errno)),
        };
        for (cookie, name) in [(1, "."), (2, "..")] {
            if offset < cookie && reply.add(ino, cookie, FileType::Directory, name) {
                return reply.ok();
            }
        }
        let from = listing.partition_point(|(cookie, _)| *cookie <= offset.max(2));
        for (cookie, entry) in &listing[from..] {
            let name = OsStr::from_bytes(&entry.name);
            if reply.add(INodeNo(entry.number.0), *cookie, kind_of(entry.kind), name) {
                break;
            }
        }
        reply.ok();
    }

    pub(super) fn list_with_looks(
        &self,
        volume: &Volume,
        ino: INodeNo,
        offset: u64,
        mut reply: ReplyDirectoryPlus,
    ) {
        let parent = Number(ino.0);
        let (listing, own) = match (self.listing(volume, parent, offset), volume.look_at(parent)) {
            (Ok(listing), Ok(own)) => (listing, own),
            (Err(errno), _) | (_, Err(errno)) => return reply.error(told(errno)),
        };
        for (cookie, name) in [(1, "."), (2, "..")] {
            if offset < cookie && reply.add(ino, cookie, name, &HOLDS, &attr_of(&own), Generation(0)) {
                return reply.ok();
            }
        }
        let from = listing.partition_point(|(cookie, _)| *cookie <= offset.max(2));
        for (cookie, entry) in &listing[from..] {
            // What vanished meanwhile is left out.
            let Ok(look) = volume.lookup(parent, &entry.name) else { continue };
            let name = OsStr::from_bytes(&entry.name);
            let (ino, attr) = (INodeNo(look.number.0), attr_of(&look));
            if reply.add(ino, *cookie, name, &HOLDS, &attr, Generation(0)) {
                volume.nodes.forget(look.number, 1);
                break;
            }
        }
        reply.ok();
    }
}
