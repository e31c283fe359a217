//! `demo`: the whole story, on real files, with the commands that a user would type.

mod drive;
mod kinds;
mod machine;
mod paper;
mod practice;
mod stage;
mod week;
mod world;

pub(crate) use practice::practice;

use crate::demo::stage::{make_empty, remove_tree};
use std::collections::BTreeMap;
use std::path::Path;

use serde::Serialize;
use sieve_disk::{Error, Result};

use crate::exit::Outcome;
use crate::human::{Table, count, style};
use crate::json;
use stage::Stage;

/// What the demo found out by itself, without the program's word for it.
#[derive(Debug, Default, Serialize)]
struct Proof {
    /// Files that were promised to come back as they are, and did, byte for byte.
    rebuilt: u64,
    /// Files that were promised to come back as of the last sync, and did.
    older: u64,
    /// Files that were said to be lost, and are.
    lost: u64,
    /// Files on other disks, unchanged.
    untouched: u64,
    /// Files that came out otherwise than was said.
    surprises: Vec<String>,
}

/// Plays the story.
///
/// # Errors
/// When the folder is not empty, or a step fails that should not.
pub(crate) fn run(dir: Option<&Path>, json: bool) -> Result<Outcome> {
    let (root, keep) = match dir {
        Some(dir) => (std::path::absolute(dir).map_err(|e| Error::io("demo.dir", dir, e))?, true),
        None => (std::env::temp_dir().join(format!("zinc-sieve-demo-{}", std::process::id())), false),
    };
    make_empty(&root)?;
    let stage = Stage::new(root.clone(), !json)?;
    let outcome = play(&stage);
    if !keep {
        remove_tree(&root)?;
    }
    let proof = outcome?;
    if json {
        json::print(&proof)?;
    } else {
        conclude(&proof, &root, keep);
    }
    Ok(Outcome::well(proof.surprises.is_empty()))
}

/// Makes the world of the story in a new folder, and leaves the commands to the reader.
///
/// # Errors
/// When the folder is not empty, or cannot be written.
pub(crate) fn set_up(dir: &Path, json: bool) -> Result<Outcome> {
    let root = std::path::absolute(dir).map_err(|e| Error::io("demo.dir", dir, e))?;
    make_empty(&root)?;
    world::build(&Stage::new(root.clone(), false)?)?;
    kinds::build(&Stage::new(root.clone(), false)?)?;
    week::build(&Stage::new(root.clone(), false)?)?;
    if json {
        json::print(&serde_json::json!({ "folder": root }))?;
    } else {
        crate::say!(
            "In {} there are now four folders that stand in for disks, a pool file, and a memory card\n\
             full of files (card/). Five more pools, each in a folder of its own, show a cache (cache/), the other kinds\n\
             of volumes (mirror/, tiers/, span/), and what runs by itself (week/). Next: cd there, and try `zinc-sieve check`.",
            dir.display()
        );
    }
    Ok(Outcome::Fine)
}

/// Writes a pool on paper with a listing of its files into a new folder.
///
/// # Errors
/// When the folder is not empty, or cannot be written.
pub(crate) fn paper(dir: &Path, json: bool) -> Result<Outcome> {
    let root = std::path::absolute(dir).map_err(|e| Error::io("demo.dir", dir, e))?;
    make_empty(&root)?;
    let listed = paper::write(&Stage::new(root.clone(), false)?)?;
    if json {
        json::print(&serde_json::json!({ "folder": root, "files": listed.files, "bytes": listed.bytes }))?;
    } else {
        crate::say!(
            "In {} there is a pool on paper, and a listing of its {}. Next: cd there, and try\n  \
             zinc-sieve status --files listing.csv\n  zinc-sieve fate --lose cedar,elm,oak --files listing.csv",
            dir.display(),
            crate::human::units::files(listed.files),
        );
    }
    Ok(Outcome::Fine)
}

