//! Playing some weeks: every job when it is wanted, one long one at a time, nothing with the machine off or in quiet hours.
//!
//! What is played is what `agenda --run` does: a job that is wanted while another is at work waits; one that meets the end of
//! the usable hours stops at a checkpoint and goes on in the next ones; one that is wanted again while it waits is done once.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;

use super::hours::{Span, around, ending_after, joined};
use super::job::{Setting, Task};
use super::when::When;
use crate::forecast::Duration;

/// One run of a job.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Run {
    /// Which job.
    pub job: usize,
    /// When it was wanted, in seconds since 1970.
    pub wanted: i64,
    /// When it begins.
    pub begin: i64,
    /// When it is likely to end, or is stopped.
    pub end: i64,
    /// When it ends cautiously.
    pub cautious_end: i64,
    /// It is stopped by the end of the usable hours, and goes on later.
    pub stopped: bool,
    /// It goes on with what was stopped.
    pub goes_on: bool,
}

/// How long new files of a volume are unguarded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Exposure {
    /// A new file, on average, in seconds.
    #[serde(rename = "mean_seconds")]
    pub mean: f64,
    /// The one that waits longest.
    #[serde(rename = "longest_seconds")]
    pub longest: f64,
    /// The most that waits on the cache at once, in bytes.
    #[serde(rename = "cache_peak_bytes")]
    pub cache_peak: f64,
}

/// What happened.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Played {
    /// All runs, in the order in which they began.
    pub runs: Vec<Run>,
    /// For each volume.
    pub exposure: Vec<Exposure>,
    /// Hours that disks were awake, over all disks.
    pub disk_hours: f64,
    /// Times that a job was wanted and not done by the end.
    pub left: Vec<(usize, i64)>,
}

impl Played {
    /// How long the longest run of a job takes, likely and cautiously, with all that goes on where it was stopped; none where it
    /// never runs.
    pub fn longest_run(&self, job: usize) -> Option<(Duration, Duration)> {
        let mut lengths: Vec<(i64, i64)> = Vec::new();
        for run in self.runs.iter().filter(|run| run.job == job) {
            let (likely, cautious) = (run.end - run.begin, run.cautious_end - run.begin);
            match lengths.last_mut() {
                Some(before) if run.goes_on => *before = (before.0 + likely, before.1 + cautious),
                _ => lengths.push((likely, cautious)),
            }
        }
        let seconds = |seconds: i64| Duration::from_seconds(seconds as f64);
        lengths.into_iter().max().map(|(likely, cautious)| (seconds(likely), seconds(cautious)))
    }
}

/// The moments at which each job is wanted, in seconds since 1970. A job that follows arrivals is wanted so long after each
/// hour in which something arrives: finer than that nobody knows arrivals beforehand.
pub fn wanted(setting: &Setting, hall: &Hall, zone: &TimeZone) -> Vec<Vec<i64>> {
    setting.jobs.iter().map(|job| wanted_of(&job.when, hall, zone)).collect()
}

pub(super) fn wanted_of(when: &When, hall: &Hall, zone: &TimeZone) -> Vec<i64> {
    let at = |second: i64| Timestamp::from_second(second).unwrap_or_default();
    let starts = |when: &When| when.starts(at(hall.within.from), at(hall.within.until), zone);
    match when {
        When::AfterArrival(seconds) => {
            let after =
                starts(&When::Minutes(60)).into_iter().map(|start| start.as_second() + i64::from(*seconds));
            after.filter(|start| around(&hall.on, *start).is_some()).collect()
        }
        when => starts(when).into_iter().map(|start| start.as_second()).collect(),
    }
}

/// The usable hours of a stretch of time, worked out once for many plays.
#[derive(Clone, Debug)]
pub struct Hall {
    /// The whole stretch.
    pub within: Span,
    /// When the machine is on.
    pub on: Vec<Span>,
    /// When work that is heard may be done.
    pub usable: Vec<Span>,
}

impl Hall {
    /// That of a setting.
    pub fn of(setting: &Setting, within: Span, zone: &TimeZone) -> Self {
        Self { within, on: setting.on(within, zone), usable: setting.usable(within, zone) }
    }

    pub(super) fn hours(&self, task: Task) -> &[Span] {
        if task.is_heard() { &self.usable } else { &self.on }
    }

    /// The stretches of a span in which the machine is on.
    fn on_within(&self, asked: Span) -> impl Iterator<Item = Span> {
        let first = self.on.partition_point(|span| span.until <= asked.from);
        let from_there = self.on[first..].iter().take_while(move |span| span.from < asked.until);
        from_there.filter_map(move |span| span.common(asked))
    }

