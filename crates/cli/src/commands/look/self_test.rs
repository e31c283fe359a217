//! `health --self-test`: disks test themselves, one after another, since a test slows all that the disk does beside it.

use std::time::Duration;

use sieve_core::agenda::Task;
use sieve_core::pool::JobSpec;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::self_test::{self, Progress, Reach};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::pool::Pool;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::style;
use crate::progress::Watch;
use crate::shelf::Shelf;
use crate::{json, load};

/// How the test of a disk ended.
#[derive(serde::Serialize, schemars::JsonSchema)]
struct Tested<'a> {
    /// The disk.
    disk: &'a str,
    /// How the test ended.
    came: Came,
}
json::list!("self-test", Tests { results: Tested<'a> });

/// How often a disk is asked how far it is.
const LOOK: Duration = Duration::from_millis(2000);

/// What came of a disk's test.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Came {
    /// It passed.
    Passed,
    /// It did not: the disk itself says that it is not well.
    NotPassed,
    /// It was ended before its time.
    Stopped,
    /// A stand-in of a disk has nothing to test.
    StandIn,
}

impl Came {
    const fn word(self) -> &'static str {
        match self {
            Self::Passed => "passed",
            Self::NotPassed => "did not pass",
            Self::Stopped => "stopped",
            Self::StandIn => "passed (a stand-in: there is nothing to test)",
        }
    }

    const fn ended(self) -> Ended {
        match self {
            Self::Passed | Self::StandIn => Ended::Done,
            Self::NotPassed => Ended::NotWell,
            Self::Stopped => Ended::Stopped,
        }
    }
}

/// Starts the tests of these disks, and follows them.
pub(crate) fn run(context: &Context, reach: Reach, names: &[String]) -> Result<Outcome> {
    let pool = load::pool(&context.pool)?;
    for name in names {
        pool.member_named(name)?;
    }
    let wanted = |name: &&String| names.is_empty() || names.contains(name);
    let disks: Vec<String> =
        pool.members.iter().map(|member| &member.row.name).filter(wanted).cloned().collect();
    let results = test(&pool, reach, &disks, &Watch::begin(false)?)?;
    let well = results.iter().all(|(_, came)| came.ended() == Ended::Done);
    if context.json {
        let tested: Vec<_> = results.iter().map(|(disk, came)| Tested { disk, came: *came }).collect();
        json::print(&Tests { results: &tested })?;
    } else {
        for (disk, came) in &results {
            let paint = if came.ended() == Ended::Done { style::WELL } else { style::BAD };
            crate::say!("{disk}: the {} test {}", reach.word(), style::paint(paint, came.word()));
        }
    }
    Ok(Outcome::well(well))
}

/// A job of the agenda.
pub(crate) fn of_job(pool: &Pool, job: &JobSpec, observer: &dyn Observer) -> Result<Ended> {
    let reach = if job.task == Task::LongTest { Reach::Long } else { Reach::Short };
    let wanted = |name: &&String| job.disks.is_empty() || job.disks.contains(name);
    let disks: Vec<String> =
        pool.members.iter().map(|member| &member.row.name).filter(wanted).cloned().collect();
    let results = test(pool, reach, &disks, observer)?;
    let worst = results.iter().map(|(_, came)| came.ended()).find(|ended| *ended != Ended::Done);
    Ok(worst.unwrap_or(Ended::Done))
}

fn test(pool: &Pool, reach: Reach, disks: &[String], observer: &dyn Observer) -> Result<Vec<(String, Came)>> {
    let shelf = Shelf::look(&pool.file, None)?;
    let mut results = Vec::new();
    for name in disks {
        let begun = std::time::Instant::now();
        let came = if pool.spec.disk(name).is_some_and(|disk| disk.simulated) {
            Came::StandIn
        } else {
            of_disk(&shelf, name, reach, observer)?
        };
        let mut entry =
            Entry::new(Did::SelfTest).on([name]).ended(came.ended()).took(begun.elapsed().as_secs_f64());
        entry.said = Some(format!("{} test: {}", reach.word(), came.word()));
        pool.tell(entry)?;
        results.push((name.clone(), came));
        if came == Came::Stopped {
            break;
        }
    }
    Ok(results)
}

fn of_disk(shelf: &Shelf, name: &str, reach: Reach, observer: &dyn Observer) -> Result<Came> {
    let items = shelf.items();
    let found =
        items.iter().find(|item| item.name == Some(name)).and_then(|item| item.found).ok_or_else(|| {
            Error::new(Kind::NotFound, "self-test.disk", format!("no disk of this machine is {name}"))
                .remedy(format!("give {name} its serial number in the pool file: zinc-sieve disks shows it"))
        })?;
    let device = found.device.name.as_str();
    self_test::start(device, reach)?;
    observer.event(Event::Stage { name: "testing itself", total: 100, unit: Unit::Files });
    let mut done = 0_u8;
    loop {
        std::thread::sleep(LOOK);
        if observer.is_stopped() {
            self_test::abort(device)?;
            return Ok(Came::Stopped);
        }
        match self_test::progress(device)? {
            Progress::Running(left) => {
                let now = 100 - left;
                observer.event(Event::Advanced { by: u64::from(now.saturating_sub(done)) });
                done = done.max(now);
            }
            Progress::Ended(true) => return Ok(Came::Passed),
            Progress::Ended(false) => return Ok(Came::NotPassed),
            Progress::Unknown => return Ok(Came::Stopped),
        }
    }
}