fn play(stage: &Stage) -> Result<Proof> {
    stage.chapter(
        "1. The pool on paper",
        "Fernhollow keeps a bird-sound archive on three disks, with a fourth for parity. A pool file\n\
         says so. Here folders stand in for the disks; everything else is real.",
    );
    world::build(stage)?;
    kinds::build(stage)?;
    week::build(stage)?;
    stage.show_file("pool.toml");
    stage.type_command(&["check"], &[0])?;
    stage.chapter(
        "2. Build it",
        "Each disk gets a label. Nothing is erased: the notes that lie on alder already stay there.",
    );
    stage.type_command(&["create", "--yes"], &[0])?;
    stage.chapter(
        "3. Put files in",
        "Each file goes whole to the emptiest disk, and is verified before it gets its name.",
    );
    stage
        .type_command(&["put", "card/dawn-chorus", "card/nest-cams", "card/herbarium", ".", "--yes"], &[0])?;
    stage.chapter(
        "4. The first sync",
        "Parity is computed over all three disks. From now on any one of them may die.",
    );
    stage.type_command(&["sync", "--yes"], &[0])?;
    stage.chapter(
        "5. Life goes on",
        "New recordings arrive, a clip is cut shorter with another program, a draft is removed.\n\
         Parity does not know of it yet.",
    );
    world::live_on(stage)?;
    stage.type_command(&["put", "card/new/2031-05-05", "dawn-chorus", "--yes"], &[0])?;
    stage.type_command(&["rm", "field-notes/draft.txt", "--yes"], &[0])?;
    stage.type_command(&["status"], &[5])?;
    stage.chapter(
        "6. What if cedar dies now?",
        "The question before anything happens, answered file by file.",
    );
    stage.type_command(&["fate", "--lose", "cedar"], &[0, 1])?;
    let promised = stage.fates("cedar")?;
    let before = stage.contents()?;
    stage.chapter("7. Cedar dies", "Its folder is really deleted, with everything in it.");
    stage.lose("cedar", "cedar-new")?;
    stage.type_command(&["status"], &[1])?;
    stage.chapter("8. Rebuild it", "From the survivors only; every file is checked before it gets its name.");
    stage.type_command(&["rebuild", "cedar", "--onto", "disks/cedar-new", "--yes"], &[0, 1])?;
    let proof = prove(stage, &promised, &before)?;
    stage.chapter(
        "9. And back to normal",
        "The next sync guards what is there now; verify reads everything once more.",
    );
    stage.type_command(&["sync", "--yes"], &[0])?;
    stage.type_command(&["verify"], &[0])?;
    kinds::play(stage)?;
    drive::play(stage)?;
    week::play(stage)?;
    Ok(proof)
}

/// Compares what came back with what was there before, byte for byte.
fn prove(
    stage: &Stage,
    promised: &[stage::Promise],
    before: &BTreeMap<(String, String), Vec<u8>>,
) -> Result<Proof> {
    let mut proof = Proof::default();
    let at_sync = world::contents_at_sync(stage)?;
    for promise in promised {
        let key = (promise.disk.clone(), promise.path.clone());
        let place = if promise.disk == "cedar" { "cedar-new" } else { &promise.disk };
        let now = std::fs::read(stage.path("disks").join(place).join(&promise.path)).ok();
        let original = before.get(&key);
        let (kept, counter) = match promise.fate.as_str() {
            "untouched" => (now.as_ref() == original, &mut proof.untouched),
            "rebuilt" => (now.is_some() && now.as_ref() == original, &mut proof.rebuilt),
            "older" => (now.is_some() && now.as_ref() == at_sync.get(&promise.path), &mut proof.older),
            _ => (now.is_none(), &mut proof.lost),
        };
        if kept {
            *counter += 1;
        } else {
            proof
                .surprises
                .push(format!("{}:{} was promised to be {}", promise.disk, promise.path, promise.fate));
        }
    }
    Ok(proof)
}

fn conclude(proof: &Proof, root: &Path, keep: bool) {
    style::heading("Was the prediction true? The demo compared every file itself:");
    let mut table = Table::new(&["promised", ">kept", "checked against"]);
    table.row(["untouched".into(), count(proof.untouched), "the bytes before the loss".into()]);
    table.row(["rebuilt".into(), count(proof.rebuilt), "the bytes before the loss".into()]);
    table.row(["older".into(), count(proof.older), "the bytes at the last sync".into()]);
    table.row(["torn or gone".into(), count(proof.lost), "is not there".into()]);
    table.print();
    if proof.surprises.is_empty() {
        crate::say!("\n{}", style::paint(style::WELL, "Every promise was kept."));
    }
    for surprise in &proof.surprises {
        crate::say!("{}", style::paint(style::BAD, surprise));
    }
    if keep {
        crate::say!(
            "Everything is left in {} to play with: cd there and try `zinc-sieve status`.",
            root.display()
        );
    }
}
