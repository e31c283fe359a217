//! What is in a folder of a volume: one tree, whichever disks it lies on.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::files::read::{self, Entry};
use sieve_core::count::Count;
use sieve_core::fate::Unguarded;
use sieve_core::path::{RelPath, shown, shown_with_bytes};
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::pool::Pool;

use crate::{Look, Outlook, PoolOutlook};

/// How far down a folder is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// What lies in it itself.
    Own,
    /// Everything below it.
    All,
}

/// By what the entries of a folder are sorted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// By their names, bytes before bytes.
    Name,
    /// The largest first.
    Size,
    /// The newest first.
    Time,
}

/// How guarded something is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Guarded {
    /// How many disks may die without losing it; of a folder, of its weakest file.
    pub guard: u8,
    /// Why none may.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unguarded: Option<Unguarded>,
}

/// A file, a folder, or something else in a volume.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Row {
    /// Its path in the volume.
    pub path: String,
    /// Its path as bytes in hexadecimal, where it is shown escaped.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path_hex: Option<String>,
    /// "file", "folder", "symlink" or "special".
    pub kind: &'static str,
    /// The disks that it lies on: several where it is in pieces, copied, in conflict, or a folder.
    pub disks: Vec<String>,
    /// Its length; of a folder, of all files in it.
    pub size_bytes: ByteLength,
    /// Of a folder, how many files are in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub files: Option<u64>,
    /// When it, or the newest of what is in it, was modified; nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub modified: i64,
    /// How guarded it is, where that was asked for.
    #[serde(flatten)]
    pub guarded: Option<Guarded>,
    /// How deep it lies below the folder that was asked for, from 0.
    #[serde(skip)]
    pub depth: usize,
    /// Its last name.
    #[serde(skip)]
    pub name: String,
}

/// What is in a folder, in order, with the sum over all files below it.
pub struct Tree {
    /// Every entry; one of a folder comes after it.
    pub rows: Vec<Row>,
    /// All files, at any depth.
    pub total: Count,
}

/// Reads a folder of a volume as it was last scanned.
///
/// # Errors
/// What the database says.
pub fn tree(pool: &Pool, volume: &str, folder: &RelPath, depth: Depth, order: Order) -> Result<Tree> {
    let mut builder = Builder { folder, depth, rows: BTreeMap::new(), total: Count::default() };
    read::list(pool, volume, folder, |entry| {
        builder.add(&entry);
        Ok(())
    })?;
    Ok(Tree { total: builder.total, rows: in_order(builder.rows, order) })
}

/// Adds to each entry how guarded it is.
///
/// # Errors
/// What a disk or the database says.
pub fn add_guards(
    pool: &Pool,
    volume: &str,
    folder: &RelPath,
    tree: &mut Tree,
    observer: &dyn Observer,
) -> Result<()> {
    let mut outlook = PoolOutlook::open(pool, Look::WhereShort, observer)?;
    outlook.lose(&[], false)?;
    let mut weakest: BTreeMap<String, Guarded> = BTreeMap::new();
    let (prefix, own) = (folder.to_string(), Guarded { guard: 0, unguarded: None });
    outlook.for_each_file(&mut |file| {
        let rest = if folder.is_root() { Some(file.path.as_str()) } else { file.path.strip_prefix(&prefix) };
        if file.volume != volume
            || rest.is_none_or(|rest| !folder.is_root() && !rest.is_empty() && !rest.starts_with('/'))
        {
            return Ok(());
        }
        let guarded = Guarded { guard: file.guard, unguarded: file.unguarded };
        // The file itself, and every folder that it is in.
        let ends = file.path.match_indices('/').map(|(at, _)| at).chain([file.path.len()]);
        for end in ends {
            let entry = weakest.entry(file.path[..end].to_string()).or_insert(guarded);
            if (guarded.guard, guarded.unguarded.is_none()) < (entry.guard, entry.unguarded.is_none()) {
                *entry = guarded;
            }
        }
        Ok(())
    })?;
    for row in &mut tree.rows {
        // A folder with nothing in it, or a link, needs no parity: the catalogue has all of it.
        row.guarded = weakest.get(&row.path).copied().or((row.kind == "file").then_some(own));
    }
    Ok(())
}

