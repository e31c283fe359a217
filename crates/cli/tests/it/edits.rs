//! Guards against a pool file that was edited by hand and passes for the pool on the disks: each edit is followed rightly, or
//! told, or stops every command with what differs. "All is well" is said of the pool that there is, and of no other.
//!
//! Holds I5 and L3.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// What has to become of an edit.
enum Then {
    /// It means the same pool: all is well, and the prediction is as before.
    Follows,
    /// It is told, in these words, and all is not well; nothing stops.
    Tells(&'static str),
    /// It is told in these words, and is well all the same: a wish that is honoured.
    Honours(&'static str),
    /// A disk is not where the file says: the state of the pool says so, and a sync stops, in these words.
    Misses(&'static str),
    /// Every command stops with these words.
    Stops(&'static str),
}

/// Three data disks, two parity disks and a cache, synced.
fn synced() -> Lab {
    let disks = ["alder", "beech", "cedar", "oak", "pine", "fir"].map(|name| (name, 40));
    let volume = "kind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\", \"pine\"]\n\
                  cache = [\"fir\"]";
    let lab = Lab::of(PROGRAM, &disks, volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (number, disk) in ["alder", "beech", "cedar"].into_iter().enumerate() {
        fs::create_dir(lab.disk(disk).join("dawn")).unwrap();
        let bytes = Chance::new(number as u64).bytes(300_000);
        fs::write(lab.disk(disk).join(format!("dawn/{disk}.flac")), bytes).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for place in ["elm", "none"] {
        fs::create_dir(lab.disk(place)).unwrap();
    }
    lab
}

/// The section of a disk, as the lab writes it.
fn section(text: &str, disk: &str) -> String {
    let start = text.find(&format!("[[disk]]\nname = \"{disk}\"")).unwrap();
    let end = text[start + 1..].find("[[").map_or(text.len(), |at| start + 1 + at);
    text[start..end].to_string()
}

/// Two words change places wherever they stand.
fn exchange(text: &str, one: &str, other: &str) -> String {
    assert!(text.contains(one) && text.contains(other), "{one}, {other}: {text}");
    text.replace(one, "\u{1}").replace(other, one).replace('\u{1}', other)
}

fn replaced(text: &str, from: &str, to: &str) -> String {
    assert!(text.contains(from), "{from}: {text}");
    text.replace(from, to)
}

/// A change within the section of one disk.
fn of_disk(text: &str, disk: &str, from: &str, to: &str) -> String {
    let section = section(text, disk);
    text.replace(&section, &replaced(&section, from, to))
}

/// The disk of a section that nobody knows yet.
fn with_elm(text: &str) -> String {
    let elm = section(text, "alder").replace("alder", "elm");
    format!("{text}\n{elm}")
}

type Edit = (&'static str, fn(&str) -> String, Then);

const EDITS: [Edit; 41] = [
    ("another pool name", |t| replaced(t, "\"fernhollow\"", "\"birdsongs\""), Then::Follows),
    ("another volume name", |t| replaced(t, "\"recordings\"", "\"songs\""), Then::Follows),
    ("another disk name", |t| replaced(t, "\"beech\"", "\"rowan\""), Then::Follows),
    (
        "three new names and another order",
        |t| {
            let t = replaced(&replaced(t, "\"beech\"", "\"rowan\""), "\"recordings\"", "\"songs\"");
            let t = replaced(&t, "\"oak\"", "\"yew\"");
            replaced(&t, "[\"alder\", \"rowan\", \"cedar\"]", "[\"cedar\", \"rowan\", \"alder\"]")
        },
        Then::Follows,
    ),
    (
        "another order of data",
        |t| replaced(t, "[\"alder\", \"beech\", \"cedar\"]", "[\"cedar\", \"alder\", \"beech\"]"),
        Then::Follows,
    ),
    ("another order of parity", |t| replaced(t, "[\"oak\", \"pine\"]", "[\"pine\", \"oak\"]"), Then::Follows),
    (
        "another order of sections",
        |t| {
            let alder = section(t, "alder");
            t.replace(&alder, "").replace("[[volume]]", &format!("{alder}[[volume]]"))
        },
        Then::Follows,
    ),
    ("no line of kind", |t| replaced(t, "kind = \"unstriped\"\n", ""), Then::Follows),
    ("no capacities", |t| replaced(t, "capacity = \"40 MB\"\n", ""), Then::Follows),
    ("all capacities larger", |t| replaced(t, "40 MB", "60 MB"), Then::Follows),
    (
        "capacity below what is used",
        |t| of_disk(t, "alder", "40 MB", "100 kB"),
        Then::Honours("alder holds 303 kB, and the pool file lets it have 100 kB"),
    ),
    (
        "a limit below what is used",
        |t| replaced(t, "kind = \"unstriped\"\n", "kind = \"unstriped\"\nlimit = \"500 kB\"\n"),
        Then::Honours("of the 500 kB that it may hold"),
    ),
    (
        "a parity smaller than data",
        |t| of_disk(t, "oak", "40 MB", "10 MB"),
        Then::Tells("parity disk oak has 10.0 MB"),
    ),
    (
        "data larger than parity",
        |t| of_disk(t, "alder", "40 MB", "60 MB"),
        Then::Tells("data disk alder 60.0 MB"),
    ),
    (
        "no longer simulated",
        |t| replaced(t, "simulated = true\n", ""),
        Then::Tells("nothing is mounted where alder, beech"),
    ),
    (
        "one more data disk",
        |t| with_elm(&replaced(t, "\"cedar\"]", "\"cedar\", \"elm\"]")),
        Then::Tells("elm is no member of recordings yet: zinc-sieve grow elm --as data"),
    ),
    (
        "one more parity disk",
        |t| with_elm(&replaced(t, "\"pine\"]", "\"pine\", \"elm\"]")),
        Then::Tells("elm is no member of recordings yet: zinc-sieve grow elm --as parity"),
    ),
    (
        "one more volume",
        |t| with_elm(t) + "\n[[volume]]\nname = \"other\"\nkind = \"unstriped\"\ndata = [\"elm\"]\n",
        Then::Tells("volume other of the pool file is not built"),
    ),
    (
        "names of two disks swapped",
        |t| {
            let (alder, beech) = (section(t, "alder"), section(t, "beech"));
            let swapped = t.replace(&alder, "\u{2}").replace(&beech, "\u{3}");
            let named =
                |s: &str, from: &str, to: &str| s.replace(&format!("\"{from}\""), &format!("\"{to}\""));
            swapped
                .replace('\u{2}', &named(&alder, "alder", "beech"))
                .replace('\u{3}', &named(&beech, "beech", "alder"))
        },
        Then::Misses("alder should be there, the label says beech"),
    ),
    (
        "places of two data disks swapped",
        |t| exchange(t, "/alder\"", "/beech\""),
        Then::Misses("alder should be there, the label says beech"),
    ),
    (
        "places of two parity disks swapped",
        |t| exchange(t, "/oak\"", "/pine\""),
        Then::Misses("oak should be there, the label says pine"),
    ),
    (
        "places of data and parity swapped",
        |t| exchange(t, "/alder\"", "/oak\""),
        Then::Misses("alder should be there, the label says oak"),
    ),
    (
        "places of cache and data swapped",
        |t| exchange(t, "/alder\"", "/fir\""),
        Then::Misses("alder should be there, the label says fir"),
    ),
    (
        "another place, where nothing is",
        |t| replaced(t, "/alder\"", "/none\""),
        Then::Misses("disk alder is missing"),
    ),
    (
        "another place, which is not there",
        |t| replaced(t, "/alder\"", "/nowhere\""),
        Then::Misses("disk alder is missing"),
    ),
    (
        "no place for a disk",
        |t| {
            let section = section(t, "alder");
            let line = section.lines().find(|line| line.starts_with("path")).unwrap().to_string();
            t.replace(&format!("{line}\n"), "")
        },
        Then::Misses("alder"),
    ),
    (
        "a disk left out",
        |t| replaced(&t.replace(&section(t, "cedar"), ""), ", \"cedar\"]", "]"),
        Then::Stops("cedar is a data disk of volume recordings"),
    ),
    (
        "a disk left out of its volume",
        |t| replaced(t, ", \"cedar\"]", "]"),
        Then::Stops("zinc-sieve vacate cedar"),
    ),
    (
        "a disk without its section",
        |t| t.replace(&section(t, "cedar"), ""),
        Then::Stops("there is no disk `cedar`"),
    ),
    (
        "another disk in its stead",
        |t| {
            exchange(&with_elm(t), "\"elm\"", "\"beech\"")
                .replace("\"elm\", \"cedar\"", "\"rowan\", \"cedar\"")
        },
        Then::Stops("there is no disk `rowan`"),
    ),
    (
        "no parity",
        |t| replaced(t, "parity = [\"oak\", \"pine\"]\n", ""),
        Then::Stops("zinc-sieve vacate oak"),
    ),
    (
        "one parity less",
        |t| replaced(t, "[\"oak\", \"pine\"]", "[\"oak\"]"),
        Then::Stops("zinc-sieve vacate pine"),
    ),
    ("no cache", |t| replaced(t, "cache = [\"fir\"]", ""), Then::Stops("zinc-sieve vacate fir")),
    (
        "parity becomes data",
        |t| {
            replaced(
                t,
                "\"cedar\"]\nparity = [\"oak\", \"pine\"]",
                "\"cedar\", \"pine\"]\nparity = [\"oak\"]",
            )
        },
        Then::Stops("pine is a parity disk of volume recordings, and the pool file has it as data"),
    ),
    (
        "data becomes parity",
        |t| {
            replaced(
                t,
                ", \"cedar\"]\nparity = [\"oak\", \"pine\"]",
                "]\nparity = [\"oak\", \"pine\", \"cedar\"]",
            )
        },
        Then::Stops("cedar is a data disk of volume recordings, and the pool file has it as parity"),
    ),
    (
        "data becomes cache",
        |t| replaced(&replaced(t, ", \"cedar\"]", "]"), "[\"fir\"]", "[\"fir\", \"cedar\"]"),
        Then::Stops("cedar is a data disk of volume recordings, and the pool file has it as cache"),
    ),
    ("spanned", |t| replaced(t, "\"unstriped\"", "\"spanned\""), Then::Stops("was built unstriped")),
    ("mirrored", |t| replaced(t, "\"unstriped\"", "\"mirrored\""), Then::Stops("was built unstriped")),
    (
        "tiered",
        |t| replaced(t, "kind = \"unstriped\"", "kind = \"tiered\"\nfast = [\"alder\"]"),
        Then::Stops("was built unstriped"),
    ),
    (
        "two volumes of one",
        |t| {
            let t = replaced(t, ", \"cedar\"]\nparity = [\"oak\", \"pine\"]", "]\nparity = [\"oak\"]");
            t + "\n[[volume]]\nname = \"other\"\nkind = \"unstriped\"\ndata = [\"cedar\"]\nparity = [\"pine\"]\n"
        },
        Then::Stops("cedar is a data disk of volume recordings, and the pool file has it as data of other"),
    ),
    (
        "no volume",
        |t| t[..t.find("[[volume]]").unwrap()].to_string(),
        Then::Stops("zinc-sieve dissolve recordings"),
    ),
];

/// What the pool would lose with its first data disk and a parity, file by file.
fn prediction(lab: &Lab) -> serde_json::Value {
    let volume = lab.pool_text().contains("\"songs\"");
    let volume = if volume { "songs" } else { "recordings" };
    let fate = lab.run(&["fate", "--lose", "alder,pine", "--volume", volume, "--json"]).expect(&[0]).json();
    fate["totals"].clone()
}

fn never_well(run: &sieve_testkit::Run, what: &str) {
    for words in ["all is well", "very file survives", "is guarded now"] {
        assert!(!run.stdout.contains(words), "{what}: {}", run.stdout);
    }
}

fn holds(lab: &Lab, what: &str, then: &Then, before: &serde_json::Value) {
    let check = lab.run(&["check"]);
    let status = lab.run(&["status"]);
    let told = |run: &sieve_testkit::Run| format!("{}{}", run.stdout, run.stderr);
    match then {
        Then::Follows => {
            assert_eq!((check.code, status.code), (0, 0), "{what}: {}", told(&status));
            assert!(status.stdout.contains("all is well"), "{what}: {}", status.stdout);
            assert_eq!(prediction(lab), *before, "{what}");
        }
        Then::Honours(words) => {
            assert_eq!((check.code, status.code), (0, 0), "{what}: {}", told(&status));
            assert!(status.stdout.contains(words), "{what}: {}", status.stdout);
            assert_eq!(prediction(lab), *before, "{what}");
        }
        Then::Tells(words) => {
            assert_eq!(status.code, 5, "{what}: {}", told(&status));
            never_well(&status, what);
            for run in [&status, &lab.run(&["verify"]), &lab.run(&["sync", "--dry-run"])] {
                assert!(told(run).contains(words), "{what}: {}", told(run));
            }
            assert_eq!(prediction(lab), *before, "{what}");
        }
        Then::Misses(words) => {
            assert_eq!((check.code, status.code), (1, 1), "{what}: {}", told(&status));
            assert!(check.stdout.contains(words), "{what}: {}", check.stdout);
            never_well(&status, what);
            lab.run(&["verify"]).expect(&[1]);
            let sync = lab.run(&["sync", "--yes"]).expect(&[4]);
            assert!(sync.stderr.contains(words), "{what}: {}", sync.stderr);
        }
        Then::Stops(words) => {
            assert!([1, 2].contains(&check.code) && told(&check).contains(words), "{what}: {}", told(&check));
            let commands = [&["fate", "--lose", "alder"][..], &["verify"], &["sync", "--yes"], &["ls"]];
            for run in commands.iter().map(|command| lab.run(command)).chain([status]) {
                assert!([2, 4].contains(&run.code), "{what}: {}", told(&run));
                assert!(run.stderr.contains(words), "{what}: {}", run.stderr);
                never_well(&run, what);
            }
        }
    }
}

#[test]
fn an_edit_by_hand_is_followed_or_told_or_stops() {
    let lab = synced();
    let text = lab.pool_text();
    let before = prediction(&lab);
    assert_eq!(before["rebuilt"]["files"], 1);
    for (what, edit, then) in &EDITS {
        let edited = edit(&text);
        assert_ne!(edited, text, "{what}");
        lab.write_pool_file(&edited);
        holds(&lab, what, then, &before);
        // As it was, all is as it was.
        lab.write_pool_file(&text);
        let status = lab.run(&["status"]);
        assert_eq!(status.code, 0, "after {what}: {}{}", status.stdout, status.stderr);
        assert!(status.stdout.contains("all is well"), "after {what}: {}", status.stdout);
        assert_eq!(prediction(&lab), before, "after {what}");
    }
}
