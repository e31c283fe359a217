//! Reading lines: backward from the last, or forward from a moment on. Memory does not grow with the journal.

use std::ops::ControlFlow;

use sieve_core::path::RelPath;
use sieve_disk::{Disk, Result};

use super::segments;
use super::{Did, Entry, LONGEST_LINE};

/// What is read at once.
const CHUNK: u64 = 256 << 10;

/// The moment alone, so that what is too old is not read further.
#[derive(serde::Deserialize)]
struct Moment {
    #[serde(with = "sieve_core::moment")]
    at: i64,
}

fn at(line: &[u8]) -> Option<i64> {
    serde_json::from_slice::<Moment>(line).ok().map(|line| line.at)
}

fn entry(line: &[u8]) -> Option<Entry> {
    serde_json::from_slice(line).ok()
}

/// Hands over entries from the last one back, until `take` has enough. Lines that cannot be read are passed over.
///
/// # Errors
/// What the disk says.
pub fn backward(home: &dyn Disk, mut take: impl FnMut(Entry) -> ControlFlow<()>) -> Result<()> {
    for path in segments::all(home)?.iter().rev() {
        let mut take_line = |line: &[u8]| entry(line).map_or(ControlFlow::Continue(()), &mut take);
        if lines_backward(home, path, &mut take_line)?.is_break() {
            break;
        }
    }
    Ok(())
}

/// Hands over the entries at or after a moment (nanoseconds since 1970), in order, until `take` has enough.
///
/// # Errors
/// What the disk says.
pub fn forward(home: &dyn Disk, since: i64, mut take: impl FnMut(Entry) -> ControlFlow<()>) -> Result<()> {
    let paths = segments::all(home)?;
    // Lines are in the order of time but where the clock was put back, and then by little: a file that ends before the
    // moment has nothing of it.
    let mut first = paths.len();
    while first > 0 && last_moment(home, &paths[first - 1])?.is_none_or(|at| at >= since) {
        first -= 1;
    }
    for path in &paths[first..] {
        let mut take_line = |line: &[u8]| {
            if at(line).is_none_or(|at| at < since) {
                return ControlFlow::Continue(());
            }
            entry(line).map_or(ControlFlow::Continue(()), &mut take)
        };
        if lines_forward(home, path, &mut take_line)?.is_break() {
            break;
        }
    }
    Ok(())
}

/// The last entries of a kind that are wanted, newest first, at most `most` of them.
///
/// # Errors
/// What the disk says.
pub fn last(home: &dyn Disk, most: usize, wanted: impl Fn(&Entry) -> bool) -> Result<Vec<Entry>> {
    let mut found = Vec::new();
    backward(home, |entry| {
        if wanted(&entry) {
            found.push(entry);
        }
        if found.len() >= most { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    Ok(found)
}

/// When something of this kind was done to its end the last times, in order, nanoseconds since 1970.
///
/// # Errors
/// What the disk says.
pub fn times(home: &dyn Disk, did: &Did, most: usize) -> Result<Vec<i64>> {
    let mut times: Vec<i64> = last(home, most, |entry| entry.did == *did && entry.has_ended())?
        .into_iter()
        .map(|entry| entry.at)
        .collect();
    times.reverse();
    Ok(times)
}

fn last_moment(home: &dyn Disk, path: &RelPath) -> Result<Option<i64>> {
    let mut found = None;
    _ = lines_backward(home, path, &mut |line| {
        found = at(line);
        if found.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    Ok(found)
}

fn lines_forward(
    home: &dyn Disk,
    path: &RelPath,
    take: &mut dyn FnMut(&[u8]) -> ControlFlow<()>,
) -> Result<ControlFlow<()>> {
    let mut file = home.open(path)?;
    let (mut pending, mut offset) = (Vec::new(), 0);
    loop {
        let mut chunk = vec![0; CHUNK as usize];
        let length = file.read_at(&mut chunk, offset)?;
        if length == 0 {
            return Ok(if pending.is_empty() { ControlFlow::Continue(()) } else { take(&pending) });
        }
        offset += length as u64;
        for part in chunk[..length].split_inclusive(|byte| *byte == b'\n') {
            // No line of ours is longer: what is, is damage, and is not collected.
            if pending.len() as u64 <= LONGEST_LINE {
                pending.extend_from_slice(part);
            }
            if part.ends_with(b"\n") {
                let flow = take(pending.trim_ascii());
                pending.clear();
                if flow.is_break() {
                    return Ok(flow);
                }
            }
        }
    }
}

fn lines_backward(
    home: &dyn Disk,
    path: &RelPath,
    take: &mut dyn FnMut(&[u8]) -> ControlFlow<()>,
) -> Result<ControlFlow<()>> {
    let mut file = home.open(path)?;
    let mut end = file.stat()?.size.exact();
    // What was read of a line whose beginning is not yet.
    let mut tail: Vec<u8> = Vec::new();
    while end > 0 {
        let start = end.saturating_sub(CHUNK);
        let mut chunk = vec![0; (end - start) as usize];
        let length = file.read_at(&mut chunk, start)?;
        chunk.truncate(length);
        chunk.extend_from_slice(&tail);
        let mut lines: Vec<&[u8]> = chunk.split(|byte| *byte == b'\n').collect();
        let first = if start > 0 { lines.remove(0) } else { &[] };
        for line in lines.into_iter().rev().filter(|line| !line.is_empty()) {
            if take(line).is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        tail = if first.len() as u64 > LONGEST_LINE { Vec::new() } else { first.to_vec() };
        end = start;
    }
    Ok(ControlFlow::Continue(()))
}
