//! Which losses were proven by a drill, and when.

use rusqlite::Connection;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use sieve_disk::{Error, Kind, Result};

/// When the loss of some disks was last proven, and with how many files.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Proof {
    /// The disks.
    pub lost: Vec<String>,
    /// When, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub at: i64,
    /// Files that were looked at.
    pub files: u64,
    /// Cells of parity that were computed and are as they lie there.
    pub parity_cells: u64,
}

/// Keeps when the loss of some disks was last proven.
///
/// # Errors
/// What the database says.
pub fn keep(c: &Connection, proof: &Proof) -> Result<()> {
    let text = serde_json::to_string(proof)
        .map_err(|e| Error::new(Kind::Internal, "proof.write", format!("a proof cannot be written: {e}")))?;
    let key = format!("proven:{}", proof.lost.join(","));
    c.execute("INSERT OR REPLACE INTO meta VALUES (?1, ?2)", [key, text])?;
    Ok(())
}

/// When which losses were last proven.
///
/// # Errors
/// What the database says; a proof that cannot be understood is none.
pub fn all(c: &Connection) -> Result<Vec<Proof>> {
    let mut statement = c.prepare_cached("SELECT value FROM meta WHERE key LIKE 'proven:%' ORDER BY key")?;
    let texts =
        statement.query_map([], |row| row.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
    Ok(texts.iter().filter_map(|text| serde_json::from_str(text).ok()).collect())
}
