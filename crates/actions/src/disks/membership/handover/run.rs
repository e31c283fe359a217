//! Round after round until nothing changes any more, and then the one switch.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::disks;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::folders;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::nodes;
use sieve_catalogue::nodes::NodeRow;
use sieve_catalogue::objects;
use sieve_catalogue::replica::Export;
use sieve_core::count::Count;
use sieve_core::path::RelPath;
use sieve_core::pool::DiskSpec;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::follow::{edit_pool_file, forget_intents, tell_all_members};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_pool::writer::ShortWriter;

use super::copy::Copier;
use super::plan::{HandoverPlan, PreparedHandover};
use crate::disks::membership::vacate::erase;

/// So many rounds are made while others may write; what still changes then is not going to rest.
const ROUNDS: usize = 6;

/// What was done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct HandoverReport {
    /// The volume.
    pub volume: String,
    /// The disk.
    pub disk: String,
    /// What the pool file said of the old one: its serial number, bay, price and the like stay in the journal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub was: Option<DiskSpec>,
    /// Where it was, whole, and no member any more.
    pub from: String,
    /// Where it is now.
    pub onto: String,
    /// What was copied, or was there from an interrupted one.
    pub copied: Count,
    /// What the old disk did not give as it is to be, and parity did, with the reason.
    #[serde(serialize_with = "sieve_core::pairs::with_why")]
    #[schemars(with = "Vec<sieve_core::pairs::PathAndWhy<'static>>")]
    pub from_parity: Vec<(String, String)>,
    /// What could not be had as it is to be, with the reason: then nothing has changed yet.
    #[serde(serialize_with = "sieve_core::pairs::with_why")]
    #[schemars(with = "Vec<sieve_core::pairs::PathAndWhy<'static>>")]
    pub unreadable: Vec<(String, String)>,
    /// It was asked to stop before its end: nothing has changed yet.
    pub stopped: bool,
    /// Our traces went from the old disk.
    pub wiped: bool,
    /// Why they did not, where that was wished.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_wiped: Option<String>,
}

impl HandoverReport {
    /// Whether the new disk has the place.
    pub fn is_done(&self) -> bool {
        !self.stopped && self.unreadable.is_empty()
    }
}

/// Copies everything and switches over.
///
/// # Crash safety
/// The old disk is only read, and stays the member until one commit lets the new one take its place. Before it, running this
/// again goes on with what was copied; after it, the next start finishes what follows: the pool file.
///
/// # Errors
/// When another long writer is at work, what changes does not rest, or what a disk or the database says.
pub fn execute(
    pool: &mut Pool,
    prepared: PreparedHandover,
    observer: &dyn Observer,
) -> Result<HandoverReport> {
    pool.expect_long()?;
    let begun = std::time::Instant::now();
    let PreparedHandover { plan, old, row, new, edits } = prepared;
    new.refuse_unfit()?;
    begin(pool, &row, &new.at)?;
    label::write(&*new.disk, &row.label(&pool.identity, row.filesystem.clone()))?;
    let mut report = HandoverReport {
        volume: plan.volume.clone(),
        disk: plan.disk.clone(),
        was: pool.member(old.id)?.spec.clone(),
        from: plan.from.clone(),
        onto: plan.onto.clone(),
        copied: Count::default(),
        from_parity: Vec::new(),
        unreadable: Vec::new(),
        stopped: false,
        wiped: false,
        not_wiped: None,
    };
    observer.event(Event::Stage { name: "copying", total: plan.files.bytes.exact(), unit: Unit::Bytes });
    let mut copier = Copier::new(pool, old.id, &new.disk, observer)?;
    rounds(pool, &mut copier, &plan.disk)?;
    // From here on nobody puts or removes anything through us; what others changed until now is caught up with.
    let _turn = ShortWriter::begin(&*pool.home)?;
    if !copier.stopped && copier.unreadable.is_empty() {
        scan::scan(pool, pool.member(old.id)?)?;
        copier.round()?;
    }
    (report.copied, report.stopped) = (copier.copied, copier.stopped);
    report.unreadable = std::mem::take(&mut copier.unreadable);
    report.from_parity = std::mem::take(&mut copier.from_parity);
    if !report.is_done() {
        return Ok(report);
    }
    let nodes = copier.nodes()?;
    // What lives in the catalogue alone loses no replica with the disk that leaves (L8).
    let export = Export::take(&pool.catalogue)?;
    export.put_on_disk(&*new.disk)?;
    drop(export);
    refuse_latecomers(pool, &copier)?;
    commit(pool, &old, &row, &copier, &nodes, &edits)?;
    drop(copier);
    edit_pool_file(pool, &edits)?;
    // Before the intent goes: after it, nobody would know that the replicas still speak of the old disk.
    tell_all_members(pool)?;
    forget_intents(pool, |intent| *intent == Intent::EditPoolFile { edits: edits.clone() })?;
    conclude(pool, &plan, &old, report, begun)
}

