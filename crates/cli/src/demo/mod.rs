//! `demo`: the whole story, on real files, with the commands that a user would type.

mod changing;
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
use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use schemars::JsonSchema;
use serde::Serialize;
use sieve_disk::{Error, Result};

use crate::exit::Outcome;
use crate::human::{Table, count, style};
use crate::json;
use stage::Stage;

json::named!("demo", Proof);

/// A new folder.
#[derive(Serialize, JsonSchema)]
struct SetUp<'a> {
    folder: &'a Path,
}
json::named!("demo-set-up", SetUp<'_>);

/// A new folder with a pool on paper.
#[derive(Serialize, JsonSchema)]
struct Paper<'a> {
    folder: &'a Path,
    /// Files in its listing.
    files: u64,
    /// Their bytes.
    bytes: sieve_core::units::ByteLength,
}
json::named!("demo-paper", Paper<'_>);

/// What the demo found out by itself, without the program's word for it.
#[derive(Debug, Default, Serialize, JsonSchema)]
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

/// A part of the demo: the story, or what else the program does, each with a pool of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Chapter {
    Story,
    Cache,
    Mirror,
    Tiers,
    Span,
    Mount,
    Agenda,
    Changing,
}

/// What is played, and where.
#[derive(Args)]
pub(crate) struct DemoArguments {
    /// Play these chapters; without it the story
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) chapter: Vec<Chapter>,
    /// Play all of them
    #[arg(long, conflicts_with = "chapter")]
    pub(crate) all: bool,
    /// Play it in this new folder, and leave everything there
    #[arg(long, value_name = "DIR")]
    pub(crate) dir: Option<PathBuf>,
    /// Only make the disks, the pool file and a card full of files, to try the commands on
    #[arg(long, requires = "dir")]
    pub(crate) set_up_only: bool,
    /// Only make a pool on paper, of realistic size, with a listing of its files
    #[arg(long, requires = "dir", conflicts_with = "set_up_only")]
    pub(crate) paper: bool,
}

/// Does what is asked.
///
/// # Errors
/// Those of the chapters, and what the system says.
pub(crate) fn perform(arguments: &DemoArguments, json: bool) -> Result<Outcome> {
    match arguments {
        DemoArguments { dir: Some(dir), set_up_only: true, .. } => set_up(dir, json),
        DemoArguments { dir: Some(dir), paper: true, .. } => paper(dir, json),
        DemoArguments { dir, all: true, .. } => run(dir.as_deref(), Chapter::value_variants(), json),
        DemoArguments { dir, chapter, .. } => run(dir.as_deref(), chapter, json),
    }
}

/// Plays the chapters that are wanted, in order; without any, the story.
///
/// # Errors
/// When the folder is not empty, or a step fails that should not.
fn run(dir: Option<&Path>, chapters: &[Chapter], json: bool) -> Result<Outcome> {
    let (root, keep) = match dir {
        Some(dir) => (std::path::absolute(dir).map_err(|e| Error::io("demo.dir", dir, e))?, true),
        None => (std::env::temp_dir().join(format!("zinc-sieve-demo-{}", std::process::id())), false),
    };
    make_empty(&root)?;
    let stage = Stage::new(root.clone(), !json)?;
    let outcome = play(&stage, chapters);
    if !keep {
        remove_tree(&root)?;
    }
    let proof = outcome?;
    if json {
        json::print(&proof)?;
    } else if keep {
        crate::say!("\nEverything is left in {}: cd there and try `zinc-sieve status`.", root.display());
    }
    Ok(Outcome::well(proof.surprises.is_empty()))
}

/// Makes the world of the story in a new folder, and leaves the commands to the reader.
///
/// # Errors
/// When the folder is not empty, or cannot be written.
fn set_up(dir: &Path, json: bool) -> Result<Outcome> {
    let root = std::path::absolute(dir).map_err(|e| Error::io("demo.dir", dir, e))?;
    make_empty(&root)?;
    world::build(&Stage::new(root.clone(), false)?)?;
    kinds::build(&Stage::new(root.clone(), false)?)?;
    week::build(&Stage::new(root.clone(), false)?)?;
    if json {
        json::print(&SetUp { folder: &root })?;
    } else {
        crate::say!(
            "In {} there are now four folders that stand in for disks, a pool file, and a memory card \
             full of files (card/). Five more pools, each in a folder of its own, show a cache (cache/), the other \
             kinds of volumes (mirror/, tiers/, span/), and what runs by itself (week/). Next: cd there, and try \
             `zinc-sieve check`.",
            dir.display()
        );
    }
    Ok(Outcome::Fine)
}

