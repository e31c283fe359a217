//! The members of the pool.

use std::str::FromStr;

use rusqlite::{Connection, OptionalExtension, Row};
use sieve_core::sync::CellGeometry;
use sieve_core::units::{ByteLength, DiskId};
use uuid::Uuid;

use crate::label::{Label, Role, oldest_format};
use crate::{Identity, corrupt, signed, unsigned};
use sieve_disk::FilesystemId;
use sieve_disk::Result;

/// A member, as the catalogue knows it.
#[derive(Clone, Debug)]
pub struct DiskRow {
    /// Its number.
    pub id: DiskId,
    /// Its name.
    pub name: String,
    /// What its label says.
    pub uuid: Uuid,
    /// The filesystem it was labelled on.
    pub filesystem: Option<FilesystemId>,
    /// Its volume.
    pub volume: String,
    /// Who that volume is, whatever it is called; nothing where it was built before volumes had an id.
    pub volume_id: Option<Uuid>,
    /// What it does there.
    pub role: Role,
    /// Its slot or parity index.
    pub slot: u8,
    /// On a parity disk, the first cell that lies there: 0, unless an image goes on from another disk.
    pub first_cell: u32,
    /// When it was last scanned, nanoseconds since 1970.
    pub scanned_at: Option<i64>,
    /// The number of the checkpoint that its replica of the catalogue is of.
    pub replica: Option<u64>,
    /// The size of the parity image on it.
    pub parity_bytes: ByteLength,
}

impl DiskRow {
    /// The label that says of the disk what the catalogue does.
    pub fn label(&self, pool: &Identity, filesystem: Option<FilesystemId>) -> Label {
        Label {
            format: oldest_format(self.role, self.first_cell, self.volume_id.is_some()),
            pool: pool.pool,
            pool_name: pool.name.clone(),
            volume: self.volume.clone(),
            volume_id: self.volume_id,
            disk_name: self.name.clone(),
            disk: self.uuid,
            role: self.role,
            slot: self.slot,
            first_cell: self.first_cell,
            filesystem,
        }
    }
}

fn read(row: &Row<'_>) -> rusqlite::Result<DiskRow> {
    let parsed = |index: usize, text: String| {
        Uuid::from_str(&text).map_err(|e| {
            rusqlite::Error::FromSqlConversionFailure(index, rusqlite::types::Type::Text, Box::new(e))
        })
    };
    let role: String = row.get(5)?;
    Ok(DiskRow {
        id: DiskId::new(row.get(0)?),
        name: row.get(1)?,
        uuid: parsed(2, row.get(2)?)?,
        filesystem: row.get::<_, Option<String>>(3)?.map(FilesystemId),
        volume: row.get(4)?,
        role: match role.as_str() {
            "parity" => Role::Parity,
            "cache" => Role::Cache,
            _ => Role::Data,
        },
        slot: row.get(6)?,
        scanned_at: row.get(7)?,
        replica: row.get::<_, Option<i64>>(8)?.map(unsigned),
        parity_bytes: ByteLength::new(unsigned(row.get(9)?)),
        first_cell: row.get(10)?,
        volume_id: row.get::<_, Option<String>>(11)?.map(|text| parsed(11, text)).transpose()?,
    })
}

/// All members, data before parity before caches, in the order of their slots.
///
/// # Errors
/// What the database says.
pub fn all(c: &Connection) -> Result<Vec<DiskRow>> {
    let mut statement = c.prepare_cached(
        "SELECT id, name, uuid, filesystem, volume, role, slot, scanned_at, replica, parity_bytes,
             first_cell, (SELECT value FROM meta WHERE key = 'volume-id:' || volume)
         FROM disk ORDER BY volume, role = 'cache', role, slot, first_cell",
    )?;
    let rows = statement.query_map([], read)?.collect::<rusqlite::Result<_>>()?;
    Ok(rows)
}

