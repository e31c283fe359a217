//! Fates summed up: in all, and by folder, disk or file type.

use sieve_foresight::Missing;
use std::collections::BTreeMap;

use sieve_core::count::Totals;
use sieve_core::fate::Fate;
use sieve_disk::Result;
use sieve_foresight::Outlook;
use sieve_pool::fate::FileFate;

use super::question::Question;
use crate::args::Breakdown;
use crate::commands::context::volume_path;
use crate::human::{reason, size};

/// So many files that do not come back are listed without being asked.
const LISTED: usize = 15;

/// One file that is listed.
pub(super) struct Line {
    pub(super) fate: Fate,
    pub(super) path: String,
    pub(super) text: String,
    pub(super) why: String,
}

/// What becomes of the files.
#[derive(Default)]
pub(super) struct Summary {
    pub(super) totals: Totals,
    pub(super) parts: BTreeMap<String, Totals>,
    pub(super) lines: Vec<Line>,
    pub(super) unlisted: u64,
}

pub(super) fn summarise(outlook: &dyn Outlook, question: &Question<'_>) -> Result<Summary> {
    let list = question.asked.only.map(Fate::from);
    let limit = question.asked.top.unwrap_or(if list.is_some() { usize::MAX } else { LISTED });
    let mut summary = Summary::default();
    for_each_in_folder(outlook, question, &mut |file| {
        summary.totals.add(file.fate, file.size_bytes);
        let part = summary.parts.entry(part_of(&file, question.asked.by)).or_default();
        part.add(file.fate, file.size_bytes);
        let is_wanted = list.map_or(!file.fate.is_whole(), |fate| file.fate == fate);
        if is_wanted && summary.lines.len() < limit {
            summary.lines.push(Line {
                fate: file.fate,
                text: format!("{} on {}", size(file.size_bytes), file.disks.join("+")),
                why: file.reason.as_ref().map(|r| reason::sentence(r, &file.path)).unwrap_or_default(),
                path: file.path,
            });
        } else if is_wanted {
            summary.unlisted += 1;
        }
        Ok(())
    })?;
    Ok(summary)
}

/// Calls `visit` with the files of the folder that was asked for, or with all.
pub(super) fn for_each_in_folder(
    outlook: &dyn Outlook,
    question: &Question<'_>,
    visit: &mut dyn FnMut(FileFate<'_>) -> Result<()>,
) -> Result<()> {
    let Some(folder) = &question.asked.folder else { return outlook.for_each_file(visit) };
    let folder = volume_path(folder)?.to_string();
    let inside = format!("{folder}/");
    outlook.for_each_file(&mut |file| {
        let is_inside = folder.is_empty() || file.path == folder || file.path.starts_with(&inside);
        if is_inside { visit(file) } else { Ok(()) }
    })
}

/// What a file counts under.
fn part_of(file: &FileFate<'_>, by: Breakdown) -> String {
    match by {
        Breakdown::Folder if file.top_folder.is_empty() => "(top)".into(),
        Breakdown::Folder => format!("{}/", file.top_folder),
        Breakdown::Disk => file.disks.join(", "),
        Breakdown::Type => {
            let name = file.path.rsplit('/').next().unwrap_or_default();
            match name.rsplit_once('.') {
                Some((stem, ending)) if !stem.is_empty() && !ending.is_empty() => {
                    format!(".{}", ending.to_lowercase())
                }
                _ => "(no ending)".into(),
            }
        }
    }
}

/// One state of the pool in which the disks are lost.
pub(super) struct State {
    pub(super) missing: Vec<Missing>,
    pub(super) summary: Summary,
}
