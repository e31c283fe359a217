//! Replicas are what the catalogue was, whichever way they came to a disk; and what was damaged is not believed.
#![expect(clippy::disallowed_methods, reason = "what happens to a disk behind the back of the program")]

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rstest::rstest;
use sieve_core::units::{CheckpointId, DiskId};
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_disk::{Disk, RealDisk};
use tempfile::TempDir;

use super::pages::Pages;
use super::*;
use crate::parity_state::{Checkpoint, insert_checkpoint};
use crate::{Catalogue, Identity};

const OURS: &str = ".zinc-sieve";

struct Bench {
    folder: TempDir,
    catalogue: Catalogue,
    /// What the catalogue was at each checkpoint.
    states: Vec<(Stamp, Vec<String>)>,
}

fn machine() -> Arc<dyn Machine> {
    Arc::new(RealMachine { clock: Clock::Real })
}

fn names(c: &Catalogue) -> Vec<String> {
    let mut statement = c.reading().prepare("SELECT hex(path) || object FROM name ORDER BY path").unwrap();
    let found = statement.query_map([], |row| row.get(0)).unwrap();
    found.collect::<rusqlite::Result<_>>().unwrap()
}

impl Bench {
    /// A pool of three disks and so many names.
    fn with(count: u64) -> Self {
        let folder = tempfile::tempdir().unwrap();
        for place in ["", "1", "2", "3"] {
            fs::create_dir_all(folder.path().join(place).join(OURS)).unwrap();
        }
        let path = folder.path().join(OURS).join("catalogue.sqlite");
        let identity = Identity { pool: uuid::Uuid::nil(), name: "bench".into() };
        let catalogue = Catalogue::create(&path, machine(), &identity).unwrap();
        for disk in 1..=3 {
            let insert =
                "INSERT INTO disk (id, name, uuid, volume, role, slot) VALUES (?1, ?2, ?3, 'v', 'data', ?1)";
            let uuid = format!("00000000-0000-4000-8000-{disk:012}");
            catalogue.transaction(|t| Ok(t.execute(insert, (disk, format!("d{disk}"), uuid))?)).unwrap();
        }
        let mut bench = Self { folder, catalogue, states: Vec::new() };
        bench.change(0..count);
        bench.checkpoint();
        bench
    }

    fn change(&self, names: std::ops::Range<u64>) {
        let insert = "INSERT OR REPLACE INTO name VALUES (1, ?1, ?2)";
        let round = self.states.len() as i64;
        let write = |t: &rusqlite::Transaction<'_>| {
            for name in names {
                t.execute(
                    insert,
                    (format!("a longer name, so that there are pages {name:06}").into_bytes(), round),
                )?;
            }
            Ok(())
        };
        self.catalogue.transaction(write).unwrap();
    }

    fn checkpoint(&mut self) -> Stamp {
        let number = self.states.len() as u64 + 1;
        let stamp = Stamp { number, id: CheckpointId::new(number * 0x101) };
        let checkpoint = Checkpoint { number, id: stamp.id, parent: None, at: 0 };
        self.catalogue.transaction(|t| insert_checkpoint(t, &checkpoint)).unwrap();
        self.states.push((stamp, names(&self.catalogue)));
        stamp
    }

    fn disk(&self, number: i64) -> RealDisk {
        RealDisk::open(&self.folder.path().join(number.to_string())).unwrap()
    }

    fn export(&self, disks: &[i64]) {
        let opened: Vec<(RealDisk, DiskId)> =
            disks.iter().map(|number| (self.disk(*number), DiskId::new(*number))).collect();
        let members: Vec<(&dyn Disk, DiskId)> =
            opened.iter().map(|(disk, id)| (disk as &dyn Disk, *id)).collect();
        let answers = Export::take(&self.catalogue).unwrap().put_on(&members, &self.catalogue).unwrap();
        answers.into_iter().for_each(|answer| answer.unwrap());
    }

    /// The files of the replica on a disk, with their lengths.
    fn files(&self, disk: i64) -> Vec<(PathBuf, u64)> {
        let mut files: Vec<(PathBuf, u64)> =
            fs::read_dir(self.folder.path().join(disk.to_string()).join(OURS))
                .unwrap()
                .map(|entry| entry.unwrap())
                .map(|entry| (entry.path(), entry.metadata().unwrap().len()))
                .collect();
        files.sort();
        files
    }

    fn expect_newest(&self, disk: i64) {
        let (stamp, names_then) = self.states.last().unwrap();
        let disk = self.disk(disk);
        assert_eq!(newest_on(&disk).unwrap(), Some(*stamp));
        assert_eq!(&names(&fetch_private(&disk, *stamp, machine()).unwrap()), names_then);
    }
}