/// Adds a member; its id in `row` is ignored.
///
/// # Errors
/// When the name, uuid or slot is taken.
pub fn insert(c: &Connection, row: &DiskRow) -> Result<DiskId> {
    c.execute(
        "INSERT INTO disk (name, uuid, filesystem, volume, role, slot, first_cell)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        (
            &row.name,
            row.uuid.to_string(),
            row.filesystem.as_ref().map(|f| &f.0),
            &row.volume,
            row.role.word(),
            row.slot,
            row.first_cell,
        ),
    )?;
    Ok(DiskId::new(c.last_insert_rowid()))
}

/// Lets a disk leave, with all that is known of its files and its parity; it is remembered as retired.
///
/// # Errors
/// What the database says.
pub fn remove(c: &Connection, row: &DiskRow, now: i64) -> Result<()> {
    retire(c, row, now)?;
    crate::parity_state::forget_image(c, row.id)?;
    c.execute(
        "DELETE FROM damaged_content WHERE version IN (SELECT id FROM version WHERE disk = ?1)",
        [row.id.get()],
    )?;
    c.execute(
        "DELETE FROM unfinished WHERE version IN (SELECT id FROM version WHERE disk = ?1)",
        [row.id.get()],
    )?;
    let of_disk = [
        "folder", "name", "node", "held", "gone", "lane", "object", "version", "piece", "taken", "stirred",
        "sample",
    ];
    for table in of_disk {
        c.execute(&format!("DELETE FROM {table} WHERE disk = ?1"), [row.id.get()])?;
    }
    c.execute("DELETE FROM disk WHERE id = ?1", [row.id.get()])?;
    Ok(())
}

fn retire(c: &Connection, row: &DiskRow, now: i64) -> Result<()> {
    c.execute(
        "INSERT OR REPLACE INTO retired (uuid, name, at) VALUES (?1, ?2, ?3)",
        (row.uuid.to_string(), &row.name, now),
    )?;
    Ok(())
}

/// Lets another disk take the place of a member; the old one is remembered as retired.
///
/// # Errors
/// What the database says.
pub fn succeed(
    c: &Connection,
    old: &DiskRow,
    uuid: Uuid,
    filesystem: Option<&FilesystemId>,
    now: i64,
) -> Result<()> {
    retire(c, old, now)?;
    c.execute(
        "UPDATE disk SET uuid = ?2, filesystem = ?3, replica = NULL, scanned_at = ?4 WHERE id = ?1",
        (old.id.get(), uuid.to_string(), filesystem.map(|f| &f.0), now),
    )?;
    Ok(())
}

/// Whether a disk was a member once, and when it was replaced.
///
/// # Errors
/// What the database says.
pub fn retired_at(c: &Connection, uuid: Uuid) -> Result<Option<i64>> {
    Ok(c.query_row("SELECT at FROM retired WHERE uuid = ?1", [uuid.to_string()], |row| row.get(0))
        .optional()?)
}

/// Notes when a disk was scanned.
///
/// # Errors
/// What the database says.
pub fn set_scanned(c: &Connection, disk: DiskId, at: i64) -> Result<()> {
    c.execute("UPDATE disk SET scanned_at = ?2 WHERE id = ?1", (disk.get(), at))?;
    Ok(())
}

/// Notes which checkpoint the replica on a disk is of.
///
/// # Errors
/// What the database says.
pub fn set_replica(c: &Connection, disk: DiskId, checkpoint: u64) -> Result<()> {
    c.execute("UPDATE disk SET replica = ?2 WHERE id = ?1", (disk.get(), signed(checkpoint)))?;
    Ok(())
}

/// Gives a disk another name.
///
/// # Errors
/// When there is one of that name.
pub fn rename(c: &Connection, old: &str, new: &str) -> Result<()> {
    c.execute("UPDATE disk SET name = ?2 WHERE name = ?1", [old, new])?;
    Ok(())
}

/// Notes the size of the parity image on a disk.
///
/// # Errors
/// What the database says.
pub fn set_parity_bytes(c: &Connection, disk: DiskId, bytes: ByteLength) -> Result<()> {
    c.execute("UPDATE disk SET parity_bytes = ?2 WHERE id = ?1", (disk.get(), signed(bytes.exact())))?;
    Ok(())
}

