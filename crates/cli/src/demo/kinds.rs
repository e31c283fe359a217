//! The chapters about caches and the other kinds of volumes: each a small pool of its own, in a folder beside the first.

use std::fmt::Write as _;

use sieve_disk::{Error, Kind, Result};

use super::stage::{Stage, entries, make_folder, write_file};
use super::world::noise;

/// One small pool.
struct Scene {
    folder: &'static str,
    /// Its disks: name, capacity in MB, and whether it is flash.
    disks: &'static [(&'static str, u64, bool)],
    volume: &'static str,
}

const CACHE: Scene = Scene {
    folder: "cache",
    disks: &[
        ("alder", 60, false),
        ("beech", 60, false),
        ("oak", 70, false),
        ("flint", 30, true),
        ("jasper", 30, true),
    ],
    volume: "kind = \"unstriped\"
data = [\"alder\", \"beech\"]
parity = [\"oak\"]
cache = [\"flint\", \"jasper\"]
cache_copies = 2           # every file on both of them
reserve = \"10 MB\"          # stays free: what does not fit beside it goes to the disks
settle_every = \"12 hours\"

[[volume.folder]]
path = \"herbarium\"
landing = \"disks\"          # straight to the disks

[[volume.folder]]
path = \"field-notes\"
landing = \"stay\"           # on the cache for good
",
};

const MIRROR: Scene = Scene {
    folder: "mirror",
    disks: &[("alder", 60, false), ("beech", 60, false), ("cedar", 60, false)],
    volume: "kind = \"mirrored\"          # every file on two of these
data = [\"alder\", \"beech\", \"cedar\"]
copies = 2
",
};

const TIERS: Scene = Scene {
    folder: "tiers",
    disks: &[("flint", 12, true), ("alder", 60, false), ("beech", 60, false), ("oak", 70, false)],
    volume: "kind = \"tiered\"
data = [\"flint\", \"alder\", \"beech\"]
fast = [\"flint\"]
parity = [\"oak\"]
reserve = \"20 %\"
half_life = \"30 days\"

[[volume.folder]]
path = \"herbarium\"
pin = \"slow\"
",
};

const SPAN: Scene = Scene {
    folder: "span",
    disks: &[("alder", 12, false), ("beech", 12, false), ("cedar", 12, false), ("oak", 16, false)],
    volume: "kind = \"spanned\"           # filled in this order
data = [\"alder\", \"beech\", \"cedar\"]
parity = [\"oak\"]
",
};

/// Makes the pools with their disks, and what is to be put in.
pub(super) fn build(stage: &Stage) -> Result<()> {
    for scene in [CACHE, MIRROR, TIERS, SPAN] {
        let here = stage.within(scene.folder);
        let mut pool = String::from("[pool]\nname = \"fernhollow\"\n");
        for (name, capacity, is_flash) in scene.disks {
            let path = here.path("disks").join(name);
            make_folder(&path)?;
            let media = if *is_flash { "media = \"ssd\"\n" } else { "" };
            write!(
                pool,
                "\n[[disk]]\nname = \"{name}\"\npath = \"{}\"\ncapacity = \"{capacity} MB\"\n{media}simulated = true\n",
                path.display()
            )
            .expect("writing to text works");
        }
        write!(pool, "\n[[volume]]\nname = \"recordings\"\n{}", scene.volume).expect("writing to text works");
        write_file(&here.path("pool.toml"), pool.as_bytes())?;
    }
    let card = stage.within("card");
    write_file(&card.path("field-notes/today.txt"), b"Two owls in the lower wood.\n")?;
    noise(&card.path("nights/whole-night.flac"), 16_000_000)?;
    noise(&card.path("nights/moths.flac"), 2_000_000)
}

pub(super) fn cache(stage: &Stage) -> Result<()> {
    let stage = &stage.within(CACHE.folder);
    stage.chapter(
        "A cache before the disks",
        "Another pool, in cache/: two SSDs take what arrives, each file on both. Herbarium scans go straight to \
         the disks, field notes stay on the SSDs for good, and what does not fit beside the reserve overflows.",
    );
    stage.quietly(&["create", "--yes"])?;
    let put = [
        "put",
        "../card/nest-cams",
        "../card/herbarium",
        "../card/field-notes",
        "../card/dawn-chorus",
        "/",
        "--yes",
    ];
    stage.type_command(&put, &[0])?;
    stage.type_command(&["status"], &[5])?;
    stage.say(
        "What waits is settled; its copies stay on the SSDs, out of sight, until the sync has passed it.\n",
    );
    stage.type_command(&["settle", "--then-sync", "--yes"], &[0])?;
    stage.type_command(&["status"], &[0])
}

pub(super) fn mirror(stage: &Stage) -> Result<()> {
    let stage = &stage.within(MIRROR.folder);
    stage.chapter(
        "A mirror",
        "In mirror/ every file lies whole on two of three disks. beech dies; nothing is lost, and the new disk is \
         filled from the other copies.",
    );
    stage.quietly(&["create", "--yes"])?;
    stage.type_command(&["put", "../card/dawn-chorus", "/", "--yes"], &[0])?;
    stage.quietly(&["sync", "--yes"])?;
    stage.type_command(&["fate", "--any", "2"], &[0, 1])?;
    stage.lose("beech", "beech-new")?;
    stage.type_command(&["rebuild", "beech", "--onto", "disks/beech-new", "--yes"], &[0])
}

pub(super) fn tiers(stage: &Stage) -> Result<()> {
    let stage = &stage.within(TIERS.folder);
    stage.chapter(
        "Tiers",
        "In tiers/ a small SSD and two hard disks add up. The blackbirds are listened to again and again: the plan \
         moves them to the SSD, and what nobody asked for makes room.",
    );
    stage.quietly(&["create", "--yes"])?;
    stage.quietly(&["put", "../card/nest-cams", "../card/dawn-chorus", "../card/herbarium", "/", "--yes"])?;
    stage.quietly(&["sync", "--yes"])?;
    stage.say("(the blackbirds of two mornings are taken out with `zinc-sieve get`, three times)\n");
    for number in 1..=3 {
        for day in ["2031-05-01", "2031-05-02"] {
            let place = format!("heard-{number}-{day}");
            make_folder(&stage.path(&place))?;
            let birds: Vec<String> =
                (1..=3).map(|take| format!("dawn-chorus/{day}/blackbird-{take}.flac")).collect();
            let mut get = vec!["get"];
            get.extend(birds.iter().map(String::as_str));
            get.push(&place);
            stage.unseen(&get)?;
        }
    }
    stage.type_command(&["settle", "--then-sync", "--yes"], &[0])?;
    // What the sync freed on the fast disk is there now.
    stage.type_command(&["settle", "--then-sync", "--yes"], &[0])
}

pub(super) fn span(stage: &Stage) -> Result<()> {
    let stage = &stage.within(SPAN.folder);
    stage.chapter(
        "A span",
        "In span/ three small disks are filled in order. A recording of a whole night is larger than any of them: it \
         goes on from one to the next, and each piece says itself what it belongs to.",
    );
    stage.quietly(&["create", "--yes"])?;
    stage.type_command(&["put", "../card/nights", "/", "--yes"], &[0])?;
    stage.quietly(&["sync", "--yes"])?;
    stage.type_command(&["ls", "--tree", "--long"], &[0])?;
    stage.type_command(&["fate", "--lose", "alder,oak"], &[1])?;
    let before = std::fs::read(stage.path("../card/nights/whole-night.flac"))
        .map_err(|e| Error::io("demo.read", &stage.path("../card/nights"), e))?;
    stage.lose("alder", "alder-new")?;
    make_folder(&stage.path("back"))?;
    stage.say("The night is read at once, before any rebuild: the piece on alder comes from parity.\n");
    stage.type_command(&["get", "nights/whole-night.flac", "back"], &[0])?;
    let back = entries(&stage.path("back"))?.first().and_then(|path| std::fs::read(path).ok());
    if back.as_ref() == Some(&before) {
        return Ok(());
    }
    Err(Error::new(Kind::Internal, "demo.span", "the night did not come back as it was"))
}
