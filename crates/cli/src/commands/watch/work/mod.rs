//! `bench --work`: what the program is felt to take, each beside what the same takes by hand, in a pool of made-up files on
//! this machine's disks. It runs as it is run by its user.

mod by_hand;
mod stage;

use std::path::PathBuf;

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::units::ByteLength;
use sieve_disk::Result;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, size, style, units};
use crate::json;
use by_hand::ByHand;
use stage::Stage;

json::named!("bench-work", Answer);

/// So many made-up files where nothing else is said.
const USUAL_FILES: usize = 2000;

/// Where it is measured, and how much.
#[derive(Args)]
pub(crate) struct WorkArguments {
    /// Measure how long the commands take in a pool of made-up files, beside the same by hand
    #[arg(long, conflicts_with_all = ["kernel", "read_disks"])]
    pub(crate) work: bool,
    /// The folders that the disks of that pool are made in, in turn; without it a temporary one
    #[arg(long, value_name = "DIR", requires = "work")]
    pub(crate) within: Vec<PathBuf>,
    /// How many files there are, of 16 KiB each
    #[arg(long, value_name = "N", requires = "work", default_value_t = USUAL_FILES, value_parser = clap::value_parser!(usize))]
    pub(crate) count: usize,
}

/// One line of the table.
#[derive(Serialize, JsonSchema)]
struct Row {
    /// The work.
    what: &'static str,
    /// What the program took.
    seconds: f64,
    /// What it is held against.
    #[serde(skip_serializing_if = "Option::is_none")]
    by_hand: Option<&'static str>,
    /// What that took.
    #[serde(skip_serializing_if = "Option::is_none")]
    by_hand_seconds: Option<f64>,
    /// The second over the first: 1 is as fast as by hand.
    #[serde(skip_serializing_if = "Option::is_none")]
    share: Option<f64>,
    /// Bytes written to the disk that was written to most.
    #[serde(rename = "written_bytes", skip_serializing_if = "Option::is_none")]
    written: Option<ByteLength>,
}

#[derive(Serialize, JsonSchema)]
struct Answer {
    /// So many files.
    files: usize,
    /// On so many disks.
    disks: usize,
    /// With so many parity drives.
    parities: usize,
    /// Where.
    folders: Vec<PathBuf>,
    /// What was measured.
    rows: Vec<Row>,
}

pub(crate) fn run(context: &Context, asked: &WorkArguments) -> Result<Outcome> {
    let stage = Stage::set_up(&asked.within, asked.count.max(stage::LEAST_FILES))?;
    let rows = measure(&stage)?;
    let answer = Answer {
        files: stage.files,
        disks: stage::DISKS,
        parities: stage::PARITIES,
        folders: stage.folders.clone(),
        rows,
    };
    if context.json {
        json::print(&answer)?;
    } else {
        show(&answer);
    }
    Ok(Outcome::Fine)
}

fn row(what: &'static str, seconds: f64, by_hand: Option<(&'static str, f64)>) -> Row {
    let (by_hand, by_hand_seconds) = by_hand.unzip();
    let share = by_hand_seconds.map(|took| took / seconds.max(1e-9));
    Row { what, seconds, by_hand, by_hand_seconds, share, written: None }
}

fn measure(stage: &Stage) -> Result<Vec<Row>> {
    let hand = ByHand::new(stage);
    let mut rows = Vec::new();
    stage.run(&["create", "--yes"])?;
    let copied = hand.copy_in()?;
    let put = stage.run(&["put", stage.card(), ".", "--yes"])?;
    rows.push(row("put all files", put, Some(("copy, one sync, read back", copied))));
    let read = hand.read_all()?;
    let sync = stage.run(&["sync", "--yes"])?;
    rows.push(row("first sync", sync, Some(("read and hash, a thread a disk", read))));
    let walked = hand.walk()?;
    let idle = stage.run(&["sync", "--yes"])?;
    rows.push(row("sync, nothing changed", idle, Some(("walk all disks with metadata", walked))));
    hand.change_one_file()?;
    let (seconds, written) = stage.sync_counting()?;
    let changed = row("sync, one file of 1 KiB changed", seconds, Some(("the same walk", walked)));
    rows.push(Row { written: Some(written), ..changed });
    rows.push(row("status", stage.median(&["status"])?, None));
    let listed = hand.list_one_folder()?;
    let folder = stage.one_folder();
    rows.push(row(
        "ls of a folder",
        stage.median(&["ls", &folder])?,
        Some(("list it with metadata", listed)),
    ));
    rows.push(row("rm of a file, asked only", stage.median(&["rm", &stage.one_file(), "--dry-run"])?, None));
    rows.push(row("fate --lose", stage.median(&["fate", "--lose", stage::LOST])?, None));
    rows.push(row("fate --any 2", stage.median(&["fate", "--any", "2"])?, None));
    let copied = hand.copy_out()?;
    let got = stage.run(&["get", ".", stage.out()])?;
    rows.push(row("get all files", got, Some(("copy and hash, one sync", copied))));
    let verified = stage.run(&["verify"])?;
    rows.push(row("verify", verified, Some(("read and hash", hand.read_all()?))));
    let drilled = stage.run(&["drill", "--lose", stage::LOST])?;
    stage.lose_a_disk()?;
    let degraded = stage.run(&["verify"])?;
    rows.push(row("verify, a disk away", degraded, Some(("verify", verified))));
    let rebuilt = stage.run(&["rebuild", stage::LOST, "--onto", stage.fresh(), "--yes"])?;
    rows.push(row("rebuild of a disk", rebuilt, Some(("read and hash", hand.read_all()?))));
    rows.push(row("drill of that disk", drilled, Some(("rebuild", rebuilt))));
    Ok(rows)
}

fn show(answer: &Answer) {
    crate::say!(
        "{} of 16 KiB on {} disks with {} parities; a share of 1 is as fast as by hand. What was written stays in\nmemory, by hand as well.\n",
        units::files(answer.files as u64),
        answer.disks,
        answer.parities
    );
    let mut table = Table::new(&["what", ">took", "by hand", ">took", ">share"]);
    for row in &answer.rows {
        let what = row.by_hand.map_or("·".into(), String::from);
        let took = row.by_hand_seconds.map_or("·".into(), seconds);
        let share = row.share.map_or("·".into(), |share| format!("{share:.2}"));
        table.row([row.what.into(), seconds(row.seconds), what, took, share]);
    }
    table.print();
    for row in answer.rows.iter().filter(|row| row.written.is_some()) {
        let written = row.written.unwrap_or_default();
        let text = format!("\n{}: at most {} written to one disk.", row.what, size(written));
        crate::say!("{}", style::paint(style::FAINT, text));
    }
}

fn seconds(took: f64) -> String {
    if took < 1.0 { format!("{:.0} ms", took * 1000.0) } else { format!("{took:.1} s") }
}
