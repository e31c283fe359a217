//! A small pool like the reader's own, to rehearse a failure on.

use std::fmt::Write as _;
use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::label::Role;
use sieve_core::pool::PoolSpec;
use sieve_core::suggest;
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::status::DiskStatus;

use super::stage::make_empty;
use super::stage::{Stage, make_folder, write_file};
use super::world::noise;
use crate::exit::Outcome;
use crate::human::{size, style};
use crate::json;

json::named!("drill-practice", Made<'_>);

/// The largest disk of a practice pool; the others keep their proportions.
const LARGEST: u64 = 48_000_000;
/// No disk is smaller: labels, tables and replicas take some space of their own.
const SMALLEST: u64 = 6_000_000;
/// A practice disk is filled no further, so that there is room to play.
const FULLEST: f64 = 0.5;
/// Files are about so large.
const FILE: u64 = 150_000;

#[derive(Serialize, JsonSchema)]
struct Made<'a> {
    /// Where the small pool is.
    folder: &'a Path,
    /// Its disks.
    disks: &'a [Small],
    /// The disks that are to die.
    lose: &'a [String],
    /// What to type.
    commands: &'a [String],
}

/// A disk of the practice pool.
#[derive(Serialize, JsonSchema)]
struct Small {
    /// The disk.
    #[serde(rename = "disk")]
    name: String,
    /// Its space.
    capacity_bytes: u64,
    /// What lies on it.
    filled_bytes: u64,
    #[serde(skip)]
    is_data: bool,
}

/// Makes the pool, syncs it, lets something change, and says what to type.
///
/// # Errors
/// When the folder is not empty, or a disk that is to be lost is none of the pool.
pub(crate) fn practice(
    dir: &Path,
    spec: &PoolSpec,
    disks: &[DiskStatus],
    lose: &[String],
    json: bool,
) -> Result<Outcome> {
    let small = scaled(disks);
    let lose = to_lose(&small, lose)?;
    let root = std::path::absolute(dir).map_err(|e| Error::io("practice.dir", dir, e))?;
    make_empty(&root)?;
    let stage = Stage::new(root.clone(), false)?;
    write_file(&stage.path("pool.toml"), pool_file(&stage, spec, &small)?.as_bytes())?;
    for disk in small.iter().filter(|d| d.is_data) {
        fill(&stage, disk)?;
    }
    stage.type_command(&["create", "--yes"], &[0])?;
    stage.type_command(&["sync", "--yes"], &[0])?;
    // Something is always new or changed when a disk dies.
    if let Some(disk) = small.iter().find(|d| d.is_data) {
        noise(&stage.path(format!("disks/{0}/dawn-chorus/{0}-000.flac", disk.name)), FILE as usize + 4096)?;
    }
    for disk in small.iter().filter(|d| d.is_data) {
        noise(&stage.path(format!("disks/{0}/new/{0}-late.flac", disk.name)), FILE as usize)?;
    }
    let commands = commands(dir, &lose);
    if json {
        json::print(&Made { folder: &root, disks: &small, lose: &lose, commands: &commands })?;
    } else {
        show(dir, spec, &small, &commands);
    }
    Ok(Outcome::Fine)
}

/// The disks of a pool, all smaller by one factor.
fn scaled(disks: &[DiskStatus]) -> Vec<Small> {
    let total = |d: &DiskStatus| d.used.plus(d.free).exact();
    let largest = disks.iter().map(total).max().unwrap_or(0).max(1);
    let small = |disk: &DiskStatus| {
        let share = total(disk) as f64 / largest as f64;
        let capacity = ((LARGEST as f64 * share) as u64).max(SMALLEST);
        let full = disk.used.exact() as f64 / total(disk).max(1) as f64;
        let filled = (capacity as f64 * full.min(FULLEST)) as u64;
        let is_data = disk.role == Role::Data;
        // A parity drive holds its own tables besides the image.
        let capacity_bytes = if is_data { capacity } else { capacity + SMALLEST };
        Small {
            name: disk.name.clone(),
            capacity_bytes,
            filled_bytes: if is_data { filled } else { 0 },
            is_data,
        }
    };
    disks.iter().map(small).collect()
}

/// The disks that were named; else the fullest data disk.
fn to_lose(disks: &[Small], named: &[String]) -> Result<Vec<String>> {
    if let Some(unknown) = named.iter().find(|name| disks.iter().all(|d| d.name != **name)) {
        let message = suggest::unknown("disk", unknown, disks.iter().map(|d| d.name.as_str()));
        return Err(Error::new(Kind::Usage, "disk.unknown", message));
    }
    if !named.is_empty() {
        return Ok(named.to_vec());
    }
    let fullest = disks.iter().filter(|d| d.is_data).max_by_key(|d| d.filled_bytes);
    Ok(fullest.map(|d| d.name.clone()).into_iter().collect())
}

