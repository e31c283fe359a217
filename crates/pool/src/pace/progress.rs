//! Telling how a long stage is getting on, with a remaining time that can be believed.

use sieve_rows::stream::solve::Progress;
use std::collections::VecDeque;
use std::time::{Duration, Instant};

use sieve_core::amounts::Amounts;
use sieve_core::forecast::{Measured, Underway};
use sieve_core::units::{ByteLength, Rate};

use crate::curves::{learn, pass_of};
use crate::pool::Pool;
use crate::writer::{HowFar, say_how_far};
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer};

/// How often it is told.
const INTERVAL: Duration = Duration::from_millis(500);
/// The speed is that of the last so many intervals.
const WINDOW: usize = 10;

/// Watches one stage.
pub struct Meter<'a> {
    pool: &'a Pool,
    observer: &'a dyn Observer,
    underway: Underway,
    before: Vec<(u64, f64)>,
    begun: Instant,
    told: Instant,
    lately: VecDeque<(Instant, u64)>,
    done: u64,
    total: u64,
    limit: Option<Rate>,
}

impl<'a> Meter<'a> {
    /// Begins a stage of `total` cells that moves so many bytes on each disk.
    ///
    /// # Errors
    /// When the measured curves are damaged.
    pub fn begin(pool: &'a Pool, observer: &'a dyn Observer, amounts: &Amounts, total: u64) -> Result<Self> {
        let limit = pool.restraint().rate;
        let pass = pass_of(pool, amounts)?;
        let now = Instant::now();
        let mut meter = Self {
            pool,
            observer,
            underway: Underway::begin(pass, limit),
            before: Vec::new(),
            begun: now,
            told: now,
            lately: VecDeque::new(),
            done: 0,
            total,
            limit,
        };
        meter.before = meter.flow();
        Ok(meter)
    }

    /// Bytes moved by each disk of the pass, and how long it was busy.
    fn flow(&self) -> Vec<(u64, f64)> {
        let of = |name: &str| {
            let member = self.pool.members.iter().find(|m| m.row.name == name)?;
            let flow = member.disk.as_ref()?.flow();
            let (read, written) = flow.totals();
            Some((read + written, flow.busy()))
        };
        self.underway.pass().disks.iter().map(|disk| of(&disk.name).unwrap_or_default()).collect()
    }

    /// One more cell is done.
    pub fn advance(&mut self) {
        self.done += 1;
        self.observer.event(Event::Advanced { by: 1 });
        if self.told.elapsed() >= INTERVAL {
            self.tell();
        }
    }

    /// Whether the stage is to end here.
    pub fn is_stopped(&self) -> bool {
        self.observer.is_stopped()
    }

    /// What each disk of the pass did since it began.
    fn measured(&self) -> Vec<Measured> {
        let since = |((bytes, busy), before): ((u64, f64), &(u64, f64))| Measured {
            bytes: ByteLength::new(bytes.saturating_sub(before.0)),
            busy: busy - before.1,
        };
        self.flow().into_iter().zip(&self.before).map(since).collect()
    }

    /// How far the pass has come, in bytes of its longest disk: as far as has been ordered, but no further than each disk
    /// that still takes part has got. Beyond its end a disk takes no part, also where it moved less than was thought: nothing
    /// is read of what is free or a hole.
    fn position(&self, measured: &[Measured]) -> ByteLength {
        let longest = self.underway.pass().disks.iter().map(|disk| disk.end.exact()).max().unwrap_or(0);
        let ordered = (longest as f64 * self.done as f64 / self.total.max(1) as f64) as u64;
        let taking_part = self
            .underway
            .pass()
            .disks
            .iter()
            .zip(measured)
            .filter(|(disk, measured)| measured.bytes < disk.end && ordered <= disk.end.exact());
        let got = taking_part.map(|(_, measured)| measured.bytes.exact()).min();
        ByteLength::new(got.unwrap_or(ordered).min(ordered))
    }

    /// The stage is over: the next forecast knows how fast the disk was that held it up.
    ///
    /// # Errors
    /// When the measured curves are damaged, or cannot be written.
    pub fn learn(&self) -> Result<()> {
        // At a limit nothing is seen of how fast disks are.
        if self.limit.is_some() {
            return Ok(());
        }
        learn(self.pool, &self.underway)
    }

    fn tell(&mut self) {
        self.told = Instant::now();
        let (measured, elapsed) = (self.measured(), self.begun.elapsed().as_secs_f64());
        let moved: u64 = measured.iter().map(|disk| disk.bytes.exact()).sum();
        self.lately.push_back((self.told, moved));
        if self.lately.len() > WINDOW {
            self.lately.pop_front();
        }
        let (since, earlier) =
            self.lately.front().copied().filter(|_| self.lately.len() > 1).unwrap_or((self.begun, 0));
        let seconds = since.elapsed().as_secs_f64().max(1e-3);
        let position = self.position(&measured);
        self.underway.note(elapsed, measured);
        let remaining_seconds = self.underway.remaining(position).seconds() + self.observer.later_seconds();
        let share = self.done as f64 / self.total.max(1) as f64;
        say_how_far(&*self.pool.home, HowFar { share, remaining_seconds });
        self.observer.event(Event::Progress {
            done: self.done,
            total: self.total,
            moved_bytes: moved,
            bytes_per_second: (moved - earlier.min(moved)) as f64 / seconds,
            elapsed_seconds: elapsed,
            remaining_seconds,
        });
    }
}

/// Watches one volume of several that are passed over one after another.
pub struct OneOfSeveral<'a> {
    observer: &'a dyn Observer,
    later_seconds: f64,
}

impl<'a> OneOfSeveral<'a> {
    /// For a volume, where so many bytes are moved on each disk of all of them.
    ///
    /// # Errors
    /// When the measured curves are damaged.
    pub fn new(pool: &Pool, observer: &'a dyn Observer, volume: &str, amounts: &Amounts) -> Result<Self> {
        let mut later_seconds = 0.0;
        for later in pool.volumes().iter().skip_while(|one| one.name != volume).skip(1) {
            let is_of_it = |disk: &str| pool.member_named(disk).is_ok_and(|m| m.row.volume == later.name);
            let amounts = amounts.iter().filter(|(disk, _)| is_of_it(disk));
            let pass = pass_of(pool, &amounts.map(|(disk, bytes)| (disk.clone(), bytes)).collect())?;
            later_seconds +=
                Underway::begin(pass, pool.restraint().rate).remaining(ByteLength::ZERO).seconds();
        }
        Ok(Self { observer, later_seconds })
    }
}

impl Observer for OneOfSeveral<'_> {
    fn event(&self, event: Event) {
        self.observer.event(event);
    }

    fn is_stopped(&self) -> bool {
        self.observer.is_stopped()
    }

    fn later_seconds(&self) -> f64 {
        self.later_seconds + self.observer.later_seconds()
    }
}

impl Progress for Meter<'_> {
    fn advance(&mut self) {
        Meter::advance(self);
    }

    fn is_stopped(&self) -> bool {
        Meter::is_stopped(self)
    }
}

impl Drop for Meter<'_> {
    fn drop(&mut self) {
        if self.done > 0 {
            self.tell();
        }
    }
}