/// Wipes the old disk, where that was wished, and tells of it.
fn conclude(
    pool: &Pool,
    plan: &HandoverPlan,
    old: &DiskRow,
    mut report: HandoverReport,
    begun: std::time::Instant,
) -> Result<HandoverReport> {
    if plan.wipes {
        // A disk that fails may not let it: the new one has its place all the same.
        report.not_wiped = erase(pool, old.uuid, Some(&plan.from)).err().map(|error| error.to_string());
        report.wiped = report.not_wiped.is_none();
    }
    pool.tell(
        Entry::new(Did::Replace)
            .ended(Ended::Done)
            .took(begun.elapsed().as_secs_f64())
            .expected(&plan.forecast)
            .files(report.copied)
            .on([&report.disk])
            .detail(&report)?,
    )?;
    Ok(report)
}

/// Copies until nothing differs any more, or the rest can only be told.
fn rounds(pool: &Pool, copier: &mut Copier<'_>, disk: &str) -> Result<()> {
    for round in 0.. {
        scan::scan(pool, pool.member(copier.disk())?)?;
        let changed = copier.round()?;
        if copier.stopped || !changed || !copier.unreadable.is_empty() {
            break;
        }
        if round >= ROUNDS {
            return Err(Error::new(
                Kind::Conflict,
                "handover.restless",
                format!("files on {disk} change faster than they are copied"),
            )
            .remedy("let no program write there for a while, then run this again: it goes on"));
        }
    }
    Ok(())
}

/// Writes the intent down.
fn begin(pool: &Pool, row: &disks::DiskRow, onto: &str) -> Result<()> {
    let id = row.id;
    let intent = Intent::Move { disk: id, successor: row.uuid, onto: onto.to_string(), rest: None };
    pool.catalogue.transaction(|t| {
        intents::remove_where(t, |other| matches!(other, Intent::Move { disk, .. } if *disk == id))?;
        intents::insert(t, &intent).map(|_| ())
    })
}

/// Every file that the catalogue knows on the old disk has a copy: what has none came in the last moment.
fn refuse_latecomers(pool: &Pool, copier: &Copier<'_>) -> Result<()> {
    let mut missing: Option<RelPath> = None;
    objects::for_each_name(pool.catalogue.reading(), copier.disk(), |path, object| {
        if !copier.there.contains_key(&object.id) {
            missing.get_or_insert(path);
        }
        Ok(())
    })?;
    match missing {
        None => Ok(()),
        Some(path) => {
            Err(Error::new(Kind::Conflict, "handover.restless", format!("{path} changed in the last moment"))
                .remedy("run this again: it goes on"))
        }
    }
}

/// The one switch: another disk is the member, and its files are those that the catalogue knows.
fn commit(
    pool: &Pool,
    old: &disks::DiskRow,
    row: &disks::DiskRow,
    copier: &Copier<'_>,
    nodes: &[(RelPath, NodeRow)],
    edits: &[sieve_catalogue::pool_file::Edit],
) -> Result<()> {
    let now = pool.machine.now();
    pool.catalogue.transaction(|t| {
        disks::succeed(t, old, row.uuid, row.filesystem.as_ref(), now)?;
        for (id, there) in &copier.there {
            if let Some(object) = objects::get(t, *id)? {
                objects::set_stat(t, *id, &there.stat, object.standing)?;
            }
        }
        for (path, node) in nodes {
            nodes::set(t, old.id, path, node)?;
        }
        folders::forget_all(t, old.id)?;
        intents::remove_where(t, |other| matches!(other, Intent::Move { disk, .. } if *disk == old.id))?;
        intents::insert(t, &Intent::EditPoolFile { edits: edits.to_vec() })?;
        sieve_catalogue::mark_changed(t)
    })
}
