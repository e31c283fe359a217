//! Guards against output that a terminal breaks: what every command prints of a pool of 26 disks, with long and odd names, at
//! 80, 100 and 140 columns, is kept in widths/ and nowhere wider. SNAPSHOTS=overwrite writes it anew.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::Path;
use std::process::Command;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};

use sieve_testkit::{Chance, Lab};
use unicode_width::UnicodeWidthStr;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
/// What is told in days that pass: only how wide it is is looked at.
const OF_TODAY: [&str; 3] = ["agenda", "journal", "notice"];
const WIDTHS: [usize; 3] = [80, 100, 140];
/// As long as the folder of a test, so that lines break where they broke.
const HOME: &str = "/home/ash/birdsongs";

const DATA: [&str; 20] = [
    "alder",
    "beech",
    "cedar",
    "dogwood",
    "elder",
    "fir",
    "gorse",
    "hazel",
    "ironwood",
    "juniper-of-the-north-slope",
    "kapok",
    "larch",
    "maple",
    "nutmeg",
    "olive",
    "pear",
    "quince",
    "rowan",
    "sallow",
    "tamarack",
];
const PARITY: [&str; 4] = ["ulmus", "viburnum", "willow", "yew"];
const CACHE: [&str; 2] = ["flint", "granite"];

/// What is asked, each a file in widths/.
const COMMANDS: &[(&str, &[&str])] = &[
    ("adopt", &["adopt", "alder", "beech", "--dry-run"]),
    ("agenda", &["agenda"]),
    ("bays", &["bays", "--from", "machine"]),
    ("check", &["check"]),
    ("convert", &["convert", "recordings", "--to", "mirrored", "--copies", "2", "--dry-run"]),
    (
        "design",
        &["design", "--hdd", "12TB,10TB,2x6TB,4TB", "--ssd", "2x1TB", "--add", "14TB", "--survive", "2"],
    ),
    ("disk", &["disks", "alder", "--from", "machine"]),
    ("disks", &["disks", "--from", "machine"]),
    ("dissolve", &["dissolve", "recordings", "--dry-run"]),
    ("duplicates", &["duplicates"]),
    ("elsewhere", &["elsewhere"]),
    ("even-out", &["even-out", "--dry-run"]),
    ("fate", &["fate", "--lose", "cedar,larch,ulmus,yew,willow,viburnum"]),
    ("fate-any", &["fate", "--any", "2"]),
    (
        "fate-explain",
        &["fate", "--explain", "herbarium/Ophioglossum vulgatum, adder’s tongue, northern slope.tiff"],
    ),
    ("fate-map", &["fate", "--map"]),
    ("health", &["health", "--from", "machine"]),
    ("health-probe", &["health", "cedar", "--probe", "--from", "machine"]),
    (
        "ingest",
        &[
            "ingest",
            "--link",
            "2.5 Gbit/s",
            "--amount",
            "300GB",
            "--cache",
            "500GB",
            "--sustained",
            "150 MB/s",
        ],
    ),
    ("journal", &["journal"]),
    ("ls", &["ls"]),
    ("ls-long", &["ls", "--tree", "--long"]),
    ("move", &["move", "herbarium", "--to", "beech", "--dry-run"]),
    ("notice", &["notice"]),
    ("put", &["put", "card/late", "card/herbarium", "elsewhere", "--dry-run"]),
    ("rebuild", &["rebuild", "cedar", "--onto", "new", "--dry-run"]),
    ("rename", &["rename", "disk", "cedar", "larger-cedar", "--dry-run"]),
    ("replace", &["replace", "cedar", "--onto", "new", "--dry-run"]),
    ("restore", &["restore", "--list"]),
    ("risk", &["risk", "--from", "machine"]),
    ("rm", &["rm", "herbarium", "--recursive", "--dry-run"]),
    ("route", &["route", "cedar is 14 TB"]),
    ("settle", &["settle", "--dry-run"]),
    ("status", &["status"]),
    ("sync", &["sync", "--dry-run"]),
    ("usage", &["usage"]),
    ("usage-folder", &["usage", "--by", "folder"]),
    ("vacate", &["vacate", "juniper-of-the-north-slope", "--dry-run"]),
    ("verify", &["verify"]),
    ("where", &["where", "*.wav"]),
    ("wipe", &["wipe", "new", "--dry-run"]),
];

/// From one that is printed to the next a tenth of a second goes by, however slow the machine is.
fn moment() -> String {
    static BEGAN: OnceLock<u128> = OnceLock::new();
    static PRINTED: AtomicU32 = AtomicU32::new(0);
    let began = BEGAN.get_or_init(|| std::time::UNIX_EPOCH.elapsed().unwrap().as_nanos());
    format!("{}+", began + u128::from(PRINTED.fetch_add(1, Ordering::Relaxed)) * 100_000_000)
}

fn run(lab: &Lab, width: usize, arguments: &[&str]) -> String {
    let output = Command::new(PROGRAM)
        .args(arguments)
        .current_dir(lab.root())
        .env_clear()
        .envs([("COLUMNS", width.to_string().as_str()), ("TZ", "UTC"), ("PATH", "/nowhere")])
        .env("ZINC_SIEVE_NOW", moment())
        .output()
        .unwrap();
    let text = [output.stdout, output.stderr].map(|bytes| String::from_utf8(bytes).unwrap()).concat();
    let root = lab.root().display().to_string();
    assert_eq!(root.len(), HOME.len(), "lines would break elsewhere: {root}");
    text.replace(&root, HOME)
}

