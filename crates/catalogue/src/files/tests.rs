//! What costs as much as changed gives the same answers as what looks at everything.

use proptest::collection::vec;
use proptest::prelude::*;
use rusqlite::Connection;
use sieve_core::units::DiskId;

use crate::contents::{self, Fallen};
use crate::{schema, shared, unsigned, versions};

type Step = (u8, u8, u8);

fn database(steps: &[Step]) -> Connection {
    let mut c = Connection::open_in_memory().unwrap();
    schema::migrate(&mut c).unwrap();
    for disk in 1..=3 {
        let sql =
            "INSERT INTO disk (id, name, uuid, volume, role, slot) VALUES (?1, ?2, ?3, 'v', 'data', ?1)";
        c.execute(sql, (disk, format!("d{disk}"), format!("00000000-0000-4000-8000-{disk:012}"))).unwrap();
    }
    for (index, step) in steps.iter().enumerate() {
        happen(&c, index as i64 + 1, *step);
    }
    c
}

/// Something happens to a pool; nothing that could not, so that both ways may be asked about it.
fn happen(c: &Connection, index: i64, (what, which, how): Step) {
    let (which, how) = (i64::from(which), i64::from(how));
    let object = which % index + 1;
    let disk = which % 3 + 1;
    let new_version = |disk: i64| {
        let insert =
            "INSERT INTO version (id, disk, size, whole, data_granules, mode, uid, gid, mtime, recorded)
             VALUES (?1, ?2, ?3, ?4, 1, 0, 0, 0, ?3, ?5)";
        c.execute(insert, (index, disk, how % 3, [(how % 5) as u8; 32], how % 2)).unwrap();
        index
    };
    let run = |sql: &str| c.execute(sql, [object]).unwrap();
    match what % 10 {
        0 | 1 => {
            let version = (how % 4 > 0).then(|| new_version(disk));
            let insert = "INSERT INTO object
                 (id, disk, inode, size, allocated, mtime, ctime, mode, uid, gid, version, standing, left_out)
                 VALUES (?1, ?2, 7, ?3, 0, ?3, 0, 0, 0, 0, ?4, ?5, 0)";
            c.execute(insert, (index, disk, how % 3, version, how % 5)).unwrap();
            let name = "INSERT OR IGNORE INTO name VALUES (?1, ?2, ?3)";
            c.execute(name, (disk, format!("f{}", how % 7).into_bytes(), index)).unwrap();
            let lane = "INSERT INTO lane VALUES (?1, ?2, 1, ?3, 0)";
            version.filter(|_| which % 4 > 0).map(|v| c.execute(lane, (disk, index, v)).unwrap());
        }
        2 => {
            run("DELETE FROM name WHERE object = ?1");
            run("DELETE FROM object WHERE id = ?1");
        }
        3 => {
            let sql = "SELECT disk FROM object WHERE id = ?1";
            let Ok(disk) = c.query_row(sql, [object], |row| row.get(0)) else { return };
            let version = new_version(disk);
            let older = if how % 2 == 0 { "version" } else { "older" };
            let sql = format!("UPDATE object SET version = ?2, older = {older}, standing = ?3 WHERE id = ?1");
            c.execute(&sql, (object, version, how % 5)).unwrap();
        }
        4 => drop(
            c.execute("UPDATE object SET standing = ?2, size = ?3 WHERE id = ?1", (object, how % 5, how % 3))
                .unwrap(),
        ),
        5 => drop(run(
            "INSERT OR IGNORE INTO held SELECT disk, path, path, 0, 0, 0 FROM name WHERE object = ?1",
        )),
        // A content whose file was another one when it was to be recorded.
        9 => {
            let version = new_version(disk);
            let lane = "INSERT INTO lane VALUES (?1, ?2, 1, ?3, 0)";
            Some(()).filter(|()| how % 2 == 0).map(|()| c.execute(lane, (disk, index, version)).unwrap());
        }
        6 => drop(run("DELETE FROM lane WHERE start = ?1")),
        7 => drop(run("UPDATE version SET recorded = 1 WHERE id = ?1")),
        _ => drop(run("UPDATE object SET older = NULL WHERE id = ?1")),
    }
}

