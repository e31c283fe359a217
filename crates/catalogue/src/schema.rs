//! The tables of the catalogue, and how one of an older format becomes one of this: each step makes the next format.

use rusqlite::Connection;
use rusqlite_migration::{M, Migrations};
use sieve_disk::{Error, Kind, Result};

/// The version of the schema that this program writes, and the newest it reads (`PRAGMA user_version`).
pub(super) const FORMAT: i64 = 8;
/// Marks the file as ours (`PRAGMA application_id`): "ZSvC".
pub(super) const APPLICATION: i64 = 0x5A53_7643;

/// All times are nanoseconds since 1970; all rows, offsets and lengths in lanes are granules of 4 KiB; paths
/// have zero bytes between their components.
const TABLES: &str = "
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;

CREATE TABLE disk (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, uuid TEXT NOT NULL UNIQUE, filesystem TEXT,
    volume TEXT NOT NULL, role TEXT NOT NULL, slot INTEGER NOT NULL,
    scanned_at INTEGER, replica INTEGER, parity_bytes INTEGER NOT NULL DEFAULT 0,
    first_cell INTEGER NOT NULL DEFAULT 0, UNIQUE (volume, role, slot, first_cell));
CREATE TABLE volume (name TEXT PRIMARY KEY, cell_bytes INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE retired (uuid TEXT PRIMARY KEY, name TEXT NOT NULL, at INTEGER NOT NULL) WITHOUT ROWID;

CREATE TABLE object (
    id INTEGER PRIMARY KEY, disk INTEGER NOT NULL, inode INTEGER NOT NULL, size INTEGER NOT NULL,
    allocated INTEGER NOT NULL,
    mtime INTEGER NOT NULL, ctime INTEGER NOT NULL, mode INTEGER NOT NULL, uid INTEGER NOT NULL,
    gid INTEGER NOT NULL, extended BLOB, version INTEGER, standing INTEGER NOT NULL, older INTEGER,
    left_out INTEGER NOT NULL);
CREATE INDEX object_of_version ON object (version) WHERE version IS NOT NULL;
CREATE TABLE name (
    disk INTEGER NOT NULL, path BLOB NOT NULL, object INTEGER NOT NULL, PRIMARY KEY (disk, path)) WITHOUT ROWID;
CREATE INDEX name_of_object ON name (object);
CREATE TABLE node (
    disk INTEGER NOT NULL, path BLOB NOT NULL, kind INTEGER NOT NULL, mode INTEGER NOT NULL,
    uid INTEGER NOT NULL, gid INTEGER NOT NULL, mtime INTEGER NOT NULL, ctime INTEGER NOT NULL,
    target BLOB, extended BLOB, recorded INTEGER NOT NULL, PRIMARY KEY (disk, path)) WITHOUT ROWID;
CREATE TABLE held (
    disk INTEGER NOT NULL, path BLOB NOT NULL, original BLOB NOT NULL, since INTEGER NOT NULL,
    replaced INTEGER NOT NULL, edited INTEGER NOT NULL, PRIMARY KEY (disk, path)) WITHOUT ROWID;

CREATE TABLE version (
    id INTEGER PRIMARY KEY, disk INTEGER NOT NULL, size INTEGER NOT NULL, whole BLOB NOT NULL,
    cells BLOB, data BLOB, data_granules INTEGER NOT NULL, mode INTEGER NOT NULL, uid INTEGER NOT NULL,
    gid INTEGER NOT NULL, mtime INTEGER NOT NULL, extended BLOB, recorded INTEGER NOT NULL);

CREATE TABLE lane (
    disk INTEGER NOT NULL, start INTEGER NOT NULL, length INTEGER NOT NULL, version INTEGER NOT NULL,
    offset INTEGER NOT NULL, PRIMARY KEY (disk, start)) WITHOUT ROWID;
CREATE TABLE parity_cell (
    volume TEXT NOT NULL, first INTEGER NOT NULL, count INTEGER NOT NULL, checkpoint INTEGER NOT NULL,
    PRIMARY KEY (volume, first)) WITHOUT ROWID;
CREATE TABLE checkpoint (
    number INTEGER PRIMARY KEY, id INTEGER NOT NULL UNIQUE, parent INTEGER, at INTEGER NOT NULL);
CREATE TABLE segment (
    disk INTEGER NOT NULL, number INTEGER NOT NULL, size INTEGER NOT NULL, mtime INTEGER NOT NULL,
    ctime INTEGER NOT NULL, PRIMARY KEY (disk, number)) WITHOUT ROWID;

CREATE TABLE damaged_content (
    version INTEGER NOT NULL, cell INTEGER NOT NULL, PRIMARY KEY (version, cell)) WITHOUT ROWID;
CREATE TABLE damaged_parity (
    disk INTEGER NOT NULL, cell INTEGER NOT NULL, PRIMARY KEY (disk, cell)) WITHOUT ROWID;

CREATE TABLE look (
    serial TEXT NOT NULL, at INTEGER NOT NULL, reallocated INTEGER, pending INTEGER, uncorrectable INTEGER,
    PRIMARY KEY (serial, at)) WITHOUT ROWID;

CREATE TABLE intent (id INTEGER PRIMARY KEY, detail TEXT NOT NULL);
";

/// What format 2 has more than format 1: contents that are read in part, when cells of
/// parity were last checked, and names that vanished since the last sync.
const SINCE_FORMAT_2: &str = "
CREATE TABLE unfinished (version INTEGER PRIMARY KEY, subtrees BLOB NOT NULL);
CREATE TABLE checked (
    volume TEXT NOT NULL, first INTEGER NOT NULL, count INTEGER NOT NULL, at INTEGER NOT NULL,
    PRIMARY KEY (volume, first)) WITHOUT ROWID;
CREATE TABLE gone (
    disk INTEGER NOT NULL, path BLOB NOT NULL, version INTEGER, older INTEGER, since INTEGER NOT NULL,
    PRIMARY KEY (disk, path)) WITHOUT ROWID;
";

/// Brings the disks of format 2 to format 3: a parity image may go on over several disks.
const DISKS_OF_FORMAT_3: &str = "
ALTER TABLE disk RENAME TO disk_before;
CREATE TABLE disk (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, uuid TEXT NOT NULL UNIQUE, filesystem TEXT,
    volume TEXT NOT NULL, role TEXT NOT NULL, slot INTEGER NOT NULL,
    scanned_at INTEGER, replica INTEGER, parity_bytes INTEGER NOT NULL DEFAULT 0,
    first_cell INTEGER NOT NULL DEFAULT 0, UNIQUE (volume, role, slot, first_cell));
INSERT INTO disk SELECT id, name, uuid, filesystem, volume, role, slot, scanned_at, replica, parity_bytes, 0
    FROM disk_before;
DROP TABLE disk_before;
";

/// What format 4 has more: how much files of tiered volumes are used, the pieces of files that lie on several disks,
/// how folders look in which all is as it is known, and files of mirrored volumes whose copies went separate ways. Indices that
/// nobody asks for are not kept.
const SINCE_FORMAT_4: &str = "
CREATE TABLE heat (
    volume TEXT NOT NULL, path BLOB NOT NULL, score REAL NOT NULL, at INTEGER NOT NULL, seen INTEGER NOT NULL,
    PRIMARY KEY (volume, path)) WITHOUT ROWID;
CREATE TABLE piece (
    disk INTEGER NOT NULL, path BLOB NOT NULL, file BLOB NOT NULL, number INTEGER NOT NULL, count INTEGER NOT NULL,
    offset INTEGER NOT NULL, length INTEGER NOT NULL, size INTEGER NOT NULL, whole BLOB NOT NULL,
    original BLOB NOT NULL, PRIMARY KEY (disk, path)) WITHOUT ROWID;
CREATE INDEX piece_of_file ON piece (file);
CREATE TABLE folder (
    disk INTEGER NOT NULL, path BLOB NOT NULL, looks BLOB NOT NULL, files INTEGER NOT NULL,
    PRIMARY KEY (disk, path)) WITHOUT ROWID;
CREATE TABLE apart (volume TEXT NOT NULL, path BLOB NOT NULL, PRIMARY KEY (volume, path)) WITHOUT ROWID;
DROP INDEX IF EXISTS version_on_disk;
DROP INDEX IF EXISTS object_of_version;
CREATE INDEX object_of_version ON object (version) WHERE version IS NOT NULL;
";

/// What format 5 has more: all that is compared between two looks at a disk.
const SINCE_FORMAT_5: &str = "
ALTER TABLE look ADD COLUMN reported INTEGER;
ALTER TABLE look ADD COLUMN timeouts INTEGER;
ALTER TABLE look ADD COLUMN spin_retries INTEGER;
ALTER TABLE look ADD COLUMN link_errors INTEGER;
";

/// What format 6 has more, so that a question about a few costs what a few cost: how much the files of each disk take, the
/// contents that no object has, which objects are not as they were recorded, and how often something happened to a
/// disk that its lane may have to follow. The database itself keeps it all.
const SINCE_FORMAT_6: &str = "
CREATE TABLE taken (disk INTEGER PRIMARY KEY, objects INTEGER NOT NULL, bytes INTEGER NOT NULL);
INSERT INTO taken SELECT disk, COUNT(*), SUM(allocated) FROM object GROUP BY disk;
CREATE TRIGGER object_comes AFTER INSERT ON object BEGIN
    INSERT INTO taken VALUES (new.disk, 1, new.allocated)
        ON CONFLICT (disk) DO UPDATE SET objects = objects + 1, bytes = bytes + new.allocated;
END;
CREATE TRIGGER object_goes AFTER DELETE ON object BEGIN
    UPDATE taken SET objects = objects - 1, bytes = bytes - old.allocated WHERE disk = old.disk;
END;
CREATE TRIGGER object_grows AFTER UPDATE OF allocated ON object WHEN new.allocated <> old.allocated BEGIN
    UPDATE taken SET bytes = bytes + new.allocated - old.allocated WHERE disk = new.disk;
END;

CREATE TABLE orphan (version INTEGER PRIMARY KEY);
INSERT INTO orphan SELECT id FROM version EXCEPT SELECT version FROM object EXCEPT SELECT older FROM object;
CREATE TRIGGER version_comes AFTER INSERT ON version BEGIN
    INSERT OR IGNORE INTO orphan VALUES (new.id);
END;
CREATE TRIGGER version_goes AFTER DELETE ON version BEGIN
    DELETE FROM orphan WHERE version = old.id;
END;
CREATE TRIGGER object_brings_contents AFTER INSERT ON object
    WHEN new.version IS NOT NULL OR new.older IS NOT NULL
BEGIN
    DELETE FROM orphan WHERE version IN (new.version, new.older);
END;
CREATE TRIGGER object_takes_contents AFTER UPDATE OF version, older ON object
    WHEN (new.version, new.older) IS NOT (old.version, old.older)
BEGIN
    DELETE FROM orphan WHERE version IN (new.version, new.older);
END;
CREATE TRIGGER object_leaves_contents AFTER DELETE ON object BEGIN
    INSERT OR IGNORE INTO orphan SELECT old.version WHERE old.version IS NOT NULL;
    INSERT OR IGNORE INTO orphan SELECT old.older WHERE old.older IS NOT NULL;
END;
CREATE TRIGGER object_leaves_version AFTER UPDATE OF version ON object
    WHEN old.version IS NOT NULL AND old.version IS NOT new.version AND old.version IS NOT new.older
BEGIN
    INSERT OR IGNORE INTO orphan VALUES (old.version);
END;
CREATE TRIGGER object_leaves_older AFTER UPDATE OF older ON object
    WHEN old.older IS NOT NULL AND old.older IS NOT new.older AND old.older IS NOT new.version
BEGIN
    INSERT OR IGNORE INTO orphan VALUES (old.older);
END;

CREATE TABLE stirred (disk INTEGER PRIMARY KEY, count INTEGER NOT NULL, at_rest INTEGER NOT NULL DEFAULT 0);
INSERT INTO stirred (disk, count) SELECT id, 1 FROM disk;
CREATE TRIGGER disk_comes AFTER INSERT ON disk BEGIN
    INSERT OR IGNORE INTO stirred (disk, count) SELECT new.id, 1;
    UPDATE stirred SET count = count + 1 WHERE disk = new.id;
END;
CREATE TRIGGER object_stirs_coming AFTER INSERT ON object BEGIN
    UPDATE stirred SET count = count + 1 WHERE disk = new.disk;
END;
CREATE TRIGGER object_stirs_going AFTER DELETE ON object BEGIN
    UPDATE stirred SET count = count + 1 WHERE disk = old.disk;
END;
CREATE TRIGGER object_stirs AFTER UPDATE OF version, older, standing, left_out ON object
    WHEN (old.version, old.older, old.standing, old.left_out)
        IS NOT (new.version, new.older, new.standing, new.left_out)
BEGIN
    UPDATE stirred SET count = count + 1 WHERE disk = new.disk;
END;
CREATE TRIGGER held_stirs_coming AFTER INSERT ON held BEGIN
    UPDATE stirred SET count = count + 1 WHERE disk = new.disk;
END;
CREATE TRIGGER held_stirs_going AFTER DELETE ON held BEGIN
    UPDATE stirred SET count = count + 1 WHERE disk = old.disk;
END;

CREATE INDEX IF NOT EXISTS object_unsettled ON object (disk)
    WHERE standing <> 0 OR version IS NULL OR older IS NOT NULL;
CREATE INDEX IF NOT EXISTS object_left_out ON object (disk) WHERE left_out <> 0;
CREATE INDEX IF NOT EXISTS version_unrecorded ON version (id) WHERE recorded = 0;
";

/// Files are found by their inodes: a name that was moved behind our back, or through the mounted volume, is the same file.
/// The inode comes first: with the disk in front, questions about the contents of a disk would be answered by way of this index,
/// which then looks at all files of the disk for each.
const SINCE_FORMAT_7: &str = "
CREATE INDEX IF NOT EXISTS object_of_inode ON object (inode, disk);
";

/// How disks were over time.
const SINCE_FORMAT_8: &str = "
CREATE TABLE sample (
    disk INTEGER NOT NULL, at INTEGER NOT NULL, used INTEGER, capacity INTEGER, unguarded INTEGER, celsius REAL,
    reallocated INTEGER, PRIMARY KEY (disk, at)) WITHOUT ROWID;
";

/// Each step makes the next format: the version that the package keeps (`PRAGMA user_version`) is the number of the format.
fn steps() -> Migrations<'static> {
    let steps = [
        TABLES,
        SINCE_FORMAT_2,
        DISKS_OF_FORMAT_3,
        SINCE_FORMAT_4,
        SINCE_FORMAT_5,
        SINCE_FORMAT_6,
        SINCE_FORMAT_7,
        SINCE_FORMAT_8,
    ];
    Migrations::from_iter(steps.map(M::up))
}