fn pool_file(stage: &Stage, spec: &PoolSpec, disks: &[Small]) -> Result<String> {
    let mut text = format!("# A pool like {}, to practise on.\n[pool]\nname = \"practice\"\n", spec.name);
    for disk in disks {
        let path = stage.path("disks").join(&disk.name);
        make_folder(&path)?;
        write!(
            text,
            "\n[[disk]]\nname = \"{}\"\npath = \"{}\"\ncapacity = \"{} B\"\nsimulated = true   # a folder stands in for the disk\n",
            disk.name,
            path.display(),
            disk.capacity_bytes
        )
        .expect("writing to text works");
    }
    let is_there = |name: &&String| disks.iter().any(|d| d.name == **name);
    for volume in &spec.volumes {
        let named = |list: &[String]| list.iter().filter(is_there).cloned().collect::<Vec<_>>();
        let data = named(&volume.data);
        let parity: Vec<_> =
            volume.parity.iter().map(|disks| named(disks)).filter(|d| !d.is_empty()).collect();
        if data.is_empty() {
            continue;
        }
        write!(
            text,
            "\n[[volume]]\nname = \"{}\"\nkind = \"unstriped\"\ndata = {data:?}\nparity = {parity:?}\nplacement = \"{}\"\n",
            volume.name,
            volume.placement.word()
        )
        .expect("writing to text works");
    }
    Ok(text)
}

fn fill(stage: &Stage, disk: &Small) -> Result<()> {
    const FOLDERS: [&str; 4] = ["dawn-chorus", "nest-cams", "herbarium", "field-notes"];
    let mut left = disk.filled_bytes.max(FILE);
    let mut number = 0;
    while left > 0 {
        let length = (FILE / 2 + (number * 7919) % FILE).min(left);
        let folder = FOLDERS[(number % 4) as usize];
        noise(&stage.path(format!("disks/{0}/{folder}/{0}-{number:03}.flac", disk.name)), length as usize)?;
        left -= length;
        number += 1;
    }
    Ok(())
}

fn commands(dir: &Path, lose: &[String]) -> Vec<String> {
    let together = lose.join(",");
    let folders =
        |suffix: &str| lose.iter().map(|n| format!("disks/{n}{suffix}")).collect::<Vec<_>>().join(" ");
    let onto = lose.iter().map(|n| format!("--onto disks/{n}-new")).collect::<Vec<_>>().join(" ");
    vec![
        format!("cd {}", dir.display()),
        "zinc-sieve status".into(),
        format!("zinc-sieve fate --lose {together}"),
        format!("zinc-sieve drill --lose {together}"),
        format!("rm -r {}", folders("")),
        "zinc-sieve status".into(),
        format!("mkdir {}", folders("-new")),
        format!("zinc-sieve rebuild {} {onto}", lose.join(" ")),
        "zinc-sieve sync".into(),
        "zinc-sieve verify".into(),
    ]
}

fn show(dir: &Path, spec: &PoolSpec, disks: &[Small], commands: &[String]) {
    const WHY: [&str; 10] = [
        "",
        "how it is",
        "look before anything happens",
        "prove it",
        "they die",
        "what the alarm looks like",
        "the new ones",
        "what was foretold comes back",
        "guard it again",
        "and read everything once",
    ];
    crate::say!("In {} there is a small pool like {}:", dir.display(), spec.name);
    for disk in disks {
        let what = if disk.is_data { "data" } else { "parity" };
        let capacity = size(ByteLength::new(disk.capacity_bytes));
        crate::say!("  {:<12} {what:<7} {capacity}", disk.name);
    }
    crate::say!("\nRehearse the failure there; nothing in it can hurt your pool. Type:");
    let width = commands.iter().map(String::len).max().unwrap_or(0);
    for (command, why) in commands.iter().zip(WHY) {
        let why = if why.is_empty() { String::new() } else { format!("# {why}") };
        crate::say!("  {command:<width$}  {}", style::paint(style::FAINT, why));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use sieve_pool::member::State;

    fn disk(name: &str, role: Role, used: u64, total: u64) -> DiskStatus {
        DiskStatus {
            name: name.into(),
            volume: "recordings".into(),
            role,
            state: State::Present,
            advice: None,
            bay: None,
            serial: None,
            used: ByteLength::new(used),
            free: ByteLength::new(total - used),
            scanned_at: None,
            read_only: false,
        }
    }

    #[test]
    fn proportions_are_kept_down_to_a_least_size() {
        const TB: u64 = 1_000_000_000_000;
        let disks = [
            disk("alder", Role::Data, 6 * TB, 12 * TB),
            disk("beech", Role::Data, 6 * TB, 6 * TB),
            disk("cedar", Role::Data, 0, TB / 2),
            disk("oak", Role::Parity, 6 * TB, 12 * TB),
        ];
        let small = scaled(&disks);
        let capacities: Vec<u64> = small.iter().map(|d| d.capacity_bytes).collect();
        assert_eq!(capacities, [LARGEST, LARGEST / 2, SMALLEST, LARGEST + SMALLEST]);
        let filled: Vec<u64> = small.iter().map(|d| d.filled_bytes).collect();
        assert_eq!(
            filled,
            [LARGEST / 2, LARGEST / 4, 0, 0],
            "a full disk is filled by half, parity not at all"
        );
        assert_eq!(to_lose(&small, &[]).unwrap(), ["alder"], "the fullest");
        assert_eq!(to_lose(&small, &["oak".into()]).unwrap(), ["oak"]);
        assert!(to_lose(&small, &["elm".into()]).is_err());
    }

    #[test]
    fn the_commands_fit_the_disks_that_die() {
        let lines = commands(Path::new("/tmp/practice"), &["alder".into(), "oak".into()]);
        assert!(lines.contains(&"rm -r disks/alder disks/oak".into()));
        let rebuild = "zinc-sieve rebuild alder oak --onto disks/alder-new --onto disks/oak-new";
        assert!(lines.contains(&rebuild.into()), "{lines:?}");
    }
}