    /// Seconds between two moments in which the machine is on.
    fn seconds_on(&self, from: i64, until: i64) -> f64 {
        self.on_within(Span { from, until }).map(|span| span.seconds() as f64).sum()
    }
}

/// A job that is wanted.
#[derive(Clone, Copy)]
struct Request {
    job: usize,
    wanted: i64,
    /// Seconds that are left of it, likely and cautious, where it was stopped.
    rest: Option<(i64, i64)>,
}

/// Plays it.
pub fn play<W: AsRef<[i64]>>(setting: &Setting, hall: &Hall, wanted: &[W]) -> Played {
    let mut stage = Stage::new(setting, hall);
    let mut requests: Vec<Request> = Vec::new();
    for (job, starts) in wanted.iter().enumerate() {
        requests.extend(starts.as_ref().iter().map(|wanted| Request { job, wanted: *wanted, rest: None }));
    }
    requests.sort_by_key(|request| (request.wanted, setting.jobs[request.job].task, request.job));
    let (long, beside): (Vec<_>, Vec<_>) =
        requests.into_iter().partition(|request| setting.jobs[request.job].task.is_long());
    stage.one_at_a_time(long);
    // Those that need no lock: each disk tests itself, a page is written.
    stage.beside(&beside);
    stage.conclude()
}

struct Stage<'a> {
    setting: &'a Setting,
    hall: &'a Hall,
    runs: Vec<Run>,
    left: Vec<(usize, i64)>,
    /// When each job was last done whole: what arrived since then is what it has to do.
    done: Vec<i64>,
}

impl<'a> Stage<'a> {
    fn new(setting: &'a Setting, hall: &'a Hall) -> Self {
        let done = vec![hall.within.from; setting.jobs.len()];
        Self { setting, hall, runs: Vec::new(), left: Vec::new(), done }
    }

    fn one_at_a_time(&mut self, requests: Vec<Request>) {
        let mut coming = requests.into_iter().peekable();
        let mut waiting: Vec<Request> = Vec::new();
        let mut free = self.hall.within.from;
        loop {
            while let Some(request) = coming.next_if(|r| r.wanted <= free) {
                // What is wanted again while it waits is done once.
                if waiting.iter().all(|other| other.job != request.job) {
                    waiting.push(request);
                }
            }
            let Some(next) = self.first_of(&mut waiting) else {
                let Some(request) = coming.peek() else { break };
                free = free.max(request.wanted);
                continue;
            };
            let Some(hours) = ending_after(&self.hall.usable, free) else {
                self.left.push((next.job, next.wanted));
                continue;
            };
            if hours.from > free {
                // Others may be wanted until then, and go first.
                free = hours.from;
                waiting.push(next);
                continue;
            }
            let (run, rest) = self.run(next, free, hours.until);
            free = run.end;
            self.runs.push(run);
            match rest {
                Some(rest) => waiting.push(Request { rest: Some(rest), ..next }),
                None => self.done[next.job] = run.begin,
            }
        }
    }

    /// What was begun goes on first; then in the order of the tasks, since what settles is then guarded by the sync.
    fn first_of(&self, waiting: &mut Vec<Request>) -> Option<Request> {
        let order = |request: &Request| {
            (request.rest.is_none(), self.setting.jobs[request.job].task, request.wanted, request.job)
        };
        let first = (0..waiting.len()).min_by_key(|position| order(&waiting[*position]))?;
        Some(waiting.remove(first))
    }

    fn run(&self, request: Request, begin: i64, until: i64) -> (Run, Option<(i64, i64)>) {
        let job = &self.setting.jobs[request.job];
        let (likely, cautious) = request.rest.unwrap_or_else(|| {
            let arrived = self.arrived(request.job, self.done[request.job], begin);
            job.effort.with(arrived)
        });
        let stopped = begin + likely > until;
        let end = if stopped { until } else { begin + likely };
        let run = Run {
            job: request.job,
            wanted: request.wanted,
            begin,
            end,
            cautious_end: begin + cautious,
            stopped,
            goes_on: request.rest.is_some(),
        };
        let done = end - begin;
        (run, stopped.then_some((likely - done, (cautious - done).max(1))))
    }

    /// Bytes that a job has to do with that arrived between two moments.
    fn arrived(&self, job: usize, from: i64, until: i64) -> f64 {
        let volumes = match self.setting.jobs[job].volume {
            Some(volume) => &self.setting.volumes[volume..=volume],
            None => &self.setting.volumes[..],
        };
        let a_day: u64 = volumes.iter().map(|volume| volume.arrives_a_day.exact()).sum();
        a_day as f64 * self.hall.seconds_on(from, until) / 86_400.0
    }

