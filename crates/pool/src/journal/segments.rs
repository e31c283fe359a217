//! The files of the journal: the one that lines are added to, and closed ones of about the same size, the oldest of which go.

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_disk::durable;
use sieve_disk::{Disk, Result};

use super::SEGMENTS;

/// All files of the journal, oldest first.
///
/// # Errors
/// What the disk says.
pub(super) fn all(home: &dyn Disk) -> Result<Vec<RelPath>> {
    let mut paths: Vec<RelPath> =
        closed(home)?.into_iter().map(|number| OurPlace::JournalClosed.with(&name(number))).collect();
    let open = OurPlace::Journal.path();
    if home.stat(&open)?.is_some() {
        paths.push(open);
    }
    Ok(paths)
}

fn name(number: u64) -> String {
    format!("{number:08}.jsonl")
}

/// The numbers of the closed ones, in order.
fn closed(home: &dyn Disk) -> Result<Vec<u64>> {
    let folder = OurPlace::JournalClosed.path();
    if home.stat(&folder)?.is_none() {
        return Ok(Vec::new());
    }
    let number = |name: Vec<u8>| String::from_utf8(name).ok()?.strip_suffix(".jsonl")?.parse().ok();
    let mut numbers: Vec<u64> = home.list(&folder)?.into_iter().filter_map(number).collect();
    numbers.sort_unstable();
    Ok(numbers)
}

/// Closes the file that lines are added to, and drops the oldest beyond what is kept. Who adds a line at this moment adds it
/// to the closed file: it is not lost.
pub(super) fn close(home: &dyn Disk) -> Result<()> {
    let folder = OurPlace::JournalClosed.path();
    durable::make_own_folder(home, &folder)?;
    let numbers = closed(home)?;
    let next = numbers.last().map_or(1, |last| last + 1);
    // Another process may be at the same: its file has the number then, and ours goes on growing until the next line.
    let to = OurPlace::JournalClosed.with(&name(next));
    if home.stat(&to)?.is_some() || home.rename(&OurPlace::Journal.path(), &to).is_err() {
        return Ok(());
    }
    home.sync_folder(&folder)?;
    for number in numbers.iter().take((numbers.len() + 1).saturating_sub(SEGMENTS)) {
        home.remove_file(&OurPlace::JournalClosed.with(&name(*number)))?;
    }
    Ok(())
}