/// A pool of 26 disks, with something of everything.
fn shelf() -> Lab {
    let disks: Vec<(&str, u64)> = DATA
        .iter()
        .enumerate()
        .map(|(number, name)| (*name, [40, 60, 80][number % 3]))
        .chain(PARITY.map(|name| (name, 90)))
        .chain(CACHE.map(|name| (name, 50)))
        .collect();
    let quoted = |names: &[&str]| format!("{names:?}");
    let volume = format!(
        "data = {}\nparity = {}\ncache = {}\n[[volume.folder]]\npath = \"dawn-chorus\"\nlanding = \"disks\"\n\
         [[volume.folder]]\npath = \"herbarium\"\nlanding = \"disks\"\n",
        quoted(&DATA),
        quoted(&PARITY),
        quoted(&CACHE)
    );
    let lab = Lab::of(PROGRAM, &disks, &volume);
    let mut text = lab.pool_text();
    for (number, (name, _)) in disks.iter().enumerate() {
        let (row, place) = (["A", "B", "C", "D", "E"][number / 6], number % 6 + 1);
        let about = format!(
            "name = \"{name}\"\nbay = \"{row}{place}\"\nserial = \"TW12-{}Q{number}\"",
            88_000 + number * 37
        );
        text = text.replace(&format!("name = \"{name}\"\npath"), &format!("{about}\npath"));
    }
    let rows: Vec<String> = ["A", "B", "C", "D", "E"]
        .map(|row| format!("{:?}", (1..=6).map(|n| format!("{row}{n}")).collect::<Vec<_>>()))
        .into();
    text += &format!("\n[[case]]\nname = \"the tall tower\"\nbays = [{}]\n", rows.join(", "));
    text += "\n[[agenda.job]]\ndo = \"sync\"\nwhen = \"daily 22:00\"\n\n[[agenda.job]]\ndo = \"verify\"\nwhen = \"Sat 23:00\"\n";
    text +=
        "\n[[elsewhere]]\nname = \"loft\"\nlisting = \"loft.csv\"\nplace = \"the loft across the yard\"\n";
    lab.write_pool_file(&text);
    fill(&lab);
    fs::write(lab.root().join("loft.csv"), "path,size_bytes\ndawn-chorus/0001.wav,900\n").unwrap();
    date(&lab.root().join("loft.csv"));
    lab
}

/// Gives a file a time that stays the same.
fn date(path: &Path) {
    let long_ago = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_700_000_000);
    fs::File::options().write(true).open(path).unwrap().set_modified(long_ago).unwrap();
}

fn fill(lab: &Lab) {
    let mut chance = Chance::new(26);
    let mut write = |path: &str, size: usize| {
        let path = lab.root().join("card").join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, chance.bytes(size)).unwrap();
        date(&path);
    };
    for number in 0..30 {
        let long = if number % 5 == 0 { "-a-long-name-with-the-time-the-place-and-the-weather" } else { "" };
        write(&format!("dawn-chorus/{number:04}{long}.wav"), 30_000 + number * 7_919);
    }
    write("herbarium/Ophioglossum vulgatum, adder’s tongue, northern slope.tiff", 812_000);
    write("herbarium/苔 – moss\u{1b}[2J.tiff", 20_500);
    write("late/owl.wav", 5_000);
    write("nest-cams/box-7.mkv", 700_000);
    fs::create_dir(lab.root().join("new")).unwrap();
    let machine = lab.root().join("world");
    run(lab, 80, &["demo", "--dir", machine.to_str().unwrap(), "--set-up-only"]);
    fs::rename(machine.join("machine"), lab.root().join("machine")).unwrap();
    let steps: [&[&str]; 6] = [
        &["create", "--yes"],
        &["put", "card/dawn-chorus", "card/herbarium", "/", "--yes"],
        &["sync", "--yes"],
        &["put", "card/nest-cams", "/", "--yes"],
        &["put", "card/late", "dawn-chorus", "--yes"],
        &["rm", "dawn-chorus/0003.wav", "--yes"],
    ];
    for step in steps {
        let said = run(lab, 80, step);
        assert!(!said.contains("error"), "{step:?}: {said}");
    }
}

/// What depends on how fast the machine is, and on the day, and not on what there is.
fn without_pace(text: &str) -> String {
    const PASSING: [&str; 5] = ["/s,", "/s ", " took ", "likely ", "next by the agenda"];
    let lines = text.lines().filter(|line| PASSING.iter().all(|word| !line.contains(word)));
    lines.map(|line| format!("{}\n", without_times(line.trim_end()))).collect()
}

/// Moments, "2031-05-04 03:00", as places of the same width.
fn without_times(line: &str) -> String {
    const FORM: &str = "0000-00-00 00:00";
    let mut bytes = line.as_bytes().to_vec();
    for at in 0..bytes.len().saturating_sub(FORM.len() - 1) {
        let is_moment = FORM.bytes().zip(&bytes[at..]).all(|(form, byte)| match form {
            b'0' => byte.is_ascii_digit(),
            other => *byte == other,
        });
        if is_moment {
            bytes[at..at + FORM.len()].copy_from_slice(FORM.as_bytes());
        }
    }
    String::from_utf8(bytes).unwrap()
}

#[test]
fn nothing_is_wider_than_the_terminal() {
    let lab = shelf();
    let mut wrong = Vec::new();
    for (name, arguments) in COMMANDS {
        let mut kept = String::new();
        for width in WIDTHS {
            let text = run(&lab, width, arguments);
            let long = text
                .lines()
                .filter(|line| line.width() > width)
                .map(|line| format!("{name} at {width}: {line}"));
            wrong.extend(long);
            kept += &format!("━━ {width} columns\n{}", without_pace(&text));
        }
        if OF_TODAY.contains(name) {
            continue;
        }
        let path = format!("{}/tests/it/widths/{name}.txt", env!("CARGO_MANIFEST_DIR"));
        snapbox::assert_data_eq!(kept, snapbox::Data::read_from(Path::new(&path), None).raw());
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
