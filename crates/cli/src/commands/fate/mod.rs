//! `fate`: what becomes of every file when disks are lost.

mod advice;
mod any;
mod backup;
mod explain;
mod files;
mod map;
mod show;
mod summary;

use std::path::PathBuf;

use clap::Args;
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::paper;
use sieve_foresight::{Missing, Outlook, PoolOutlook, Step, disks_of_group};

use super::Context;
use crate::args::{Breakdown, FateWord, PaperArguments};
use crate::exit::Outcome;
use crate::human::style;
use crate::{json, load};
use backup::Comparison;
use summary::{Summary, summarise};

/// What is to be foretold, and how it is to be shown.
#[derive(Args)]
pub(crate) struct FateArguments {
    /// The disks that are lost; what is missing now counts as lost anyway
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) lose: Vec<String>,
    /// Lose all disks of a group of the pool file: a group, a link, a batch, a case, or a row of it (tower:2)
    #[arg(long, value_name = "NAME")]
    pub(crate) group: Vec<String>,
    /// Work out every set of so many disks, and rank them by what their loss costs
    #[arg(long, value_name = "N", conflicts_with_all = ["lose", "group", "list", "explain", "backup", "folder"])]
    pub(crate) any: Option<usize>,
    /// Draw what each pair of disks costs: in the terminal, or into an .svg or .png file
    #[arg(long, value_name = "FILE", num_args = 0..=1, conflicts_with_all = ["any", "lose", "group", "list", "explain", "backup", "folder", "csv"])]
    pub(crate) map: Option<Option<PathBuf>>,
    /// Take it that this was done first: sync, settle, "add parity", "rm PATH" or "replace DISK with SIZE"
    #[arg(long, value_name = "STEP")]
    pub(crate) after: Vec<String>,
    /// Look at the files of this folder only
    #[arg(long, value_name = "PATH")]
    pub(crate) folder: Option<String>,
    /// Break the answer down by folder, disk or file type
    #[arg(long, value_name = "WHAT", default_value = "folder")]
    pub(crate) by: Breakdown,
    /// How many files, or sets, to list
    #[arg(long, value_name = "N")]
    pub(crate) top: Option<usize>,
    /// List every file of this fate: untouched, rebuilt, older, torn or gone
    #[arg(long, value_name = "FATE")]
    pub(crate) list: Option<FateWord>,
    /// Tell the story of one file
    #[arg(long, value_name = "PATH", conflicts_with_all = ["list", "backup", "folder", "csv"])]
    pub(crate) explain: Option<String>,
    /// Look for what would be lost in the listing, b3sum list or catalogue of another machine
    #[arg(long, value_name = "LISTING")]
    pub(crate) backup: Option<PathBuf>,
    /// Print the files, or the sets, as CSV
    #[arg(long, conflicts_with = "json")]
    pub(crate) csv: bool,
    #[command(flatten)]
    pub(crate) paper: PaperArguments,
}

pub(super) fn run(context: &Context, asked: &FateArguments) -> Result<Outcome> {
    let files = asked.paper.files.as_deref();
    if let Some(spec) = load::spec_on_paper(&context.pool, files.is_some())? {
        let mut outlook = paper::load(&spec, asked.paper.volume.volume.as_deref(), files)?;
        return answer(context, &mut outlook, asked);
    }
    let pool = load::pool(&context.pool)?;
    let mut outlook = PoolOutlook::open(&pool)?;
    answer(context, &mut outlook, asked)
}

fn answer(context: &Context, outlook: &mut dyn Outlook, asked: &FateArguments) -> Result<Outcome> {
    let steps = asked.after.iter().map(|text| Step::parse(text)).collect::<Result<Vec<_>>>()?;
    let question = Question { lose: to_lose(outlook, asked)?, steps, asked };
    if let Some(file) = &asked.map {
        return map::run(context, outlook, &question, file.as_deref());
    }
    if let Some(count) = asked.any {
        return any::run(context, outlook, &question, count);
    }
    if let Some(path) = &asked.explain {
        return explain::run(context, outlook, &question, path);
    }
    tell(context, outlook, &question)
}

