//! Doing what is due: once, or for as long as the program runs.

use schemars::JsonSchema;
use serde::Serialize;
use std::time::Duration;

use jiff::tz::TimeZone;
use sieve_actions::agenda::{Arrived, Ran, due, next, run as run_job, usable_until};
use sieve_core::agenda::When;
use sieve_core::pool::JobSpec;
use sieve_disk::{Error, Result};
use sieve_pool::journal::Ended;
use sieve_pool::pool::Pool;

use super::others::Beside;
use super::watch::Arrivals;
use super::words::no_jobs;
use crate::args::RestraintArguments;
use crate::commands::context::Context;
use crate::commands::watch::notice::tell_all;
use crate::exit::Outcome;
use crate::human::{style, time};
use crate::progress::Watch;
use crate::signals::Listener;
use crate::{json, load, restraint};

/// How one job went: a line, when it has ended.
#[derive(Serialize, JsonSchema)]
struct Went<'a> {
    /// The job.
    job: &'a str,
    /// When it began.
    begun: String,
    /// How it ended.
    came: &'a str,
    /// Why it failed.
    why: Option<String>,
}
json::named_line!("agenda-run", Went<'_>);

/// How often it is looked whether something is due, at most: a clock may be put forward, a machine may have slept.
const LOOK: Duration = Duration::from_secs(30);
/// How often it is looked whether there is something to tell, where nothing was done.
const BETWEEN_NOTICES: Duration = Duration::from_secs(600);
/// While somebody else is at work it is tried again after so long.
const PATIENCE: Duration = Duration::from_secs(60);

pub(super) fn run(context: &Context, arguments: &RestraintArguments, stays: bool) -> Result<Outcome> {
    let spec = load::spec(&context.pool)?;
    if spec.agenda.jobs.is_empty() {
        return Err(no_jobs());
    }
    let stop = Listener::begin()?;
    let follows = spec.agenda.jobs.iter().any(|job| matches!(job.when, When::AfterArrival(_)));
    let arrivals =
        if stays && follows { Some(Arrivals::watch(&spec, crate::machine::real())?) } else { None };
    let watch = Watch::begin(arguments.events)?;
    let turn = Turn {
        context,
        arguments,
        watch: &watch,
        zone: TimeZone::system(),
        arrivals: arrivals.as_ref(),
        told: std::cell::Cell::default(),
    };
    let mut outcome = Outcome::Fine;
    loop {
        let done = turn.take()?;
        outcome = outcome.or_worse(done.outcome);
        if !stays {
            if done.jobs == 0 && !context.json {
                crate::say!(
                    "Nothing is due{}.",
                    done.next.map_or(String::new(), |at| format!("; next {}", time::weekday_and_clock(at)))
                );
            }
            return Ok(outcome);
        }
        let pause = if done.waits { PATIENCE } else { LOOK };
        let until = std::time::Instant::now() + pause;
        while std::time::Instant::now() < until {
            if stop.is_asked_to_stop() {
                return Ok(Outcome::Fine);
            }
            if arrivals.as_ref().is_some_and(|arrivals| arrivals.have_rested(&spec.agenda.jobs))
                && !done.waits
            {
                break;
            }
            std::thread::sleep(Duration::from_millis(200));
        }
    }
}

/// One look, and all that is due by then.
struct Turn<'a> {
    context: &'a Context,
    arguments: &'a RestraintArguments,
    watch: &'a Watch,
    zone: TimeZone,
    arrivals: Option<&'a Arrivals>,
    told: std::cell::Cell<Option<std::time::Instant>>,
}

struct Done {
    jobs: usize,
    outcome: Outcome,
    /// Somebody else is at work.
    waits: bool,
    /// When something is wanted next, nanoseconds since 1970.
    next: Option<i64>,
}

impl Turn<'_> {
    /// Everything is looked at anew: the pool file may have been edited, disks may have come and gone.
    fn take(&self) -> Result<Done> {
        let mut pool = load::pool(&self.context.pool)?;
        restraint::hold(self.arguments, &mut pool);
        let mut done = Done { jobs: 0, outcome: Outcome::Fine, waits: false, next: None };
        let mut tried: Vec<usize> = Vec::new();
        // What is due is looked up after each job: one takes long, and others come meanwhile.
        while !done.waits && !sieve_disk::event::Observer::is_stopped(self.watch) {
            let arrived = self.arrivals.map(Arrivals::seen).unwrap_or_default();
            let due = due(&pool, &arrived, &self.zone)?;
            let Some((job, until)) = due.iter().find_map(|due| {
                let job = &pool.spec.agenda.jobs[due.job];
                let until = usable_until(&pool.spec.agenda, job.task, pool.machine.now(), &self.zone)?;
                (!tried.contains(&due.job)).then_some((due.job, until))
            }) else {
                break;
            };
            tried.push(job);
            let spec = pool.spec.agenda.jobs[job].clone();
            self.one(&mut pool, &spec, &arrived, until, &mut done)?;
        }
        if done.jobs > 0 || self.is_time_to_tell() {
            tell_all(&mut pool)?;
        }
        done.next = next(&pool.spec.agenda, pool.machine.now(), &self.zone);
        Ok(done)
    }

    /// Where nothing was done it is looked now and then whether there is something to tell.
    fn is_time_to_tell(&self) -> bool {
        let is_time = self.told.get().is_none_or(|told| told.elapsed() > BETWEEN_NOTICES);
        if is_time {
            self.told.set(Some(std::time::Instant::now()));
        }
        is_time
    }

    fn one(
        &self,
        pool: &mut Pool,
        job: &JobSpec,
        arrived: &Arrived,
        until: i64,
        done: &mut Done,
    ) -> Result<()> {
        let begun = pool.machine.now();
        let beside = Beside { context: self.context };
        let came = run_job(pool, job, arrived, until, &beside, self.watch)?;
        sieve_mount::record::bring_up(&self.context.pool);
        match &came {
            Ran::To(ended) => {
                done.jobs += 1;
                if let (Ended::Done | Ended::NotWell, Some(arrivals)) = (ended, self.arrivals) {
                    arrivals.passed(job, arrived);
                }
                done.outcome = done.outcome.or_worse(Outcome::well(*ended == Ended::Done));
                self.tell(job, begun, ended.word(), None)?;
            }
            Ran::Waits(error) => {
                done.waits = true;
                self.tell(job, begun, "waits", Some(error))?;
            }
            Ran::Not(error) => {
                done.jobs += 1;
                done.outcome = done.outcome.or_worse(Outcome::NotWell);
                self.tell(job, begun, Ended::with(error.kind).word(), Some(error))?;
            }
        }
        Ok(())
    }

    fn tell(&self, job: &JobSpec, begun: i64, came: &str, error: Option<&Error>) -> Result<()> {
        let why = error.map(ToString::to_string);
        if self.context.json {
            return json::line(&Went { job: &job.name, begun: sieve_core::moment::text(begun), came, why });
        }
        let paint = if came == "done" { style::WELL } else { style::WATCH };
        let why = why.map_or(String::new(), |why| format!(": {why}"));
        crate::say!("{} {} {}{why}", time::moment(begun), job.name, style::paint(paint, came));
        Ok(())
    }
}
