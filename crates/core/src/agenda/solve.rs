//! Times at which nothing collides.
//!
//! Each job keeps what it does and how often; what moves is the time of day, and the day where the week has one such job. A
//! verify that is longer than any stretch of usable hours is cut into shares that come more often. What is looked for, in this
//! order: nothing is left undone, nothing collides, new files are unguarded for the shortest time, disks are awake for the
//! shortest time, times stay near those that were wished.
//!
//! The search: good times of a job are few, since in a plan that cannot be made better by a small move it begins when hours
//! begin, or ends when they end, or touches another job (the argument of left-shifted schedules: Conway, Maxwell and Miller,
//! *Theory of Scheduling*). So jobs are moved among those times, alone and in pairs, each time to the best, until no such
//! move helps; from the wished times, and from all jobs one behind the other. Every answer is judged by playing four weeks.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use jiff::civil::Weekday;
use jiff::tz::TimeZone;

use super::clash::{Clash, clashes};
use super::days::{Clock, DaySet};
use super::hours::Span;
use super::job::{Job, Setting, Task};
use super::play::{Hall, Played, play, wanted_of};
use super::when::When;
use crate::forecast::Duration;

/// Four weeks, in seconds.
pub const FOUR_WEEKS: i64 = 28 * 86_400;

/// Times are found to this many minutes.
const STEP: i32 = 5;

/// So often all jobs are gone through, at most.
const ROUNDS: usize = 8;

/// What an agenda comes to.
#[derive(Clone, Debug, PartialEq)]
pub struct Judged {
    /// The jobs.
    pub jobs: Vec<Job>,
    /// What collides.
    pub clashes: Vec<Clash>,
    /// How four weeks went.
    pub played: Played,
}

/// What is better, in the order of what matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Cost {
    undone: usize,
    clashes: usize,
    /// Minutes that a new byte is unguarded, on average over all volumes.
    unguarded: i64,
    /// Tenths of hours that disks are awake.
    awake: i64,
    /// Minutes by which times differ from those that were wished.
    moved: i64,
}

impl Cost {
    /// Without how far times were moved.
    pub const fn matters(self) -> (usize, usize, i64, i64) {
        (self.undone, self.clashes, self.unguarded, self.awake)
    }
}

/// Judges a setting as it is wished, over the four weeks from `from` on (seconds since 1970).
pub fn judge(setting: &Setting, from: i64, zone: &TimeZone) -> Judged {
    Search::new(setting, from, zone).judged(&setting.jobs)
}

/// Finds better times. What cannot be moved, and what is fine, stays as it is: solving the answer again changes nothing.
pub fn solve(setting: &Setting, from: i64, zone: &TimeZone) -> Judged {
    let mut setting = setting.clone();
    for _ in 0..ROUNDS {
        let mut search = Search::new(&setting, from, zone);
        let jobs = search.best();
        let is_final = jobs == setting.jobs;
        setting.jobs = jobs;
        if is_final {
            break;
        }
    }
    judge(&setting, from, zone)
}

/// What an agenda costs, for comparing it with another.
pub fn cost(setting: &Setting, from: i64, zone: &TimeZone) -> Cost {
    Search::new(setting, from, zone).cost(&setting.jobs)
}

pub(super) struct Search<'a> {
    setting: &'a Setting,
    zone: &'a TimeZone,
    hall: Hall,
    /// When a job is wanted, by its words.
    known: BTreeMap<String, Rc<[i64]>>,
    /// How long each job takes, in minutes, as of the last round.
    lengths: Vec<i32>,
    /// The setting with the jobs that are tried.
    trial: Setting,
}

impl<'a> Search<'a> {
    pub(super) fn new(setting: &'a Setting, from: i64, zone: &'a TimeZone) -> Self {
        let hall = Hall::of(setting, Span { from, until: from + FOUR_WEEKS }, zone);
        Self { setting, zone, hall, known: BTreeMap::new(), lengths: Vec::new(), trial: setting.clone() }
    }

    fn wanted(&mut self, when: &When) -> Rc<[i64]> {
        let words = when.to_string();
        if let Some(starts) = self.known.get(&words) {
            return Rc::clone(starts);
        }
        let starts: Rc<[i64]> = wanted_of(when, &self.hall, self.zone).into();
        self.known.insert(words, Rc::clone(&starts));
        starts
    }

    fn judged(&mut self, jobs: &[Job]) -> Judged {
        let (clashes, played) = self.played(jobs);
        Judged { clashes, jobs: jobs.to_vec(), played }
    }

