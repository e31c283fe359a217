//! What is asked of `fate`.

use crate::args::{Breakdown, FateWord, LookArguments, PaperArguments};
use crate::human::style;
use crate::sheet::SheetArguments;
use clap::Args;
use sieve_disk::Result;
use sieve_foresight::{Outlook, Step, disks_of_group};
use std::path::PathBuf;

/// What is to be foretold, and how it is to be shown.
#[derive(Args)]
pub(crate) struct FateArguments {
    /// The disks that are lost; what is missing now counts as lost anyway
    #[arg(long, value_name = "NAME", value_delimiter = ',', add = crate::complete::disks())]
    pub(crate) lose: Vec<String>,
    /// Lose all disks of a group of the pool file: a group, a link, a batch, a case, or a row of it (tower:2)
    #[arg(long, value_name = "NAME")]
    pub(crate) group: Vec<String>,
    /// Work out every set of so many disks, and rank them by what their loss costs
    #[arg(long, value_name = "N", conflicts_with_all = ["lose", "group", "only", "explain", "backup", "folder"])]
    pub(crate) any: Option<usize>,
    /// Draw what each pair of disks costs: in the terminal, or into an .svg or .png file
    #[arg(long, value_name = "FILE", num_args = 0..=1, conflicts_with_all = ["any", "lose", "group", "only", "explain", "backup", "folder", "csv"])]
    pub(crate) map: Option<Option<PathBuf>>,
    #[command(flatten)]
    pub(crate) drawn: crate::chart::Look,
    /// Take it that this was done first: sync, settle, "add parity", "rm PATH" or "replace DISK with SIZE"
    #[arg(long, value_name = "STEP")]
    pub(crate) after: Vec<String>,
    /// Look at the files of this folder only
    #[arg(long, value_name = "PATH", add = crate::complete::paths())]
    pub(crate) folder: Option<String>,
    /// Break the answer down by folder, disk or file type
    #[arg(long, value_name = "WHAT", default_value = "folder")]
    pub(crate) by: Breakdown,
    /// How many files, or sets, to list
    #[arg(long, value_name = "N")]
    pub(crate) top: Option<usize>,
    /// List every file of this fate: untouched, rebuilt, older, torn or gone
    #[arg(long, value_name = "FATE")]
    pub(crate) only: Option<FateWord>,
    /// Tell the story of one file
    #[arg(long, value_name = "PATH", conflicts_with_all = ["only", "backup", "folder", "csv"], add = crate::complete::paths())]
    pub(crate) explain: Option<String>,
    /// Look for what would be lost in the listing, b3sum list or catalogue of another machine
    #[arg(long, value_name = "LISTING")]
    pub(crate) backup: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) sheet: SheetArguments,
    #[command(flatten)]
    pub(crate) look: LookArguments,
    #[command(flatten)]
    pub(crate) paper: PaperArguments,
}

impl FateArguments {
    /// Whether a sentence is wanted, and not a list or a picture.
    pub(crate) const fn is_a_question(&self) -> bool {
        !self.sheet.csv
            && self.map.is_none()
            && self.explain.is_none()
            && self.only.is_none()
            && self.backup.is_none()
    }
}

/// What is asked for.
pub(super) struct Question<'a> {
    pub(super) lose: Vec<String>,
    pub(super) steps: Vec<Step>,
    pub(super) asked: &'a FateArguments,
}

impl Question<'_> {
    /// Does what is to be done first; says what has to be known about that.
    pub(super) fn do_first(&self, outlook: &mut dyn Outlook) -> Result<Vec<String>> {
        let mut notes = Vec::new();
        for step in &self.steps {
            notes.extend(outlook.after(step)?);
        }
        Ok(notes)
    }

    /// "after sync and rm x", as it was typed.
    pub(super) fn first(&self) -> String {
        format!("after {}", self.asked.after.join(", then "))
    }
}

/// The disks named, and those of the groups named.
pub(super) fn to_lose(outlook: &dyn Outlook, asked: &FateArguments) -> Result<Vec<String>> {
    let mut lose = asked.lose.clone();
    for group in &asked.group {
        lose.extend(disks_of_group(outlook.spec(), group)?);
    }
    let mut seen = std::collections::BTreeSet::new();
    lose.retain(|name| seen.insert(name.clone()));
    Ok(lose)
}

/// Prints a heading that says what is lost.
pub(super) fn heading(text: &str) {
    crate::say!("{}", style::paint(style::HEAD, text));
}
