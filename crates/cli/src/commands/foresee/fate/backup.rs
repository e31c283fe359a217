//! `fate --backup`: what of that which would be lost lies on another machine.

use std::collections::BTreeMap;
use std::path::Path;

use anstyle::Style;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::count::Count;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_foresight::{Backup, Found, Outlook};

use super::question::Question;
use super::summary::for_each_in_folder;
use crate::human::{Table, count, size, style, units};

/// So many files of a kind are listed without being asked.
const LISTED: usize = 15;

/// What was looked for, and what was found.
#[derive(Serialize, JsonSchema)]
pub(super) struct Comparison {
    /// How many files the listing has.
    listed: usize,
    /// Lost files that the listing has under the same path.
    there: Count,
    /// Those that it has under another path.
    moved: Count,
    /// Those that it has otherwise.
    differs: Count,
    /// Those that it does not have.
    nowhere: Count,
    /// Files that were found by size and name alone.
    not_by_checksum: u64,
    /// All of them.
    lost: Vec<Looked>,
}

/// One file that would not come back as it is.
#[derive(Serialize, JsonSchema)]
struct Looked {
    /// The volume.
    volume: String,
    /// The path in it.
    path: String,
    /// The disk that it lies on.
    disk: String,
    /// Its size.
    size_bytes: ByteLength,
    #[serde(flatten)]
    found: Found,
}

impl Comparison {
    pub(super) fn new(outlook: &dyn Outlook, question: &Question<'_>, listing: &Path) -> Result<Self> {
        let backup = Backup::read(listing)?;
        let mut comparison = Self {
            listed: backup.files(),
            there: Count::default(),
            moved: Count::default(),
            differs: Count::default(),
            nowhere: Count::default(),
            not_by_checksum: 0,
            lost: Vec::new(),
        };
        for_each_in_folder(outlook, question, &mut |file| {
            if file.fate.is_whole() {
                return Ok(());
            }
            let checksum = file.content.map(|content| outlook.checksum(content)).transpose()?.flatten();
            let found = backup.find(&file.path, file.size_bytes.exact(), checksum);
            comparison.add(Looked {
                volume: file.volume.into(),
                disk: file.disks[0].into(),
                size_bytes: file.size_bytes,
                path: file.path,
                found,
            });
            Ok(())
        })?;
        Ok(comparison)
    }

    fn add(&mut self, looked: Looked) {
        let (kind, is_sure) = match &looked.found {
            Found::There { by_checksum } => (&mut self.there, *by_checksum),
            Found::Moved { by_checksum, .. } => (&mut self.moved, *by_checksum),
            Found::Differs { .. } => (&mut self.differs, true),
            Found::Nowhere => (&mut self.nowhere, true),
        };
        kind.add(looked.size_bytes);
        self.not_by_checksum += u64::from(!is_sure);
        self.lost.push(looked);
    }

    /// For each file that would not come back as it is, in order: the word for where it is, and its path there.
    pub(super) fn in_order(&self) -> impl Iterator<Item = (&'static str, String)> {
        self.lost.iter().map(|looked| match &looked.found {
            Found::There { .. } => ("there", looked.path.clone()),
            Found::Moved { path, .. } => ("moved", path.clone()),
            Found::Differs { .. } => ("differs", looked.path.clone()),
            Found::Nowhere => ("nowhere", String::new()),
        })
    }

    pub(super) fn show(&self, top: Option<usize>) {
        style::heading(&format!(
            "Of what does not come back as it is, the other machine ({}) has",
            units::files(self.listed as u64)
        ));
        let mut table = Table::new(&["", ">files", ">size", ""]);
        let rows = [
            ("there", self.there, style::WELL, "at the same path"),
            ("moved", self.moved, style::WELL, "at another path"),
            (
                "differs",
                self.differs,
                style::WATCH,
                "another content at the same path, or one that cannot be compared",
            ),
            ("nowhere", self.nowhere, style::BAD, "there is no other copy in that listing"),
        ];
        for (word, amount, style, meaning) in rows {
            let style = if amount.files > 0 { style } else { style::FAINT };
            table.styled_row([
                (word.into(), style),
                (count(amount.files), style),
                (size(amount.bytes), style),
                (meaning.into(), style::FAINT),
            ]);
        }
        table.print();
        if self.not_by_checksum > 0 {
            crate::say!(
                "  {} of them were found by name and size alone: without checksums that is likely, not certain",
                units::files(self.not_by_checksum)
            );
        }
        self.show_files(top.unwrap_or(LISTED));
    }

    fn show_files(&self, limit: usize) {
        let mut rest: BTreeMap<&str, u64> = BTreeMap::new();
        let mut table = Table::new(&["", "file", "", ""]);
        let mut listed = 0;
        let mut wanted: Vec<&Looked> =
            self.lost.iter().filter(|l| !matches!(l.found, Found::There { .. })).collect();
        // What is nowhere comes first.
        wanted.sort_by(|a, b| b.found.cmp(&a.found));
        for looked in wanted {
            let (word, style, text) = match &looked.found {
                Found::Nowhere => ("nowhere", style::BAD, String::new()),
                Found::Differs { in_size, in_checksum } => {
                    let how = match (in_size, in_checksum) {
                        (true, _) => "another size",
                        (false, true) => "another checksum",
                        (false, false) => "no checksum to compare with",
                    };
                    ("differs", style::WATCH, how.to_string())
                }
                Found::Moved { path, .. } => ("moved", style::WELL, format!("there it is {path}")),
                Found::There { .. } => continue,
            };
            if listed == limit {
                *rest.entry(word).or_default() += 1;
                continue;
            }
            listed += 1;
            table.styled_row([
                (word.into(), style),
                (looked.path.clone(), Style::new()),
                (format!("{} on {}", size(looked.size_bytes), looked.disk), style::FAINT),
                (text, style::FAINT),
            ]);
        }
        if listed > 0 {
            crate::say!();
            table.print();
        }
        for (word, files) in rest {
            let files = units::files(files);
            crate::say!("  and {files} more ({word}): --top N, or all with --csv or --json");
        }
    }
}