struct Builder<'a> {
    folder: &'a RelPath,
    depth: Depth,
    /// By the keys in which a folder comes directly before what it holds.
    rows: BTreeMap<Vec<u8>, Row>,
    total: Count,
}

impl Builder<'_> {
    fn add(&mut self, entry: &Entry) {
        let is_file = entry.kind == "file";
        if is_file {
            self.total.add(entry.size_bytes);
        }
        if entry.at == *self.folder && !is_file {
            return;
        }
        for (depth, at) in self.shown_on_the_way(&entry.at).into_iter().enumerate() {
            let is_itself = at == entry.at;
            let kind = if is_itself { entry.kind } else { "folder" };
            let row = self.rows.entry(at.tree_key()).or_insert_with(|| Row::new(&at, kind, depth));
            for disk in entry.disk.split('+').filter(|disk| !disk.is_empty()) {
                if !row.disks.iter().any(|known| known == disk) {
                    row.disks.push(disk.to_string());
                }
            }
            row.modified = row.modified.max(entry.modified);
            if is_itself && is_file {
                // In conflict, the larger is told.
                row.size_bytes = row.size_bytes.max(entry.size_bytes);
            } else if is_file {
                row.size_bytes = row.size_bytes.plus(entry.size_bytes);
                row.files = Some(row.files.unwrap_or(0) + 1);
            }
        }
    }

    /// The entry and the folders above it that are shown, from the top.
    fn shown_on_the_way(&self, at: &RelPath) -> Vec<RelPath> {
        let mut way: Vec<RelPath> = Vec::new();
        let mut next = Some(at.clone());
        while let Some(path) = next.filter(|path| path != self.folder && !path.is_root()) {
            next = path.parent();
            way.push(path);
        }
        if way.is_empty() {
            // A file was asked for, not a folder.
            way.push(at.clone());
        }
        way.reverse();
        if self.depth == Depth::Own {
            way.truncate(1);
        }
        way
    }
}

impl Row {
    fn new(at: &RelPath, kind: &'static str, depth: usize) -> Self {
        let (path, path_hex) = shown_with_bytes(at);
        let files = (kind == "folder").then_some(0);
        let name = shown(at.file_name());
        Self {
            path,
            path_hex,
            kind,
            disks: Vec::new(),
            size_bytes: ByteLength::ZERO,
            files,
            modified: i64::MIN,
            guarded: None,
            depth,
            name,
        }
    }
}

/// The rows with the entries of every folder in the order that is wanted.
fn in_order(rows: BTreeMap<Vec<u8>, Row>, order: Order) -> Vec<Row> {
    let rows: Vec<Row> = rows.into_values().collect();
    if order == Order::Name {
        return rows;
    }
    // A folder goes with all that is in it.
    let mut sorted = Vec::with_capacity(rows.len());
    let mut rows: Vec<Option<Row>> = rows.into_iter().map(Some).collect();
    take_level(&mut rows, 0, order, &mut sorted);
    sorted
}

/// Moves the entries of a level, each followed by what is below it, in order.
fn take_level(rows: &mut [Option<Row>], depth: usize, order: Order, sorted: &mut Vec<Row>) {
    let is_head = |row: &Option<Row>| row.as_ref().is_some_and(|row| row.depth == depth);
    let mut starts: Vec<usize> = (0..rows.len()).filter(|at| is_head(&rows[*at])).collect();
    let end_of = |at: usize| (at + 1..rows.len()).find(|next| is_head(&rows[*next])).unwrap_or(rows.len());
    let mut spans: Vec<(usize, usize)> = starts.drain(..).map(|at| (at, end_of(at))).collect();
    let key = |at: usize| {
        let row = rows[at].as_ref();
        match order {
            Order::Name => 0,
            Order::Size => row.map_or(0, |row| i128::from(row.size_bytes.exact())),
            Order::Time => row.map_or(0, |row| i128::from(row.modified)),
        }
    };
    spans.sort_by_key(|(at, _)| std::cmp::Reverse(key(*at)));
    for (start, end) in spans {
        sorted.extend(rows[start].take());
        take_level(&mut rows[start + 1..end], depth + 1, order, sorted);
    }
}
