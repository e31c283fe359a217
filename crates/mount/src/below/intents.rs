//! Folders that are being renamed on several disks: written down first, beside the pool file, so that what a crash leaves
//! under two names is finished when the volume is mounted again.

use std::sync::Arc;

use rustix::io::Errno;
use serde::{Deserialize, Serialize};
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_disk::{Disk, Result, durable, read_small};

use crate::code_of;

/// No intent is so long: two paths.
const LARGEST: u64 = 64 << 10;

/// Where the intents of a mounted volume are.
pub(crate) struct Intents {
    home: Arc<dyn Disk>,
    volume: String,
}

/// A folder that is being renamed.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct RenameIntent {
    format: u32,
    volume: String,
    /// Its old and its new path, in hexadecimal.
    from_hex: String,
    to_hex: String,
    #[serde(skip)]
    place: Option<RelPath>,
}

impl Intents {
    pub(crate) fn new(home: &Arc<dyn Disk>, volume: &str) -> Self {
        Self { home: Arc::clone(home), volume: volume.into() }
    }

    /// Writes down that a folder is being renamed.
    pub(crate) fn begin(&self, from: &RelPath, to: &RelPath) -> std::result::Result<RenameIntent, Errno> {
        let place = OurPlace::Mounts.with(&format!("{}.rename", hex::encode(self.volume.as_bytes())));
        let intent = RenameIntent {
            format: 1,
            volume: self.volume.clone(),
            from_hex: hex::encode(from.as_bytes()),
            to_hex: hex::encode(to.as_bytes()),
            place: Some(place.clone()),
        };
        let write = || {
            durable::make_own_folder(&*self.home, &OurPlace::Mounts.path())?;
            durable::write_file(
                &*self.home,
                &place,
                serde_json::to_string(&intent).unwrap_or_default().as_bytes(),
            )
        };
        write().map_err(|e| code_of(&e))?;
        Ok(intent)
    }

    /// It is done.
    pub(crate) fn end(&self, intent: &RenameIntent) -> std::result::Result<(), Errno> {
        let Some(place) = &intent.place else { return Ok(()) };
        self.home.remove_file(place).map_err(|e| code_of(&e))
    }

    /// What an earlier run had begun; nothing where what is there is not ours to understand.
    pub(crate) fn unfinished(&self) -> Result<Option<(RelPath, RelPath, RenameIntent)>> {
        let place = OurPlace::Mounts.with(&format!("{}.rename", hex::encode(self.volume.as_bytes())));
        if self.home.stat(&place)?.is_none() {
            return Ok(None);
        }
        let bytes = read_small(&*self.home, &place, LARGEST)?;
        let Ok(mut intent) = serde_json::from_slice::<RenameIntent>(&bytes) else { return Ok(None) };
        intent.place = Some(place);
        let path = |hex: &str| {
            hex::decode(hex).ok().and_then(|bytes| RelPath::new(bytes).ok()).filter(|p| !p.is_ours())
        };
        let paths = (path(&intent.from_hex), path(&intent.to_hex));
        let is_ours = intent.format == 1 && intent.volume == self.volume;
        Ok(match paths {
            (Some(from), Some(to)) if is_ours && !from.is_root() && !to.is_root() => Some((from, to, intent)),
            _ => None,
        })
    }
}
