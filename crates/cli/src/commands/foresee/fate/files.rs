//! Fates as JSON and CSV; the files are streamed.

use schemars::JsonSchema;
use serde::ser::SerializeSeq;
use serde::{Serialize, Serializer};
use sieve_core::count::Totals;
use sieve_core::fate::Fate;
use sieve_disk::Result;
use sieve_foresight::Outlook;
use sieve_pool::fate::FileFate;

use super::backup::Comparison;
use super::elsewhere::Elsewhere;
use super::question::Question;
use super::summary::State;
use super::summary::for_each_in_folder;
use crate::args::Breakdown;
use crate::human::reason;
use crate::sheet;

/// The answer as JSON.
#[derive(Serialize, JsonSchema)]
pub(super) struct Answer<'a> {
    /// The disks that are lost by supposition.
    lose: &'a [String],
    /// The disks that are missing.
    missing: Vec<&'a str>,
    /// When the catalogue was current.
    #[serde(skip_serializing_if = "Option::is_none", with = "sieve_core::moment::maybe")]
    #[schemars(with = "sieve_core::moment::Text")]
    as_of: Option<i64>,
    /// What was done first.
    #[serde(skip_serializing_if = "Option::is_none")]
    after: Option<&'a [String]>,
    /// What has to be known about that.
    #[serde(skip_serializing_if = "Option::is_none")]
    notes: Option<&'a [String]>,
    /// What would become of all files without it.
    #[serde(skip_serializing_if = "Option::is_none")]
    totals_now: Option<&'a Totals>,
    /// What becomes of all files.
    totals: &'a Totals,
    #[serde(flatten)]
    parts: Parts<'a>,
    /// What the listing that was named has of what is lost.
    #[serde(skip_serializing_if = "Option::is_none")]
    backup: Option<&'a Comparison>,
    /// What other machines have of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    elsewhere: Option<&'a Elsewhere>,
    /// All files, or those with the fate that was asked for.
    files: Files<'a>,
}

/// The totals of the parts that were asked for.
#[derive(Serialize, JsonSchema)]
struct Parts<'a> {
    /// By top folder.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    folders: Vec<OfFolder<'a>>,
    /// By disk.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    disks: Vec<OfDisk<'a>>,
    /// By kind of file.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    types: Vec<OfType<'a>>,
}

/// A top folder.
#[derive(Serialize, JsonSchema)]
struct OfFolder<'a> {
    /// Its name; empty for what lies at the root.
    folder: &'a str,
    /// What becomes of its files.
    totals: &'a Totals,
}

/// A disk.
#[derive(Serialize, JsonSchema)]
struct OfDisk<'a> {
    /// The disk.
    disk: &'a str,
    /// What becomes of its files.
    totals: &'a Totals,
}

/// A kind of files, by the ends of their names.
#[derive(Serialize, JsonSchema)]
struct OfType<'a> {
    /// The kind.
    r#type: &'a str,
    /// What becomes of these files.
    totals: &'a Totals,
}

impl<'a> Parts<'a> {
    fn of(state: &'a State, by: Breakdown) -> Self {
        let (mut folders, mut disks, mut types) = (Vec::new(), Vec::new(), Vec::new());
        for (name, totals) in &state.summary.parts {
            match by {
                Breakdown::Folder => {
                    let folder = name.trim_end_matches('/');
                    folders.push(OfFolder { folder: if folder == "(top)" { "" } else { folder }, totals });
                }
                Breakdown::Disk => disks.push(OfDisk { disk: name, totals }),
                Breakdown::Type => types.push(OfType { r#type: name, totals }),
            }
        }
        Self { folders, disks, types }
    }
}

impl<'a> Answer<'a> {
    pub(super) fn of(outlook: &'a dyn Outlook, question: &'a Question<'a>, state: &'a State) -> Self {
        Self {
            lose: &question.lose,
            missing: state.missing.iter().map(|missing| missing.name.as_str()).collect(),
            as_of: outlook.as_of(),
            after: None,
            notes: None,
            totals_now: None,
            totals: &state.summary.totals,
            parts: Parts::of(state, question.asked.by),
            backup: None,
            elsewhere: None,
            files: Files { outlook, question },
        }
    }

    /// With something done first.
    pub(super) fn after(
        mut self,
        question: &'a Question<'a>,
        before: &'a State,
        notes: &'a [String],
    ) -> Self {
        self.after = Some(&question.asked.after);
        self.notes = Some(notes);
        self.totals_now = Some(&before.summary.totals);
        self
    }

    /// With what other machines have.
    pub(super) fn beside(mut self, backup: Option<&'a Comparison>, elsewhere: Option<&'a Elsewhere>) -> Self {
        self.backup = backup;
        self.elsewhere = elsewhere;
        self
    }
}

/// The files, written one by one as they are found: a large pool has millions.
#[derive(JsonSchema)]
#[schemars(with = "Vec<FileFate<'static>>")]
struct Files<'a> {
    outlook: &'a dyn Outlook,
    question: &'a Question<'a>,
}

impl Serialize for Files<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        let mut seq = serializer.serialize_seq(None)?;
        let mut failed = None;
        let list = self.question.asked.only.map(Fate::from);
        let walked = for_each_in_folder(self.outlook, self.question, &mut |file| {
            if failed.is_none() && list.is_none_or(|fate| fate == file.fate) {
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

/// Prints every file on a line of its own.
pub(super) fn print_csv(
    outlook: &dyn Outlook,
    question: &Question<'_>,
    comparison: Option<&Comparison>,
) -> Result<()> {
    let mut out = sheet::writer();
    let mut heading = vec!["volume", "path", "disk", "size_bytes", "fate", "guard", "reason"];
    if comparison.is_some() {
        heading.extend(["backup", "backup_path"]);
    }
    out.write_record(&heading).map_err(|e| sheet::failed(&e))?;
    let list = question.asked.only.map(Fate::from);
    let mut found = comparison.map(Comparison::in_order);
    for_each_in_folder(outlook, question, &mut |file| {
        let looked = if file.fate.is_whole() { None } else { found.as_mut().and_then(Iterator::next) };
        if list.is_some_and(|fate| fate != file.fate) {
            return Ok(());
        }
        let mut record = plain(&file);
        if comparison.is_some() {
            let (word, path) = looked.unwrap_or_default();
            record.extend([word.to_string(), path]);
        }
        out.write_record(&record).map_err(|e| sheet::failed(&e))
    })?;
    out.flush().map_err(|e| sheet::failed(&e))
}

fn plain(file: &FileFate<'_>) -> Vec<String> {
    vec![
        file.volume.into(),
        file.path.clone(),
        file.disks.join(" "),
        file.size_bytes.exact().to_string(),
        file.fate.word().into(),
        file.guard.to_string(),
        file.reason.as_ref().map(|r| reason::sentence(r, &file.path)).unwrap_or_default(),
    ]
}
