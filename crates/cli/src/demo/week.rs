//! A chapter about what runs by itself: a pool whose small folders are as slow as they are small, so that its week is one of a
//! real shelf.

use std::fmt::Write as _;

use sieve_disk::Result;

use super::stage::{Stage, make_folder, write_file};

/// The folder of the pool.
const FOLDER: &str = "week";

/// Name, capacity in MB, and whether it is flash.
const DISKS: [(&str, u64, bool); 5] = [
    ("alder", 60, false),
    ("beech", 60, false),
    ("cedar", 60, false),
    ("oak", 70, false),
    ("flint", 20, true),
];

/// A shelf in a living room: the machine is on all day, and disks are not to be heard before ten in the evening. Nothing of
/// it fits as it is wished.
const AGENDA: &str = r#"
[[volume]]
name = "recordings"
kind = "unstriped"
data = ["alder", "beech", "cedar"]
parity = ["oak"]
cache = ["flint"]
unguarded_at_most = "36 hours"

[risk]
arrives_a_day = "500 kB"   # 50 GB, a hundred thousand times smaller, as everything here

[agenda]
quiet_hours = ["07:00-22:00"]

[[agenda.job]]
do = "sync"
when = "daily 22:00"       # whatever has settled by then

[[agenda.job]]
do = "settle"
when = "daily 22:30"

[[agenda.job]]
do = "verify"
when = "Sat 23:00"         # all of it, in one night

[[agenda.job]]
do = "self-test"
test = "short"
when = "Wed 23:00"

[[agenda.job]]
do = "report"
file = "REPORT"
when = "Mon 08:00"

[[notices.channel]]
kind = "command"
command = ["/bin/sh", "-c", "cat >> TOLD"]
"#;

/// Makes the pool with its disks.
pub(super) fn build(stage: &Stage) -> Result<()> {
    let here = stage.within(FOLDER);
    let mut pool = String::from("[pool]\nname = \"fernhollow\"\n");
    for (name, capacity, is_flash) in DISKS {
        let path = here.path("disks").join(name);
        make_folder(&path)?;
        let kind = if is_flash {
            "media = \"ssd\"\nspeed = [\"5 kB/s\"]"
        } else {
            "media = \"hdd\"\nspeed = [\"1.6 kB/s\", \"800 B/s\"]"
        };
        write!(
            pool,
            "\n[[disk]]\nname = \"{name}\"\npath = \"{}\"\ncapacity = \"{capacity} MB\"\n{kind}\nsimulated = true\n",
            path.display()
        )
        .expect("writing to text works");
    }
    let place = |name: &str| here.path(name).display().to_string();
    pool += &AGENDA.replace("REPORT", &place("report.html")).replace("TOLD", &place("told"));
    write_file(&here.path("pool.toml"), pool.as_bytes())
}

/// Plays the chapter.
pub(super) fn play(stage: &Stage) -> Result<()> {
    let stage = stage.within(FOLDER);
    stage.chapter(
        "A week at Fernhollow",
        "In week/ a pool keeps itself synced, settled and checked. Its folders are as slow as they are small, so that\n\
         hours are hours. As it is wished, hardly anything fits; the second look is at better times.",
    );
    stage.quietly(&["create", "--yes"])?;
    stage.quietly(&["put", "../card/dawn-chorus", "../card/nest-cams", "/", "--yes"])?;
    stage.quietly(&["settle", "--then-sync", "--yes"])?;
    stage.type_command(&["agenda"], &[0, 1])?;
    stage.type_command(&["agenda", "--solve", "--write"], &[0, 1])?;
    stage.type_command(&["agenda"], &[0, 1])?;
    stage.say("A disk is pulled. Whoever is named in the pool file is told, once.\n");
    stage.lose("cedar", "cedar-new")?;
    stage.type_command(&["agenda", "--due"], &[0, 1])?;
    stage.type_command(&["notice"], &[0, 1])?;
    stage.type_command(&["rebuild", "cedar", "--onto", "disks/cedar-new", "--yes"], &[0, 1])?;
    stage.type_command(&["journal"], &[0])?;
    stage.type_command(&["usage"], &[0])?;
    stage.type_command(&["report", "report.html"], &[0])
}
