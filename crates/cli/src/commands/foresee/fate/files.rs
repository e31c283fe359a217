//! Fates as JSON and CSV; the files are streamed.

use serde::ser::{SerializeMap, SerializeSeq};
use serde::{Serialize, Serializer};
use sieve_core::fate::Fate;
use sieve_disk::Result;
use sieve_foresight::Outlook;
use sieve_pool::fate::FileFate;

use super::backup::Comparison;
use super::elsewhere::Elsewhere;
use super::question::{Question, csv_failed};
use super::summary::State;
use super::summary::for_each_in_folder;
use crate::human::reason;

/// The answer as JSON.
pub(super) struct Answer<'a> {
    pub(super) outlook: &'a dyn Outlook,
    pub(super) question: &'a Question<'a>,
    pub(super) state: &'a State,
    pub(super) before: Option<&'a State>,
    pub(super) notes: &'a [String],
    pub(super) comparison: Option<&'a Comparison>,
    pub(super) elsewhere: Option<&'a Elsewhere>,
}

impl Serialize for Answer<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("lose", &self.question.lose)?;
        let missing: Vec<&str> = self.state.missing.iter().map(|m| m.name.as_str()).collect();
        map.serialize_entry("missing", &missing)?;
        if let Some(at) = self.outlook.as_of() {
            map.serialize_entry("as_of", &sieve_core::moment::text(at))?;
        }
        if let Some(before) = self.before {
            map.serialize_entry("after", &self.question.asked.after)?;
            map.serialize_entry("notes", self.notes)?;
            map.serialize_entry("totals_now", &before.summary.totals)?;
        }
        map.serialize_entry("totals", &self.state.summary.totals)?;
        let (parts, part) = match self.question.asked.by {
            crate::args::Breakdown::Folder => ("folders", "folder"),
            crate::args::Breakdown::Disk => ("disks", "disk"),
            crate::args::Breakdown::Type => ("types", "type"),
        };
        let of_parts: Vec<_> = self
            .state
            .summary
            .parts
            .iter()
            .map(|(name, totals)| {
                let name = if part == "folder" { name.trim_end_matches('/') } else { name };
                let name = if part == "folder" && name == "(top)" { "" } else { name };
                serde_json::json!({ part: name, "totals": totals })
            })
            .collect();
        map.serialize_entry(parts, &of_parts)?;
        if let Some(comparison) = self.comparison {
            map.serialize_entry("backup", comparison)?;
        }
        if let Some(elsewhere) = self.elsewhere {
            map.serialize_entry("elsewhere", elsewhere)?;
        }
        map.serialize_entry("files", &Files(self))?;
        map.end()
    }
}

struct Files<'a>(&'a Answer<'a>);

impl Serialize for Files<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        let mut seq = serializer.serialize_seq(None)?;
        let mut failed = None;
        let list = self.0.question.asked.only.map(Fate::from);
        let walked = for_each_in_folder(self.0.outlook, self.0.question, &mut |file| {
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
    let mut out = csv::Writer::from_writer(std::io::stdout().lock());
    let mut heading = vec!["volume", "path", "disk", "size_bytes", "fate", "guard", "reason"];
    if comparison.is_some() {
        heading.extend(["backup", "backup_path"]);
    }
    out.write_record(&heading).map_err(|e| csv_failed(&e))?;
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
        out.write_record(&record).map_err(|e| csv_failed(&e))
    })?;
    out.flush().map_err(|e| csv_failed(&e))
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
