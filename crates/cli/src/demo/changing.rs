//! A chapter about a pool that changes: a larger disk, an old one that goes, and the order of the steps.

use std::fmt::Write as _;

use sieve_disk::Result;

use super::stage::{Stage, make_folder, write_file};

/// The folder of the pool.
const FOLDER: &str = "changing";
/// Name, capacity in MB and bay.
const DISKS: [(&str, u64, &str); 4] =
    [("alder", 30, "A1"), ("beech", 30, "A2"), ("cedar", 60, "B1"), ("oak", 70, "B2")];

/// Makes the pool with its disks, and a larger one that was bought.
fn build(stage: &Stage) -> Result<()> {
    let mut pool = String::from("[pool]\nname = \"fernhollow\"\n");
    for (name, capacity, bay) in DISKS {
        let path = stage.path("disks").join(name);
        make_folder(&path)?;
        write!(
            pool,
            "\n[[disk]]\nname = \"{name}\"\npath = \"{}\"\ncapacity = \"{capacity} MB\"\nbay = \"{bay}\"\nsimulated = true\n",
            path.display()
        )
        .expect("writing to text works");
    }
    pool += "\n[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]\n";
    write_file(&stage.path("pool.toml"), pool.as_bytes())?;
    make_folder(&stage.path("disks/larger"))
}

pub(super) fn play(stage: &Stage) -> Result<()> {
    let stage = &stage.within(FOLDER);
    build(stage)?;
    stage.chapter(
        "A pool that changes",
        "In changing/ there are two small disks. A larger one was bought: it takes the place of alder, and beech goes. \
         First the order of the steps is asked for; then they are done. Every file stays guarded throughout.",
    );
    stage.quietly(&["create", "--yes"])?;
    stage.quietly(&["put", "../card/dawn-chorus", "../card/nest-cams", "/", "--yes"])?;
    stage.quietly(&["sync", "--yes"])?;
    stage.type_command(&["route", "alder is 60 MB", "without beech"], &[0])?;
    stage.type_command(
        &["replace", "alder", "--onto", "disks/larger", "--capacity", "60 MB", "--yes"],
        &[0],
    )?;
    stage.type_command(&["vacate", "beech", "--yes", "--quiet"], &[0])?;
    stage.type_command(&["rename", "disk", "alder", "larch", "--yes"], &[0])?;
    stage.type_command(&["even-out", "--yes", "--quiet"], &[0])?;
    stage.type_command(&["sync", "--yes", "--quiet"], &[0])?;
    stage.type_command(&["status"], &[0])
}