/// [`contents::fallen`], asked of everything.
fn fallen_of_all(c: &Connection, disk: i64) -> Fallen {
    let sql = "
        WITH known AS (SELECT DISTINCT version FROM lane WHERE disk = ?1),
             present AS (SELECT o.version AS v FROM object o JOIN version c ON c.id = o.version WHERE o.disk = ?1
                     AND (o.standing IN (0, 1, 4) OR o.size = c.size AND o.mtime = c.mtime)
                 UNION SELECT o.older FROM object o JOIN name n ON n.object = o.id JOIN held h
                     ON h.disk = n.disk AND h.path = n.path WHERE o.disk = ?1 AND o.older IS NOT NULL
                 UNION SELECT o.version FROM object o JOIN name n ON n.object = o.id JOIN held h
                     ON h.disk = n.disk AND h.path = n.path WHERE o.disk = ?1 AND o.version IS NOT NULL),
             changed AS (SELECT o.version AS v FROM object o JOIN version c ON c.id = o.version WHERE o.disk = ?1
                     AND o.standing IN (2, 3) AND o.size > 0 AND (o.size <> c.size OR o.mtime <> c.mtime)
                 UNION SELECT older FROM object WHERE disk = ?1 AND older IS NOT NULL AND size > 0),
             became AS (SELECT v.id, v.size, v.id IN (SELECT v FROM present) AS is_present,
                     v.id IN (SELECT v FROM changed) AS is_changed FROM version v JOIN known k ON k.version = v.id)
        SELECT COUNT(*), COALESCE(SUM(size), 0), COUNT(*) FILTER (WHERE NOT is_present AND NOT is_changed),
            COALESCE(SUM(size) FILTER (WHERE NOT is_present AND NOT is_changed), 0),
            COUNT(*) FILTER (WHERE NOT is_present AND is_changed),
            COALESCE(SUM(size) FILTER (WHERE NOT is_present AND is_changed), 0) FROM became";
    c.query_row(sql, [disk], |row| {
        let number = |index: usize| row.get(index).map(unsigned);
        Ok(Fallen {
            total: (number(0)?, number(1)?),
            gone: (number(2)?, number(3)?),
            overwritten: (number(4)?, number(5)?),
        })
    })
    .unwrap()
}

/// [`versions::forget_unused`], asked of everything.
const FORGET_UNUSED_OF_ALL: &str = "
    UPDATE object SET older = NULL WHERE older IS NOT NULL AND older NOT IN (SELECT version FROM lane)
        AND EXISTS (SELECT 1 FROM version v WHERE v.id = object.version AND v.recorded > 0 AND object.standing = 0);
    DELETE FROM version WHERE id NOT IN (SELECT version FROM lane)
        AND id NOT IN (SELECT version FROM object WHERE version IS NOT NULL)
        AND id NOT IN (SELECT older FROM object WHERE older IS NOT NULL);";

fn texts(c: &Connection, sql: &str) -> Vec<String> {
    let mut statement = c.prepare(sql).unwrap();
    let rows = statement.query_map([], |row| row.get(0)).unwrap();
    rows.collect::<rusqlite::Result<_>>().unwrap()
}

fn contents_and_objects(c: &Connection) -> Vec<String> {
    texts(
        c,
        "SELECT 'v' || id FROM version UNION SELECT 'o' || id || ':' || COALESCE(older, '') FROM object ORDER BY 1",
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(100))]

    #[test]
    fn what_became_of_contents_is_told_as_if_all_were_looked_at(steps in vec(any::<Step>(), 1..40)) {
        let c = database(&steps);
        for disk in 1..=3 {
            let (expected, found) = (fallen_of_all(&c, disk), contents::fallen(&c, DiskId::new(disk)).unwrap());
            prop_assert_eq!((expected.gone, expected.overwritten), (found.gone, found.overwritten));
            if found.gone.0 + found.overwritten.0 > 0 {
                prop_assert_eq!(expected.total, found.total);
            }
        }
    }

    #[test]
    fn what_nobody_uses_is_forgotten_and_nothing_else(steps in vec(any::<Step>(), 1..40)) {
        let (whole, few) = (database(&steps), database(&steps));
        whole.execute_batch(FORGET_UNUSED_OF_ALL).unwrap();
        versions::forget_unused(&few).unwrap();
        prop_assert_eq!(contents_and_objects(&whole), contents_and_objects(&few));
    }

    #[test]
    fn shared_paths_are_found_in_one_walk(steps in vec(any::<Step>(), 1..40)) {
        let c = database(&steps);
        let expected = texts(&c,
            "SELECT CAST(n.path AS TEXT) || ' ' || group_concat(d.name, ' ' ORDER BY d.name) || ' '
                 || COUNT(DISTINCT CASE WHEN o.standing = 0 AND v.id IS NOT NULL THEN hex(v.whole) ELSE o.id END)
             FROM name n JOIN disk d ON d.id = n.disk JOIN object o ON o.id = n.object
                 LEFT JOIN version v ON v.id = o.version
             WHERE n.path NOT IN (SELECT path FROM held) GROUP BY d.volume, n.path HAVING COUNT(*) > 1 ORDER BY 1");
        let mut found = Vec::new();
        shared::for_each_path(&c, |path| {
            found.push(format!("{} {} {}", path.path, path.disks.join(" "), path.contents));
            true
        }).unwrap();
        prop_assert_eq!(expected, found);
    }
}