fn is_changes(file: &Path) -> bool {
    file.extension().is_some_and(|e| e == "pages")
}

#[test]
fn only_what_changed_follows_and_every_checkpoint_on_the_way_can_be_had() {
    let mut bench = Bench::with(20_000);
    bench.export(&[1, 2, 3]);
    let whole = bench.files(1)[0].1;
    for round in 1..6 {
        bench.change(round * 10..round * 10 + 3);
        bench.checkpoint();
        bench.export(&[1, 2]);
    }
    let files = bench.files(1);
    assert_eq!(files.iter().filter(|(file, _)| is_changes(file)).count(), 5, "{files:?}");
    let changes: u64 = files.iter().filter(|(file, _)| is_changes(file)).map(|(_, length)| length).sum();
    assert!(changes * 10 < whole, "{changes} of {whole} bytes");
    for (stamp, names_then) in &bench.states {
        let replica = fetch_private(&bench.disk(1), *stamp, machine()).unwrap();
        assert_eq!(&names(&replica), names_then, "checkpoint {}", stamp.number);
    }
    // A disk that was away gets all that it missed at once.
    bench.export(&[3]);
    assert!(bench.files(3).iter().any(|(file, length)| is_changes(file) && length * 10 < whole));
    (1..=3).for_each(|disk| bench.expect_newest(disk));
}

#[test]
fn a_whole_copy_is_made_again_once_changes_have_taken_half_of_one() {
    let mut bench = Bench::with(3000);
    bench.export(&[1]);
    let mut were_whole = 0;
    for round in 1..12 {
        bench.change(round * 200..round * 200 + 100);
        bench.checkpoint();
        bench.export(&[1]);
        let files = bench.files(1);
        were_whole += usize::from(files.len() == 1);
        let (changes, whole): (Vec<_>, Vec<_>) = files.iter().partition(|(file, _)| is_changes(file));
        let changes: u64 = changes.into_iter().map(|(_, length)| length).sum();
        assert!(whole.len() == 1 && changes * 2 <= whole[0].1, "{files:?}");
        bench.expect_newest(1);
    }
    assert!((1..11).contains(&were_whole), "{were_whole}");
}

#[rstest]
#[case::the_ledger_is_gone(|bench: &Bench| fs::remove_file(bench.folder.path().join(OURS).join("catalogue.parts")).unwrap())]
#[case::the_ledger_is_damaged(|bench: &Bench| {
    let place = bench.folder.path().join(OURS).join("catalogue.parts");
    let mut bytes = fs::read(&place).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(place, bytes).unwrap();
})]
#[case::the_disk_is_another(|bench: &Bench| bench.files(1).iter().for_each(|(file, _)| fs::remove_file(file).unwrap()))]
#[case::the_disk_was_set_back(|bench: &Bench| {
    let changes = bench.files(1).into_iter().find(|(file, _)| is_changes(file)).unwrap();
    fs::remove_file(changes.0).unwrap();
})]
fn what_is_not_known_to_be_there_is_not_built_upon(#[case] happens: fn(&Bench)) {
    let mut bench = Bench::with(5000);
    bench.export(&[1]);
    bench.change(10..12);
    bench.checkpoint();
    bench.export(&[1]);
    happens(&bench);
    bench.change(20..22);
    bench.checkpoint();
    bench.export(&[1]);
    assert_eq!(
        bench.files(1).len(),
        1,
        "a whole copy took the place of what was there: {:?}",
        bench.files(1)
    );
    bench.expect_newest(1);
}

