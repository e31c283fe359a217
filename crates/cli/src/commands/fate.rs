//! `fate`: what becomes of every file when disks are lost.

use std::collections::BTreeMap;

use serde::ser::{SerializeMap, SerializeSeq};
use serde::{Serialize, Serializer};
use sieve_core::fate::{Fate, Unguarded};
use sieve_store::fate::{Evaluation, FileFate, Totals, VolumeModel, load as load_model};
use sieve_store::label::Role;
use sieve_store::paper::{self, PaperPool};
use sieve_store::pool::Pool;
use sieve_store::{Error, Kind, Result};

use super::Context;
use crate::args::PaperArguments;
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, time, units};
use crate::{json, load};

/// So many files that do not come back are listed without being asked.
const LISTED: usize = 15;

/// Where the fates of files come from.
trait Fates {
    /// Calls `visit` with every file.
    fn for_each(&self, visit: &mut dyn FnMut(FileFate<'_>) -> Result<()>) -> Result<()>;
}

/// The volumes of a pool that exists.
struct Volumes<'a> {
    pool: &'a Pool,
    volumes: Vec<(VolumeModel, Evaluation)>,
}

impl Fates for Volumes<'_> {
    fn for_each(&self, visit: &mut dyn FnMut(FileFate<'_>) -> Result<()>) -> Result<()> {
        self.volumes
            .iter()
            .try_for_each(|(model, evaluation)| model.for_each_file(self.pool, evaluation, &mut *visit))
    }
}

impl Fates for PaperPool {
    fn for_each(&self, visit: &mut dyn FnMut(FileFate<'_>) -> Result<()>) -> Result<()> {
        self.for_each_file(visit)
    }
}

/// A disk that is missing now, and when it was last scanned.
struct Missing {
    name: String,
    scanned_at: Option<i64>,
}

pub(super) fn run(
    context: &Context,
    lose: &[String],
    list: Option<Fate>,
    on_paper: &PaperArguments,
) -> Result<Outcome> {
    if let Some(spec) = load::spec_on_paper(&context.pool, on_paper.files.is_some())? {
        let mut pool = paper::load(&spec, on_paper.volume.volume.as_deref(), on_paper.files.as_deref())?;
        pool.lose(lose)?;
        return tell(context, &pool, lose, &[], list);
    }
    let pool = load::pool(&context.pool)?;
    let named = lose.iter().map(|name| Ok(pool.member_named(name)?.row.id)).collect::<Result<Vec<_>>>()?;
    let gone = pool.members.iter().filter(|m| !m.state.is_usable());
    let missing: Vec<Missing> =
        gone.map(|m| Missing { name: m.row.name.clone(), scanned_at: m.row.scanned_at }).collect();
    if named.is_empty() && missing.is_empty() {
        return Err(Error::new(Kind::Usage, "fate.nothing-lost", "no disk is missing, and none was named")
            .remedy("name the disks that are to be lost: zinc-sieve fate --lose NAME[,NAME…]"));
    }
    for member in pool.members.iter().filter(|m| m.row.role == Role::Data && m.state.is_usable()) {
        sieve_store::scan::scan(&pool, member)?;
    }
    let mut volumes = Vec::new();
    for volume in pool.volumes() {
        let model = load_model(&pool, &volume.name)?;
        let evaluation = model.evaluate(&pool, &named);
        volumes.push((model, evaluation));
    }
    tell(context, &Volumes { pool: &pool, volumes }, lose, &missing, list)
}

fn tell(
    context: &Context,
    fates: &dyn Fates,
    lose: &[String],
    missing: &[Missing],
    list: Option<Fate>,
) -> Result<Outcome> {
    let summary = summarise(fates, list)?;
    if context.json {
        json::print(&Answer { fates, lose, missing, summary: &summary, list })?;
    } else {
        show(lose, missing, &summary, list);
    }
    Ok(Outcome::well(summary.totals.all_survive()))
}

struct Line {
    fate: Fate,
    path: String,
    text: String,
    why: String,
}

#[derive(Default)]
struct Summary {
    totals: Totals,
    folders: BTreeMap<String, Totals>,
    lines: Vec<Line>,
    unlisted: u64,
}

fn summarise(fates: &dyn Fates, list: Option<Fate>) -> Result<Summary> {
    let mut summary = Summary::default();
    fates.for_each(&mut |file| {
        summary.totals.add(file.fate, file.size_bytes);
        let folder = summary.folders.entry(file.top_folder.clone()).or_default();
        folder.add(file.fate, file.size_bytes);
        let wanted = list.map_or(!file.fate.is_whole(), |fate| file.fate == fate);
        if wanted && (list.is_some() || summary.lines.len() < LISTED) {
            summary.lines.push(Line {
                fate: file.fate,
                text: format!("{} on {}", size(file.size_bytes), file.disks[0]),
                why: why(&file),
                path: file.path,
            });
        } else if wanted {
            summary.unlisted += 1;
        }
        Ok(())
    })?;
    Ok(summary)
}

/// Why a file does not come back as it is.
fn why(file: &FileFate<'_>) -> String {
    match (file.fate, file.unguarded) {
        (Fate::Untouched | Fate::Rebuilt, _) => String::new(),
        (_, Some(Unguarded::New)) => "came after the last sync".into(),
        (_, Some(Unguarded::Changed)) => "changed after the last sync".into(),
        (_, Some(Unguarded::Doubtful)) => "its times or its place moved since the last sync".into(),
        (_, Some(Unguarded::Suspect)) => "damaged, or changed with its times put back".into(),
        (_, Some(Unguarded::StaleNeighbours)) => "other files in its rows changed after the last sync".into(),
        (_, Some(Unguarded::NoParity)) => "its rows have no valid parity".into(),
        (_, Some(Unguarded::DiskMissing)) => "more disks are lost than its rows have parities".into(),
        (_, Some(Unguarded::NoReplica)) => "no other disk has a current catalogue".into(),
        (_, None) => "more disks are lost than its rows have parities".into(),
    }
}

fn show(lose: &[String], missing: &[Missing], summary: &Summary, list: Option<Fate>) {
    let mut lost: Vec<&str> =
        lose.iter().map(String::as_str).chain(missing.iter().map(|m| m.name.as_str())).collect();
    lost.sort_unstable();
    lost.dedup();
    anstream::println!(
        "{}",
        style::paint(
            style::HEAD,
            format!("If {} {} lost:", lost.join(" and "), if lost.len() == 1 { "is" } else { "are" })
        )
    );
    for Missing { name, scanned_at } in missing {
        let when = scanned_at
            .map_or("never scanned".into(), |at| format!("as of the last scan, {}", time::moment(at)));
        anstream::println!("  {name} is not there now: its files are told {when}");
    }
    println!();
    let mut table = Table::new(&["fate", ">files", ">size", ""]);
    for fate in Fate::ALL {
        let amount = summary.totals.of(fate);
        let style = if amount.files > 0 { style::of_fate(fate) } else { style::FAINT };
        table.styled_row([
            (fate.word().into(), style),
            (count(amount.files), style),
            (size(amount.bytes), style),
            (meaning(fate).into(), style::FAINT),
        ]);
    }
    table.print();
    show_folders(summary);
    show_lines(summary, list);
}

const fn meaning(fate: Fate) -> &'static str {
    match fate {
        Fate::Untouched => "on disks that are not lost",
        Fate::Rebuilt => "the present content comes back",
        Fate::Older => "only the content of the last sync comes back",
        Fate::Torn => "some pieces come back",
        Fate::Gone => "nothing comes back",
    }
}

fn show_folders(summary: &Summary) {
    style::heading("By folder (files)");
    let mut table =
        Table::new(&["folder", ">untouched", ">rebuilt", ">older", ">torn", ">gone", ">size not back"]);
    for (folder, totals) in &summary.folders {
        let cell = |fate: Fate| {
            let files = totals.of(fate).files;
            (
                if files == 0 { "·".into() } else { count(files) },
                if files == 0 { style::FAINT } else { style::of_fate(fate) },
            )
        };
        let not_back = [Fate::Older, Fate::Torn, Fate::Gone].map(|f| totals.of(f).bytes).into_iter().sum();
        let name = if folder.is_empty() { "(top)".to_string() } else { format!("{folder}/") };
        table.styled_row([
            (name, anstyle::Style::new()),
            cell(Fate::Untouched),
            cell(Fate::Rebuilt),
            cell(Fate::Older),
            cell(Fate::Torn),
            cell(Fate::Gone),
            (size(not_back), anstyle::Style::new()),
        ]);
    }
    table.print();
}

fn show_lines(summary: &Summary, list: Option<Fate>) {
    let title = match list {
        Some(fate) => format!("Every file that is {}", fate.word()),
        None if summary.lines.is_empty() => {
            anstream::println!(
                "\n{}",
                style::paint(style::WELL, "Every file survives in its present state.")
            );
            return;
        }
        None => "What does not come back as it is".into(),
    };
    style::heading(&title);
    let mut table = Table::new(&["fate", "file", "", "why"]);
    for line in &summary.lines {
        table.styled_row([
            (line.fate.word().into(), style::of_fate(line.fate)),
            (line.path.clone(), anstyle::Style::new()),
            (line.text.clone(), style::FAINT),
            (line.why.clone(), style::FAINT),
        ]);
    }
    table.print();
    if summary.unlisted > 0 {
        anstream::println!(
            "  and {} more: --list gone, --list older, --list torn",
            units::files(summary.unlisted)
        );
    } else if list.is_none() {
        anstream::println!("\n  `zinc-sieve sync` would guard what came or changed since the last one.");
    }
}

/// The answer as JSON; its files are streamed.
struct Answer<'a> {
    fates: &'a dyn Fates,
    lose: &'a [String],
    missing: &'a [Missing],
    summary: &'a Summary,
    list: Option<Fate>,
}

impl Serialize for Answer<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("lose", self.lose)?;
        let missing: Vec<&str> = self.missing.iter().map(|m| m.name.as_str()).collect();
        map.serialize_entry("missing", &missing)?;
        map.serialize_entry("totals", &self.summary.totals)?;
        let folders: Vec<_> = self
            .summary
            .folders
            .iter()
            .map(|(folder, totals)| serde_json::json!({ "folder": folder, "totals": totals }))
            .collect();
        map.serialize_entry("folders", &folders)?;
        map.serialize_entry("files", &Files(self))?;
        map.end()
    }
}

struct Files<'a>(&'a Answer<'a>);

impl Serialize for Files<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        let mut seq = serializer.serialize_seq(None)?;
        let mut failed = None;
        let walked = self.0.fates.for_each(&mut |file| {
            if failed.is_none() && self.0.list.is_none_or(|fate| fate == file.fate) {
                failed = seq.serialize_element(&file).err();
            }
            Ok(())
        });
        walked.map_err(serde::ser::Error::custom)?;
        match failed {
            Some(error) => Err(error),
            None => seq.end(),
        }
    }
}