/// Brings a catalogue, an empty one too, up to this format, step by step: a crash in between leaves one of an older format.
///
/// # Errors
/// What the database says.
pub(super) fn migrate(c: &mut Connection) -> Result<()> {
    let format = |c: &Connection| c.pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0));
    let mut reached = format(c)?;
    loop {
        let Err(error) = steps().to_latest(c) else { return Ok(()) };
        // A step fails that another command has done in between: what is left of it goes on from there.
        let now = format(c)?;
        if now >= FORMAT {
            return Ok(());
        }
        if now > reached {
            reached = now;
            continue;
        }
        return Err(match error {
            rusqlite_migration::Error::RusqliteError { err, .. } => err.into(),
            other => Error::new(
                Kind::Corrupt,
                "catalogue.damaged",
                format!("the catalogue cannot be brought up to date: {other}"),
            ),
        });
    }
}

/// Makes anew what follows from the other tables, and takes away whatever acts by itself in a database that comes from
/// elsewhere: a doctored replica could bring triggers and views of its own (L6).
///
/// # Errors
/// What the database says.
pub(super) fn make_derived_anew(c: &Connection) -> Result<()> {
    let mut statement =
        c.prepare("SELECT type, name FROM sqlite_schema WHERE type IN ('trigger', 'view')")?;
    let found = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let found: Vec<(String, String)> = found.collect::<rusqlite::Result<_>>()?;
    for (kind, name) in found {
        c.execute_batch(&format!("DROP {kind} IF EXISTS \"{}\"", name.replace('"', "\"\"")))?;
    }
    c.execute_batch("DROP TABLE IF EXISTS taken; DROP TABLE IF EXISTS orphan; DROP TABLE IF EXISTS stirred")?;
    Ok(c.execute_batch(SINCE_FORMAT_6)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// All that there is, as SQLite would make it.
    fn everything(c: &Connection) -> Vec<String> {
        let sql = "SELECT type || ' ' || name || ' ' || COALESCE(sql, '') FROM sqlite_schema ORDER BY 1";
        let mut statement = c.prepare(sql).unwrap();
        let found = statement.query_map([], |row| row.get::<_, String>(0)).unwrap();
        found.map(|text| text.unwrap().split_whitespace().collect::<Vec<_>>().join(" ")).collect()
    }

    /// A catalogue of an older format becomes one of this, with everything that it knows, and with what follows from that.
    #[rstest]
    fn older_formats_are_brought_up(#[values(1, 2, 3, 4, 5, 6, 7)] format: usize) {
        let mut c = Connection::open_in_memory().unwrap();
        steps().to_version(&mut c, format).unwrap();
        c.execute_batch(
            "INSERT INTO disk (id, name, uuid, volume, role, slot) VALUES (3, 'alder', 'u', 'v', 'data', 0);
             INSERT INTO version (id, disk, size, whole, data_granules, mode, uid, gid, mtime, recorded)
                 VALUES (7, 3, 9, x'00', 1, 0, 0, 0, 0, 1), (8, 3, 9, x'00', 1, 0, 0, 0, 0, 1);
             INSERT INTO object (id, disk, inode, size, allocated, mtime, ctime, mode, uid, gid, version, standing, left_out)
                 VALUES (5, 3, 1, 9, 4096, 0, 0, 0, 0, 0, 7, 0, 0), (6, 3, 2, 9, 8192, 0, 0, 0, 0, 0, NULL, 5, 0);
             INSERT INTO name VALUES (3, x'61', 5), (3, x'62', 6);
             INSERT INTO lane VALUES (3, 0, 1, 8, 0);",
        )
        .unwrap();
        migrate(&mut c).unwrap();
        let number = |sql: &str| c.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap();
        assert_eq!(number("PRAGMA user_version"), FORMAT);
        assert_eq!(
            number(
                "SELECT COUNT(*) FROM name n JOIN object o ON o.id = n.object JOIN disk d ON d.id = o.disk"
            ),
            2
        );
        assert_eq!(number("SELECT bytes * 10 + objects FROM taken WHERE disk = 3"), 122_882);
        assert_eq!(
            number("SELECT SUM(version) FROM orphan"),
            8,
            "the content of a file that went is remembered"
        );
        assert_eq!(
            number("SELECT count <> at_rest FROM stirred WHERE disk = 3"),
            1,
            "nothing is taken to be at rest"
        );
        let mut fresh = Connection::open_in_memory().unwrap();
        migrate(&mut fresh).unwrap();
        assert_eq!(everything(&c), everything(&fresh));
    }

    /// Two commands of a new program may be the first ones at the same moment.
    #[test]
    fn several_may_bring_it_up_at_once() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("catalogue.sqlite");
        let open = || {
            let c = Connection::open(&path).unwrap();
            c.busy_timeout(std::time::Duration::from_secs(30)).unwrap();
            c
        };
        let mut first = open();
        first.pragma_update(None, "journal_mode", "WAL").unwrap();
        steps().to_version(&mut first, 2).unwrap();
        std::thread::scope(|scope| {
            for _ in 0..6 {
                scope.spawn(|| migrate(&mut open()).unwrap());
            }
        });
        let mut fresh = Connection::open_in_memory().unwrap();
        migrate(&mut fresh).unwrap();
        assert_eq!(everything(&first), everything(&fresh));
    }

    /// What acts by itself in a database that comes from a disk is taken away, and what follows is made anew.
    #[test]
    fn nothing_of_a_stranger_acts_by_itself() {
        let mut c = Connection::open_in_memory().unwrap();
        migrate(&mut c).unwrap();
        let ours = everything(&c);
        c.execute_batch(
            "CREATE TRIGGER \"a \"\" b\" AFTER INSERT ON name BEGIN DELETE FROM object; END;
             DROP TRIGGER object_goes;
             CREATE TRIGGER object_goes AFTER DELETE ON object BEGIN DELETE FROM version; END;
             CREATE VIEW gone_too AS SELECT * FROM meta;
             INSERT INTO taken VALUES (3, 4711, 4711);",
        )
        .unwrap();
        make_derived_anew(&c).unwrap();
        assert_eq!(everything(&c), ours);
        let taken: i64 = c.query_row("SELECT COUNT(*) FROM taken", [], |row| row.get(0)).unwrap();
        assert_eq!(taken, 0);
    }
}