#[test]
fn what_is_damaged_is_refused_in_whatever_part_it_is() {
    let mut bench = Bench::with(5000);
    bench.export(&[1]);
    for round in 1..4 {
        bench.change(round * 10..round * 10 + 2);
        bench.checkpoint();
        bench.export(&[1]);
    }
    let (stamp, names_then) = bench.states.last().unwrap();
    let mut refused = 0;
    let mut expect_refused = |file: &Path, bytes: &[u8]| {
        fs::write(file, bytes).unwrap();
        match fetch_private(&bench.disk(1), *stamp, machine()) {
            // What a later part has anew may have been damaged before.
            Ok(replica) => assert_eq!(&names(&replica), names_then),
            Err(_) => refused += 1,
        }
    };
    for (file, length) in bench.files(1) {
        let bytes = fs::read(&file).unwrap();
        for at in (0..40).map(|step| (length * step / 40) as usize) {
            let mut damaged = bytes.clone();
            damaged[at] ^= 0x10;
            expect_refused(&file, &damaged);
            expect_refused(&file, &bytes[..at]);
        }
        fs::write(&file, &bytes).unwrap();
    }
    assert!(refused > 4 * 60, "{refused}");
    bench.expect_newest(1);
}

/// What a stranger made has a checksum that holds: its numbers are not believed for that.
#[rstest]
#[case::more_pages_than_come(24, 0x7fff_ffff)]
#[case::fewer_than_none(24, 0)]
#[case::more_changes_than_there_are(28, 0x0fff_ffff)]
#[case::pages_of_another_size(20, 65_536)]
#[case::a_page_beyond_the_end(128, 0x00ff_ffff)]
#[case::page_zero(128, 0)]
#[case::a_later_format(16, 2)]
fn numbers_of_strangers_are_refused(#[case] at: usize, #[case] number: u32) {
    let mut bench = Bench::with(5000);
    bench.export(&[1]);
    bench.change(10..12);
    let stamp = bench.checkpoint();
    bench.export(&[1]);
    let (file, _) = bench.files(1).into_iter().find(|(file, _)| is_changes(file)).unwrap();
    let mut bytes = fs::read(&file).unwrap();
    bytes[at..at + 4].copy_from_slice(&number.to_le_bytes());
    let end = bytes.len() - 32;
    let hash = blake3::hash(&bytes[..end]);
    bytes[end..].copy_from_slice(hash.as_bytes());
    fs::write(&file, bytes).unwrap();
    let error = fetch_private(&bench.disk(1), stamp, machine()).err().expect("it is refused");
    assert!(error.message.contains("-after-"), "{error}");
}

/// The table of pages is in our build of SQLite; a build without it goes by way of a copy.
#[test]
fn pages_are_the_same_seen_in_their_place_and_in_a_copy() {
    let bench = Bench::with(500);
    let all = |pages: Pages| {
        let mut found = Vec::new();
        pages
            .for_each(|_| true, &mut |number, bytes| {
                found.push((number, bytes.to_vec()));
                Ok(())
            })
            .unwrap();
        found
    };
    let path = bench.catalogue.path();
    let (seen, copied) = (Pages::of(path).unwrap(), Pages::copied(path).unwrap());
    assert!(seen.is_in_its_place() && !copied.is_in_its_place());
    let (mut seen, mut copied) = (all(seen), all(copied));
    // In the header SQLite counts the changes of a file: a copy has its own count.
    seen[0].1.drain(..100);
    copied[0].1.drain(..100);
    assert!(seen == copied);
}

/// A replica is of one moment, whatever is written while it is made.
#[test]
fn what_is_written_meanwhile_is_not_in_it() {
    let bench = Bench::with(5000);
    let export = Export::take(&bench.catalogue).unwrap();
    bench.change(6000..9000);
    export.put_on_disk(&bench.disk(2)).unwrap();
    bench.expect_newest(2);
}
