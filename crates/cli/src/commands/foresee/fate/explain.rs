//! `fate --explain`: the story of one file.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::count::so_many;
use sieve_core::fate::{Fate, Unguarded};
use sieve_core::path::RelPath;
use sieve_core::suggest::NearestPath;
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::Outlook;
use sieve_pool::fate::Reason;

use super::question::{Question, heading};
use crate::commands::context::{Context, volume_path};
use crate::exit::Outcome;
use crate::human::{count, reason, size, style};
use crate::json;

json::list!("fate-explain", Stories { files: Story });

/// A file on one disk, and what becomes of it under several losses.
#[derive(Serialize, JsonSchema)]
struct Story {
    /// The volume.
    volume: String,
    /// The path in it.
    path: String,
    /// The disk.
    disk: String,
    /// All that it lies on, in pieces or as copies.
    disks: Vec<String>,
    /// Its size.
    size_bytes: ByteLength,
    /// How many disks may die without losing it.
    guard: u8,
    /// Why none may.
    #[serde(skip_serializing_if = "Option::is_none")]
    unguarded: Option<Unguarded>,
    /// First and last row of each stretch that parity encodes of it.
    rows: Vec<Rows>,
    /// What becomes of it when its disk is lost: alone, and with each other one.
    losses: Vec<Loss>,
}

/// A stretch of rows.
#[derive(Serialize, JsonSchema)]
struct Rows {
    first: u64,
    last: u64,
}

/// What a loss does to it.
#[derive(Serialize, JsonSchema)]
struct Loss {
    /// The disks that are lost.
    lose: Vec<String>,
    /// What becomes of it.
    fate: Fate,
    /// Why it does not come back as it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<Reason>,
}

pub(crate) fn run(
    context: &Context,
    outlook: &mut dyn Outlook,
    question: &Question<'_>,
    path: &str,
) -> Result<Outcome> {
    let notes = question.do_first(outlook)?;
    let path = volume_path(path)?;
    outlook.lose(&question.lose, true)?;
    let mut stories = Vec::new();
    outlook.files_at(&path, &mut |file, rows| {
        stories.push(Story {
            volume: file.volume.into(),
            path: file.path,
            disk: file.disks[0].into(),
            disks: file.disks.iter().map(ToString::to_string).collect(),
            size_bytes: file.size_bytes,
            guard: file.guard,
            unguarded: file.unguarded,
            rows: rows.iter().map(|r| Rows { first: r.start(), last: r.end() - 1 }).collect(),
            losses: Vec::new(),
        });
        Ok(())
    })?;
    if stories.is_empty() {
        let message = format!("there is no file `{path}` in the pool");
        let mut near = NearestPath::to(&path);
        outlook.for_each_file(&mut |file| {
            if let Ok(known) = RelPath::new(file.path) {
                near.look_at(&known);
            }
            Ok(())
        })?;
        return Err(Error::new(Kind::NotFound, "fate.no-file", message).remedy(near.advice()));
    }
    for story in &mut stories {
        for lose in losses_to_tell(outlook, question, &story.disk) {
            outlook.lose(&lose, true)?;
            outlook.files_at(&path, &mut |file, _| {
                if file.disks[0] == story.disk && file.volume == story.volume {
                    story.losses.push(Loss { lose: lose.clone(), fate: file.fate, reason: file.reason });
                }
                Ok(())
            })?;
        }
    }
    let is_well = stories.iter().flat_map(|s| &s.losses).take(1).all(|loss| loss.fate.is_whole());
    if context.json {
        json::print(&Stories { files: &stories })?;
    } else {
        notes.iter().for_each(|note| crate::say!("note: {note}"));
        stories.iter().for_each(Story::tell);
    }
    Ok(Outcome::well(is_well))
}

/// The loss that was asked for; else that of its own disk, alone and with each other disk.
fn losses_to_tell(outlook: &dyn Outlook, question: &Question<'_>, own: &str) -> Vec<Vec<String>> {
    if !question.lose.is_empty() {
        return vec![question.lose.clone()];
    }
    let others = outlook.disk_names().into_iter().filter(|name| name != own);
    let pairs = others.map(|other| vec![own.to_string(), other]);
    std::iter::once(vec![own.to_string()]).chain(pairs).collect()
}

impl Story {
    fn tell(&self) {
        heading(&self.path);
        crate::say!("  It is {} and lies on {}.", size(self.size_bytes), self.disk);
        match self.rows.as_slice() {
            [] if self.size_bytes == ByteLength::ZERO => {
                crate::say!("  It is empty: all there is to know of it is in the catalogue.");
            }
            [] => crate::say!("  Parity encodes nothing of it."),
            [rows, rest @ ..] => {
                let more = match rest.len() {
                    0 => String::new(),
                    n => format!(", and {n} more stretches up to row {}", count(rest[n - 1].last)),
                };
                crate::say!(
                    "  Parity encodes it as it was at the last sync, in rows {}–{}{more}.",
                    count(rows.first),
                    count(rows.last)
                );
            }
        }
        match (self.guard, self.unguarded) {
            (0, Some(why)) => {
                crate::say!("  {}: {}.", style::paint(style::BAD, "It is unguarded"), reason::own_words(why));
            }
            (1, _) => crate::say!("  Its guard is 1: any 1 disk may die."),
            (level, _) => {
                crate::say!("  Its guard is {level}: any {} may die.", so_many(u64::from(level), "disk"));
            }
        }
        crate::say!();
        let is_well = |loss: &&Loss| loss.fate.is_whole();
        let told = |loss: &Loss| reason::listed(&loss.lose.iter().map(String::as_str).collect::<Vec<_>>());
        for loss in self.losses.iter().take(1).chain(self.losses.iter().skip(1).filter(|l| !is_well(l))) {
            let word = style::paint(style::of_fate(loss.fate), loss.fate.word());
            let verb = if loss.lose.len() == 1 { "dies" } else { "die" };
            let why = loss
                .reason
                .as_ref()
                .map(|r| format!(": {}", reason::sentence(r, &self.path)))
                .unwrap_or_default();
            crate::say!("  If {} {verb} it is {word}{why}.", told(loss));
        }
        let survived: Vec<&str> = self
            .losses
            .iter()
            .skip(1)
            .filter(is_well)
            .filter_map(|l| l.lose.last())
            .map(String::as_str)
            .collect();
        if !survived.is_empty() {
            let word = style::paint(style::WELL, "rebuilt");
            crate::say!("  If {} dies together with {} it is {word}.", self.disk, any_of(&survived));
        }
    }
}

fn any_of(names: &[&str]) -> String {
    match names {
        [one] => (*one).into(),
        _ => format!("any one of {}", reason::listed(names)),
    }
}
