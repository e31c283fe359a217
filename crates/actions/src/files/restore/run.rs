//! Bringing files back.

use sieve_core::layout::OurPlace;

use super::find::Candidate;
use super::make::Maker;
use super::place::Place;
use super::report::{RestoreReport, Target};
use sieve_core::count::Count;
use sieve_disk::Result;
use sieve_disk::durable;
use sieve_disk::event::{Event, Observer, Silent, Unit, heed};
use sieve_pool::images::{load_snapshot, open_images};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::pieces;
use sieve_pool::pool::Pool;
use sieve_pool::scan;

/// Brings files back.
///
/// # Crash safety
/// Each file appears under its name whole and checked, or not at all. Nothing is taken away.
///
/// # Errors
/// What a disk or the database says; what does not come back is part of the report.
pub fn execute(
    pool: &Pool,
    volume: &str,
    candidates: &[Candidate],
    target: Target<'_>,
    observer: &dyn Observer,
) -> Result<RestoreReport> {
    if matches!(target, Target::Place) {
        pool.expect_writing()?;
    }
    let total = candidates.iter().map(|candidate| candidate.size_bytes.exact()).sum();
    observer.event(Event::Stage { name: "restoring", total, unit: Unit::Bytes });
    let mut place = Place::new(pool, volume, target)?;
    let snapshot = load_snapshot(pool, volume)?;
    let images = open_images(pool, volume, &[])?;
    let maker = Maker { pool, snapshot: &snapshot, images: &images, observer };
    let mut report = RestoreReport::default();
    let mut batches = durable::batches(candidates, BATCH, |candidate| candidate.size_bytes.exact());
    let outcome = batches.try_for_each(|batch| restore(&maker, &mut place, batch, &mut report));
    let tidied = place.finish();
    match outcome {
        Err(error) if error.is_stop() => report.stopped = true,
        outcome => outcome?,
    }
    tidied?;
    if matches!(target, Target::Place) {
        // Pieces that are back say themselves what they belong to, as soon as they are seen.
        if candidates.iter().any(|candidate| candidate.original.is_piece()) {
            scan::scan_at(pool, |member| member.row.volume == volume, &[OurPlace::Pieces.path()], &Silent)?;
        }
        for member in pool.file_members(volume).filter(|member| member.state.is_usable()) {
            pieces::learn(pool, member)?;
        }
    }
    let mut files = Count::default();
    report.restored.iter().for_each(|file| files.add(file.size_bytes));
    let ended = Ended::of(report.stopped, report.not_back.is_empty());
    pool.tell(Entry::new(Did::Restore).ended(ended).files(files).detail(&report)?)?;
    Ok(report)
}

/// So many files, or files of so many bytes, get their names after one wait for the disk.
const BATCH: (usize, u64) = (128, 256 << 20);

/// Makes some files, and gives them their names.
fn restore(
    maker: &Maker<'_>,
    place: &mut Place<'_>,
    candidates: &[Candidate],
    report: &mut RestoreReport,
) -> Result<()> {
    let mut making = Vec::new();
    let begun = candidates.iter().try_for_each(|candidate| {
        heed(maker.observer)?;
        if !place.is_pool() && candidate.original.is_piece() {
            let why = "it lies in pieces: restore it to its place, then get it".to_string();
            report.not_back.push((candidate.path.clone(), why));
            return Ok(());
        }
        making.push(place.begin(candidate)?);
        Ok(())
    });
    let made = begun.and_then(|()| maker.make(&mut making));
    // What is whole gets its name, whatever ended the rest.
    let named = place.give_names(making, report);
    made.and(named)
}