    fn played(&mut self, jobs: &[Job]) -> (Vec<Clash>, Played) {
        let wanted: Vec<Rc<[i64]>> = jobs.iter().map(|job| self.wanted(&job.when)).collect();
        self.trial.jobs.clone_from_slice(jobs);
        let played = play(&self.trial, &self.hall, &wanted);
        (clashes(&self.trial, &self.hall, &wanted, &played), played)
    }

    /// How long each job takes, cautiously, with what it really has to do: the longest time, in minutes.
    fn lengths(&mut self, jobs: &[Job]) -> Vec<i32> {
        let (_, played) = self.played(jobs);
        let mut lengths: Vec<i32> =
            jobs.iter().map(|job| up(minutes_of(job.effort.cautious.seconds()))).collect();
        for run in played.runs.iter().filter(|run| !run.goes_on) {
            lengths[run.job] = lengths[run.job].max(up(minutes_of((run.cautious_end - run.begin) as f64)));
        }
        lengths
    }

    pub(super) fn cost(&mut self, jobs: &[Job]) -> Cost {
        let (clashes, played) = self.played(jobs);
        let weights: Vec<f64> =
            self.setting.volumes.iter().map(|volume| volume.arrives_a_day.exact().max(1) as f64).collect();
        let waited: f64 = played.exposure.iter().zip(&weights).map(|(e, weight)| e.mean * weight).sum();
        let moved =
            jobs.iter().zip(&self.setting.jobs).map(|(job, wished)| distance(&job.when, &wished.when));
        Cost {
            undone: played.left.len(),
            clashes: clashes.len(),
            unguarded: (waited / weights.iter().sum::<f64>().max(1.0) / 60.0).round() as i64,
            awake: (played.disk_hours * 10.0).round() as i64,
            moved: moved.sum(),
        }
    }

    fn best(&mut self) -> Vec<Job> {
        let wished = self.descended(self.cut(&self.setting.jobs.clone()));
        let packed = self.packed(&wished);
        let packed = self.descended(packed);
        // What is as good as it was stays as it was.
        let all = [self.setting.jobs.clone(), wished, packed];
        let mut costs: Vec<(Cost, usize)> = Vec::new();
        for (position, jobs) in all.iter().enumerate() {
            costs.push((self.cost(jobs), position));
        }
        let (_, best) = costs
            .into_iter()
            .min()
            .unwrap_or((Cost { undone: 0, clashes: 0, unguarded: 0, awake: 0, moved: 0 }, 0));
        all.into_iter().nth(best).unwrap_or_default()
    }

    /// Verifies that fit into no stretch of usable hours, cut into shares that come more often.
    fn cut(&self, jobs: &[Job]) -> Vec<Job> {
        let longest = self.hall.usable.iter().map(|span| span.seconds()).max().unwrap_or(0) as f64;
        let fits = |job: &Job| job.effort.cautious.seconds() <= longest;
        let cut = |job: &Job| {
            if job.task != Task::Verify || fits(job) || job.when.clock().is_none() {
                return job.clone();
            }
            let shares = shares(job);
            shares.iter().find(|job| fits(job)).or(shares.last()).unwrap_or(job).clone()
        };
        jobs.iter().map(cut).collect()
    }

    /// All jobs that can be moved one behind the other from the beginning of the first usable hours on.
    fn packed(&mut self, jobs: &[Job]) -> Vec<Job> {
        let Some(first) = self.hall.usable.first() else { return jobs.to_vec() };
        let mut at = self.minute_of(first.from);
        let mut packed = jobs.to_vec();
        let mut order: Vec<usize> = (0..jobs.len()).filter(|job| jobs[*job].when.clock().is_some()).collect();
        order.sort_by_key(|job| (jobs[*job].task, Reverse(jobs[*job].when.period() as i64)));
        for job in order {
            packed[job].when = jobs[job].when.at(Clock::of_minutes(at));
            at += up(minutes_of(jobs[job].effort.cautious.seconds()));
        }
        packed
    }

    /// Moves jobs, alone and in pairs, each time to the best place, until nothing helps.
    fn descended(&mut self, mut jobs: Vec<Job>) -> Vec<Job> {
        let mut cost = self.cost(&jobs);
        for _ in 0..ROUNDS {
            let before = cost;
            self.lengths = self.lengths(&jobs);
            for job in 0..jobs.len() {
                for when in self.places(&jobs, job) {
                    self.try_moved(&mut jobs, &mut cost, &[(job, when)]);
                }
            }
            for one in 0..jobs.len() {
                for other in 0..one {
                    self.descend_pair(&mut jobs, &mut cost, one, other);
                }
            }
            if cost == before {
                break;
            }
        }
        jobs
    }