/// Adds a volume.
///
/// # Errors
/// When there is one of that name.
pub fn insert_volume(c: &Connection, name: &str, geometry: CellGeometry) -> Result<()> {
    c.execute("INSERT INTO volume VALUES (?1, ?2)", (name, signed(geometry.cell_bytes())))?;
    Ok(())
}

/// Forgets a volume whose disks have left.
///
/// # Errors
/// What the database says.
pub fn remove_volume(c: &Connection, name: &str) -> Result<()> {
    for table in super::volumes::WITH_VOLUME {
        c.execute(&format!("DELETE FROM {table} WHERE volume = ?1"), [name])?;
    }
    super::volumes::forget(c, name)?;
    c.execute("DELETE FROM volume WHERE name = ?1", [name])?;
    Ok(())
}

/// How the parity of a volume is cut into cells.
///
/// # Errors
/// When the catalogue does not know the volume.
pub fn geometry(c: &Connection, volume: &str) -> Result<CellGeometry> {
    let bytes: Option<i64> = c
        .query_row("SELECT cell_bytes FROM volume WHERE name = ?1", [volume], |row| row.get(0))
        .optional()?;
    bytes
        .and_then(|b| CellGeometry::with_cell(unsigned(b)))
        .ok_or_else(|| corrupt(format!("the catalogue does not know volume {volume}")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema;

    /// All tables with a column of that name.
    fn tables_with(c: &Connection, column: &str) -> Vec<String> {
        let sql = "SELECT m.name FROM sqlite_master m JOIN pragma_table_info(m.name) i
            WHERE m.type = 'table' AND i.name = ?1";
        let mut statement = c.prepare(sql).unwrap();
        statement.query_map([column], |row| row.get(0)).unwrap().collect::<rusqlite::Result<_>>().unwrap()
    }

    /// Puts one row into a table: of disk 1, of volume films, and of no matter what else.
    fn put_row(c: &Connection, table: &str) {
        let sql = "SELECT CASE WHEN name = 'disk' THEN '1' WHEN name = 'volume' THEN '''films'''
            WHEN type = 'BLOB' THEN 'x''00''' ELSE '1' END FROM pragma_table_info(?1)";
        let mut statement = c.prepare(sql).unwrap();
        let values: Vec<String> =
            statement.query_map([table], |row| row.get(0)).unwrap().collect::<rusqlite::Result<_>>().unwrap();
        c.execute(&format!("INSERT INTO {table} VALUES ({})", values.join(", ")), []).unwrap();
    }

    fn rows(c: &Connection, table: &str) -> i64 {
        c.query_row(&format!("SELECT COUNT(*) FROM {table}"), [], |row| row.get(0)).unwrap()
    }

    /// Numbers of disks and names of volumes are used again: what is left behind would be taken for the new one's.
    #[test]
    fn a_disk_and_a_volume_that_leave_leave_nothing_behind() {
        let mut c = Connection::open_in_memory().unwrap();
        schema::migrate(&mut c).unwrap();
        let mut row = DiskRow {
            id: DiskId::new(0),
            name: "heron".into(),
            uuid: Uuid::new_v4(),
            filesystem: None,
            volume: "films".into(),
            volume_id: None,
            role: Role::Data,
            slot: 0,
            first_cell: 0,
            scanned_at: None,
            replica: None,
            parity_bytes: ByteLength::ZERO,
        };
        row.id = insert(&c, &row).unwrap();
        let of_disk = tables_with(&c, "disk");
        let of_volume: Vec<String> =
            tables_with(&c, "volume").into_iter().filter(|table| table != "disk").collect();
        // What follows from other tables is there by itself.
        let follows = |table: &String| ["taken", "stirred"].contains(&table.as_str());
        for table in of_disk.iter().chain(&of_volume).filter(|table| !follows(table)) {
            put_row(&c, table);
        }
        assert!(of_disk.iter().all(|table| rows(&c, table) == 1) && of_disk.len() >= 8, "{of_disk:?}");
        remove(&c, &row, 0).unwrap();
        remove_volume(&c, "films").unwrap();
        let left: Vec<&String> =
            of_disk.iter().chain(&of_volume).filter(|table| rows(&c, table) > 0).collect();
        assert!(left.is_empty(), "{left:?}");
    }
}