/// What is asked for.
struct Question<'a> {
    lose: Vec<String>,
    steps: Vec<Step>,
    asked: &'a FateArguments,
}

impl Question<'_> {
    /// Does what is to be done first; says what has to be known about that.
    fn do_first(&self, outlook: &mut dyn Outlook) -> Result<Vec<String>> {
        let mut notes = Vec::new();
        for step in &self.steps {
            notes.extend(outlook.after(step)?);
        }
        Ok(notes)
    }

    /// "after sync and rm x", as it was typed.
    fn first(&self) -> String {
        format!("after {}", self.asked.after.join(", then "))
    }
}

/// The disks named, and those of the groups named.
fn to_lose(outlook: &dyn Outlook, asked: &FateArguments) -> Result<Vec<String>> {
    let mut lose = asked.lose.clone();
    for group in &asked.group {
        lose.extend(disks_of_group(outlook.spec(), group)?);
    }
    let mut seen = std::collections::BTreeSet::new();
    lose.retain(|name| seen.insert(name.clone()));
    Ok(lose)
}

/// One state of the pool in which the disks are lost.
struct State {
    missing: Vec<Missing>,
    summary: Summary,
}

fn tell(context: &Context, outlook: &mut dyn Outlook, question: &Question<'_>) -> Result<Outcome> {
    if question.lose.is_empty() && outlook.missing().is_empty() {
        return Err(Error::new(Kind::Usage, "fate.nothing-lost", "no disk is missing, and none was named")
            .remedy("name the disks that are to be lost: zinc-sieve fate --lose NAME[,NAME…]"));
    }
    let now = state(outlook, question)?;
    refuse_empty_folder(question.asked, &now.summary)?;
    let (before, shown, notes) = if question.steps.is_empty() {
        (None, now, Vec::new())
    } else {
        let notes = question.do_first(outlook)?;
        (Some(now), state(outlook, question)?, notes)
    };
    let comparison = question.asked.backup.as_deref().map(|path| Comparison::new(outlook, question, path));
    let comparison = comparison.transpose()?;
    if context.json {
        let answer = files::Answer {
            outlook,
            question,
            state: &shown,
            before: before.as_ref(),
            notes: &notes,
            comparison: comparison.as_ref(),
        };
        json::print(&answer)?;
    } else if question.asked.csv {
        files::print_csv(outlook, question, comparison.as_ref())?;
    } else {
        show::show(question, &shown, before.as_ref(), &notes);
        if let Some(comparison) = &comparison {
            comparison.show(question.asked.top);
        }
        if question.steps.is_empty() {
            advice::show(outlook, question, &shown.summary.totals)?;
        }
    }
    Ok(Outcome::well(shown.summary.totals.all_survive()))
}

fn state(outlook: &mut dyn Outlook, question: &Question<'_>) -> Result<State> {
    outlook.lose(&question.lose, true)?;
    Ok(State { missing: outlook.missing(), summary: summarise(outlook, question)? })
}

/// A folder without files is a slip of the pen, and no comfort.
fn refuse_empty_folder(asked: &FateArguments, summary: &Summary) -> Result<()> {
    match &asked.folder {
        Some(folder) if summary.parts.is_empty() => {
            Err(Error::new(Kind::NotFound, "fate.no-folder", format!("there is no file in `{folder}`"))
                .remedy("name a folder of the volume, as `zinc-sieve ls` shows it"))
        }
        _ => Ok(()),
    }
}

/// Prints a heading that says what is lost.
fn heading(text: &str) {
    crate::say!("{}", style::paint(style::HEAD, text));
}

fn csv_failed(why: &dyn std::error::Error) -> Error {
    Error::new(Kind::Io, "csv.write", format!("the result cannot be printed: {why}"))
}