    fn descend_pair(&mut self, jobs: &mut Vec<Job>, cost: &mut Cost, one: usize, other: usize) {
        // What cannot be in the other's way is moved alone.
        if [one, other].iter().any(|job| !jobs[*job].task.is_heard()) {
            return;
        }
        for when in self.places(jobs, one) {
            let mut trial = jobs.clone();
            trial[one].when = when.clone();
            // Where the other one can go depends on where this one is.
            for beside in self.places(&trial, other) {
                self.try_moved(jobs, cost, &[(one, when.clone()), (other, beside)]);
            }
        }
    }

    fn try_moved(&mut self, jobs: &mut Vec<Job>, cost: &mut Cost, moves: &[(usize, When)]) {
        let mut trial = jobs.clone();
        for (job, when) in moves {
            trial[*job].when = when.clone();
        }
        if trial == *jobs {
            return;
        }
        let found = self.cost(&trial);
        if found < *cost {
            (*jobs, *cost) = (trial, found);
        }
    }

    /// The times that a job could well be moved to.
    fn places(&self, jobs: &[Job], job: usize) -> Vec<When> {
        let when = &jobs[job].when;
        let Some(now) = when.clock() else { return Vec::new() };
        let length = self.lengths[job];
        let mut minutes: BTreeSet<i32> = BTreeSet::from([now.minutes()]);
        minutes.extend(self.setting.jobs[job].when.clock().map(Clock::minutes));
        for span in self.hall.usable.iter().take(16) {
            minutes.extend([up(self.minute_of(span.from)), down(self.minute_of(span.until)) - length]);
        }
        for (position, other) in jobs.iter().enumerate().filter(|(other, _)| *other != job) {
            let Some(at) = other.when.clock() else { continue };
            minutes.extend([at.minutes() + self.lengths[position], at.minutes() - length]);
        }
        let clocks = minutes.into_iter().map(Clock::of_minutes);
        clocks.flat_map(|clock| days_of(when).into_iter().map(move |w| w.at(clock))).collect()
    }

    fn minute_of(&self, at: i64) -> i32 {
        let civil = self.zone.to_datetime(jiff::Timestamp::from_second(at).unwrap_or_default());
        i32::from(civil.hour()) * 60 + i32::from(civil.minute())
    }
}

/// The same on each day that it could be on, as often as before.
fn days_of(when: &When) -> Vec<When> {
    let week = || {
        let first = Weekday::Monday;
        std::iter::successors(Some(first), move |day| Some(day.next()).filter(|next| *next != first))
    };
    match when {
        When::Week { days, at } if days.days().count() == 1 => {
            week().map(|day| When::Week { days: DaySet::one(day), at: *at }).collect()
        }
        When::MonthWeekday { nth, at, .. } => {
            week().map(|day| When::MonthWeekday { nth: *nth, day, at: *at }).collect()
        }
        other => vec![other.clone()],
    }
}

/// A verify in shares that come more often, the larger ones first: the same rows are read in the same time.
fn shares(job: &Job) -> Vec<Job> {
    let Some(at) = job.when.clock() else { return Vec::new() };
    let every_week = || When::Week { days: DaySet::one(Weekday::Sunday), at };
    let every_day = || When::Days { every: 1, at };
    let part = |parts: f64, when: When| {
        let mut part = job.clone();
        (part.share, part.when) = (job.share / parts, when);
        let less = |duration: Duration| Duration::from_seconds(duration.seconds() / parts);
        part.effort.likely = less(job.effort.likely);
        part.effort.cautious = less(job.effort.cautious);
        part
    };
    match job.when.period() {
        27.0.. => vec![part(4.0, every_week()), part(28.0, every_day())],
        6.0.. => vec![part(7.0, every_day())],
        _ => Vec::new(),
    }
}

/// How far two times are from each other, in minutes; another day counts as one.
fn distance(one: &When, other: &When) -> i64 {
    match (one.clock(), other.clock()) {
        (Some(a), Some(b)) => {
            let apart = i64::from((a.minutes() - b.minutes()).abs());
            let day = if one.at(b) == *other { 0 } else { 1440 };
            day + apart.min(1440 - apart)
        }
        _ => 0,
    }
}

const fn minutes_of(seconds: f64) -> i32 {
    (seconds / 60.0).ceil() as i32
}

const fn up(minutes: i32) -> i32 {
    (minutes + STEP - 1).div_euclid(STEP) * STEP
}

const fn down(minutes: i32) -> i32 {
    minutes.div_euclid(STEP) * STEP
}