    fn beside(&mut self, requests: &[Request]) {
        for request in requests {
            let task = self.setting.jobs[request.job].task;
            match ending_after(self.hall.hours(task), request.wanted) {
                Some(hours) => {
                    let (run, _) = self.run(*request, request.wanted.max(hours.from), i64::MAX);
                    self.runs.push(run);
                }
                None => self.left.push((request.job, request.wanted)),
            }
        }
    }

    fn conclude(mut self) -> Played {
        self.runs.sort_by_key(|run| (run.begin, run.job));
        let exposure = (0..self.setting.volumes.len()).map(|volume| self.exposure(volume)).collect();
        Played { exposure, disk_hours: self.disk_hours(), runs: self.runs, left: self.left }
    }

    /// The hours of each disk, until it sleeps again.
    fn disk_hours(&self) -> f64 {
        let sleeps_after = self.setting.sleeps_after as i64;
        let awake = |disk: usize| {
            let uses = self.runs.iter().filter(|run| self.setting.jobs[run.job].disks.contains(&disk));
            joined(uses.map(|run| Span { from: run.begin, until: run.end + sleeps_after }).collect())
        };
        let seconds = |disk| awake(disk).iter().map(|span| span.seconds() as f64).sum::<f64>();
        (0..self.setting.disks.len()).map(seconds).sum::<f64>() / 3600.0
    }

    /// How long files are unguarded that arrive evenly while the machine is on: each sync guards at its end what had
    /// arrived when it began, or, with a cache before the volume, what had when the settle before it began.
    fn exposure(&self, volume: usize) -> Exposure {
        let of = &self.setting.volumes[volume];
        let runs = |task: Task| {
            let is_of = move |run: &&Run| {
                let job = &self.setting.jobs[run.job];
                job.task == task && job.volume.is_none_or(|v| v == volume)
            };
            self.whole(self.runs.iter().filter(is_of))
        };
        let settles = runs(Task::Settle);
        let mut exposure = Exposure { cache_peak: self.cache_peak(of, &settles), ..Exposure::default() };
        if !of.has_guard || of.cache_room.is_some() && of.cache_is_guarded {
            return exposure;
        }
        let (mut from, mut waited, mut seconds) = (self.hall.within.from, 0.0, 0.0);
        let mut ends: Vec<(i64, i64)> = Vec::new();
        for (begin, end) in runs(Task::Sync) {
            let seen = match of.cache_room {
                Some(_) => {
                    let before = settles.partition_point(|(_, settled)| *settled <= begin);
                    before.checked_sub(1).map(|last| settles[last].0)
                }
                None => Some(begin),
            };
            ends.extend(seen.map(|seen| (seen, end)));
        }
        // What no sync has passed by the end waits at least until then.
        ends.push((self.hall.within.until, self.hall.within.until));
        let last = ends.len() - 1;
        for (position, (seen, end)) in ends.into_iter().enumerate() {
            for span in self.hall.on_within(Span { from, until: seen }) {
                let length = span.seconds() as f64;
                exposure.longest = exposure.longest.max((end - span.from) as f64);
                // The mean is that of whole rounds: where the weeks begin and end is chance.
                if last < 2 || (1..last).contains(&position) {
                    waited += length * ((end - span.from) as f64 - length / 2.0);
                    seconds += length;
                }
            }
            from = from.max(seen);
        }
        exposure.mean = if seconds > 0.0 { waited / seconds } else { 0.0 };
        exposure
    }

    /// When runs began and ended; one that was stopped and went on counts once, from its first beginning.
    fn whole<'r>(&self, runs: impl Iterator<Item = &'r Run>) -> Vec<(i64, i64)> {
        let (mut whole, mut begun) = (Vec::new(), vec![None; self.setting.jobs.len()]);
        for run in runs {
            let begin = *begun[run.job].get_or_insert(run.begin);
            if !run.stopped {
                whole.push((begin, run.end));
                begun[run.job] = None;
            }
        }
        whole
    }

    /// The most that lies on the cache at once.
    fn cache_peak(&self, of: &super::job::Inflow, settles: &[(i64, i64)]) -> f64 {
        if of.cache_room.is_none() {
            return 0.0;
        }
        let (mut from, mut peak) = (self.hall.within.from, 0.0_f64);
        for (begin, end) in settles.iter().chain(&[(self.hall.within.until, self.hall.within.until)]) {
            peak = peak.max(self.hall.seconds_on(from, *end));
            from = *begin;
        }
        peak * of.arrives_a_day.exact() as f64 / 86_400.0
    }
}