/// Writes a pool on paper with a listing of its files into a new folder.
///
/// # Errors
/// When the folder is not empty, or cannot be written.
fn paper(dir: &Path, json: bool) -> Result<Outcome> {
    let root = std::path::absolute(dir).map_err(|e| Error::io("demo.dir", dir, e))?;
    make_empty(&root)?;
    let listed = paper::write(&Stage::new(root.clone(), false)?)?;
    if json {
        json::print(&Paper { folder: &root, files: listed.files, bytes: listed.bytes })?;
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

fn play(stage: &Stage, chapters: &[Chapter]) -> Result<Proof> {
    world::build(stage)?;
    kinds::build(stage)?;
    week::build(stage)?;
    let chapters = if chapters.is_empty() { &[Chapter::Story] } else { chapters };
    let mut proof = Proof::default();
    for chapter in chapters {
        match chapter {
            Chapter::Story => proof = story(stage)?,
            Chapter::Cache => kinds::cache(stage)?,
            Chapter::Mirror => kinds::mirror(stage)?,
            Chapter::Tiers => kinds::tiers(stage)?,
            Chapter::Span => kinds::span(stage)?,
            Chapter::Mount => drive::play(stage, !chapters.contains(&Chapter::Story))?,
            Chapter::Agenda => week::play(stage)?,
            Chapter::Changing => changing::play(stage)?,
        }
    }
    if !chapters.contains(&Chapter::Mount) {
        stage.say(&format!(
            "\nMore of it: zinc-sieve demo --all, or --chapter with one of {}.",
            "cache, mirror, tiers, span, mount, agenda, changing"
        ));
    }
    Ok(proof)
}

/// What the program is there for: files go in, a disk dies, and what was foretold comes true.
fn story(stage: &Stage) -> Result<Proof> {
    stage.chapter(
        "A pool of four disks",
        "Fernhollow keeps a bird-sound archive on three disks, with a fourth for parity. A pool file says so. \
         Here folders stand in for the disks; everything else is real.",
    );
    stage.type_command(&["check", "--quiet"], &[0])?;
    stage.type_command(&["create", "--yes", "--quiet"], &[0])?;
    let put = ["put", "card/dawn-chorus", "card/nest-cams", "card/herbarium", ".", "--yes"];
    stage.type_command(&put, &[0])?;
    stage.type_command(&["sync", "--yes", "--quiet"], &[0])?;
    stage.chapter(
        "Life goes on",
        "New recordings arrive, a clip is cut shorter with another program, a draft is removed. Parity does not \
         know of it yet.",
    );
    world::live_on(stage)?;
    stage.type_command(&["put", "card/new/2031-05-05", "dawn-chorus", "--yes", "--quiet"], &[0])?;
    stage.type_command(&["rm", "field-notes/draft.txt", "--yes", "--quiet"], &[0])?;
    stage.type_command(&["status"], &[5])?;
    stage.chapter("What if cedar dies now?", "The question before anything happens, answered file by file.");
    stage.type_command(&["fate", "--lose", "cedar"], &[0, 1])?;
    let promised = stage.fates("cedar")?;
    let before = stage.contents()?;
    stage.chapter(
        "Cedar dies",
        "Its folder is really deleted, with everything in it, and rebuilt from the others.",
    );
    stage.lose("cedar", "cedar-new")?;
    stage.type_command(&["status", "--quiet"], &[1])?;
    stage.type_command(&["rebuild", "cedar", "--onto", "disks/cedar-new", "--yes"], &[0, 1])?;
    let proof = prove(stage, &promised, &before)?;
    stage.type_command(&["sync", "--yes", "--quiet"], &[0])?;
    stage.type_command(&["verify", "--quiet"], &[0])?;
    stage.tell_only(|| conclude(&proof));
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

fn conclude(proof: &Proof) {
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
}
