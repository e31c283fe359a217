//! What was begun: written down before the first step, taken away after the last.

use rusqlite::Connection;
use serde::{Deserialize, Serialize};
use sieve_core::units::{DiskId, ObjectId};
use uuid::Uuid;

use super::corrupt;
use super::relocation::Move;
use crate::pool_file::Edit;
use sieve_disk::{Error, Kind, Result};

/// A file that is moved out of sight.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Holds {
    /// The object.
    pub object: ObjectId,
    /// Its name, as a tree key.
    pub original: Vec<u8>,
    /// Where it goes, as a tree key.
    pub held: Vec<u8>,
}

/// One action of several steps.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "action", rename_all = "kebab-case")]
pub enum Intent {
    /// The labels of a new pool are being written.
    Create,
    /// A file is moved out of sight until the next sync has passed it.
    Hold {
        /// The disk.
        disk: DiskId,
        /// The object.
        object: ObjectId,
        /// Its name, as a tree key.
        original: Vec<u8>,
        /// Where it goes, as a tree key.
        held: Vec<u8>,
        /// Another file takes its name.
        replaced: bool,
    },
    /// Files are moved out of sight until the next sync has passed them.
    HoldAll {
        /// The disk.
        disk: DiskId,
        /// Which, and where they go.
        files: Vec<Holds>,
        /// Other files take their names.
        replaced: bool,
    },
    /// A file is exchanged with the one that replaces it, which lies under the held name before.
    Exchange {
        /// The disk.
        disk: DiskId,
        /// The object that is replaced.
        object: ObjectId,
        /// Its name, as a tree key.
        original: Vec<u8>,
        /// Where it goes, as a tree key.
        held: Vec<u8>,
        /// The inode of the new file.
        made: u64,
        /// The new file is the same one, mended.
        #[serde(default)]
        mends: bool,
    },
    /// A damaged cell of a file is overwritten where it lies; the right bytes are beside those that are kept.
    Mend {
        /// The disk.
        disk: DiskId,
        /// The object.
        object: ObjectId,
        /// Its name, as a tree key.
        path: Vec<u8>,
        /// Where the damaged bytes are kept, as a tree key; the right ones are there with `.good` after it.
        kept: Vec<u8>,
        /// Where the cell begins in the file, in bytes.
        offset: u64,
    },
    /// A lost disk is being rebuilt.
    Rebuild {
        /// The lost member.
        disk: DiskId,
        /// The disk that takes its place.
        successor: Uuid,
        /// Where that is mounted.
        onto: String,
    },
    /// The pool file has to follow what was committed.
    EditPoolFile {
        /// How.
        edits: Vec<Edit>,
    },
    /// A member gets its label, and the pool file names it.
    Join {
        /// The member.
        disk: DiskId,
        /// Where it is.
        at: String,
        /// How the pool file changes.
        edits: Vec<Edit>,
    },
    /// A disk is a member no longer: our things go from it, and the pool file follows.
    Leave {
        /// What its label says.
        uuid: Uuid,
        /// Where it is, if it is there.
        at: Option<String>,
        /// How the pool file changes.
        edits: Vec<Edit>,
    },
    /// Files are on their way from members to others.
    Relocate {
        /// Which, from where to where.
        moves: Vec<Move>,
    },
    /// A file is being put down in pieces.
    Pieces {
        /// The disks, and where the pieces go there, as tree keys.
        pieces: Vec<(DiskId, Vec<u8>)>,
    },
    /// The whole copy of a file in pieces takes their place.
    Whole {
        /// Its disk.
        disk: DiskId,
        /// It.
        object: ObjectId,
        /// Where it lay beside the pieces, as a tree key.
        copy: Vec<u8>,
        /// The name of the file, as a tree key.
        path: Vec<u8>,
        /// The disks, and where the pieces lie there, as tree keys.
        pieces: Vec<(DiskId, Vec<u8>)>,
    },
    /// A parity image is being copied to other disks.
    Move {
        /// The member that it is copied from.
        disk: DiskId,
        /// The disk that takes its place.
        successor: Uuid,
        /// Where that is mounted.
        onto: String,
        /// The disk that the image goes on on, and from which cell on.
        rest: Option<(Uuid, u32)>,
    },
}

impl Intent {
    /// Whether a file may lie under a held name and not be known as held.
    pub const fn is_hold(&self) -> bool {
        matches!(self, Self::Hold { .. } | Self::HoldAll { .. } | Self::Exchange { .. })
    }
}

/// Writes an intent down; the number takes it away again.
///
/// # Errors
/// What the database says.
pub fn insert(c: &Connection, intent: &Intent) -> Result<i64> {
    let text = serde_json::to_string(intent).map_err(|e| {
        Error::new(Kind::Internal, "intent.write", format!("an intent cannot be written: {e}"))
    })?;
    c.prepare_cached("INSERT INTO intent (detail) VALUES (?1)")?.execute([text])?;
    Ok(c.last_insert_rowid())
}

/// Takes an intent away.
///
/// # Errors
/// What the database says.
pub fn remove(c: &Connection, id: i64) -> Result<()> {
    c.prepare_cached("DELETE FROM intent WHERE id = ?1")?.execute([id])?;
    Ok(())
}

/// Takes away the intents that `is_done` names.
///
/// # Errors
/// What the database says; when an intent cannot be understood.
pub fn remove_where(c: &Connection, is_done: impl Fn(&Intent) -> bool) -> Result<()> {
    for (id, intent) in all(c)? {
        if is_done(&intent) {
            remove(c, id)?;
        }
    }
    Ok(())
}

/// All that was begun and not finished, in order.
///
/// # Errors
/// When an intent cannot be understood.
pub fn all(c: &Connection) -> Result<Vec<(i64, Intent)>> {
    let mut statement = c.prepare_cached("SELECT id, detail FROM intent ORDER BY id")?;
    let rows = statement
        .query_map([], |row| Ok((row.get(0)?, row.get::<_, String>(1)?)))?
        .collect::<rusqlite::Result<Vec<(i64, String)>>>()?;
    rows.into_iter()
        .map(|(id, text)| {
            serde_json::from_str(&text)
                .map(|intent| (id, intent))
                .map_err(|e| corrupt(format!("an intent in the catalogue cannot be understood: {e}")))
        })
        .collect()
}
