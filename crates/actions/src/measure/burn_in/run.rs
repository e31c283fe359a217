//! Writing everything, then reading it back.

use std::time::Instant;

use sieve_core::units::{ByteLength, Rate};

use super::pattern::Pattern;
use super::target::{ALIGNMENT, CHUNK, Chunk, Target};
use super::{BadStretch, Report, Request};
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::{Error, Kind, Result};

/// How much is written or read at once.
const STEP: usize = 1 << 20;
/// The points of a speed curve.
const POINTS: usize = 32;
/// So many bad stretches are told; more of them say nothing new.
const MOST_BAD: usize = 1000;

/// Writes a pattern to free space, reads it back past the page cache, and takes it away again.
///
/// When the observer wants no more, the run ends early and cleans up after itself. After a kill
/// the files stay; the next run of the same folder takes what was written as written and goes on.
///
/// # Errors
/// When the path is none, would be overwritten without being named, or is mounted; what a disk says while writing.
/// What it says while reading is part of the report.
pub fn run(request: &Request, fresh_seed: u64, observer: &dyn Observer) -> Result<Report> {
    let (target, amount) = Target::open(request)?;
    let whole = amount.exact() / ALIGNMENT as u64 * ALIGNMENT as u64;
    if whole == 0 {
        target.clean()?;
        let message = format!("{}: there is no free space to try", request.path.display());
        return Err(Error::new(Kind::Usage, "burn-in.no-space", message));
    }
    let seed = target.seed(fresh_seed)?;
    let mut pass = Pass {
        target: &target,
        pattern: Pattern::new(seed),
        total: whole,
        observer,
        report: Report { bytes: ByteLength::new(whole), from_the_medium: true, ..Report::default() },
    };
    let outcome = pass.write().and_then(|()| pass.read());
    let report = pass.report;
    target.clean()?;
    outcome.map(|()| report)
}

struct Pass<'a> {
    target: &'a Target,
    pattern: Pattern,
    total: u64,
    observer: &'a dyn Observer,
    report: Report,
}

/// A buffer that begins at a multiple of the alignment.
struct Aligned {
    bytes: Vec<u8>,
    start: usize,
}

impl Aligned {
    fn new() -> Self {
        let bytes = vec![0; STEP + ALIGNMENT];
        let start = bytes.as_ptr().align_offset(ALIGNMENT).min(ALIGNMENT);
        Self { bytes, start }
    }

    fn part(&mut self, length: usize) -> &mut [u8] {
        &mut self.bytes[self.start..self.start + length]
    }
}

impl Pass<'_> {
    fn chunks(&self) -> impl Iterator<Item = (u64, u64)> + use<> {
        let total = self.total;
        (0..total.div_ceil(CHUNK)).map(move |chunk| (chunk, CHUNK.min(total - chunk * CHUNK)))
    }

    fn stopped(&mut self) -> bool {
        self.report.interrupted |= self.observer.is_stopped();
        self.report.interrupted
    }

    fn write(&mut self) -> Result<()> {
        self.observer.event(Event::Stage { name: "writing", total: self.total, unit: Unit::Bytes });
        let mut rates = Vec::new();
        let mut buffer = vec![0; STEP];
        for (chunk, length) in self.chunks() {
            if self.target.has(chunk, length) {
                self.report.resumed = self.report.resumed.plus(ByteLength::new(length));
                self.observer.event(Event::Advanced { by: length });
                continue;
            }
            let started = Instant::now();
            let file = self.target.writer(chunk)?;
            for (offset, step) in steps(length) {
                if self.stopped() {
                    return Ok(());
                }
                self.pattern.fill(chunk * CHUNK + offset, &mut buffer[..step]);
                file.write(&buffer[..step], offset)?;
                self.observer.event(Event::Advanced { by: step as u64 });
            }
            file.settle()?;
            rates.push(self.point(chunk, length, started));
        }
        self.report.write_curve = thinned(&rates);
        Ok(())
    }

    fn read(&mut self) -> Result<()> {
        if self.report.interrupted {
            return Ok(());
        }
        self.observer.event(Event::Stage { name: "reading", total: self.total, unit: Unit::Bytes });
        let mut rates = Vec::new();
        let (mut found, mut expected) = (Aligned::new(), vec![0; STEP]);
        for (chunk, length) in self.chunks() {
            let started = Instant::now();
            let (file, passes_cache) = self.target.reader(chunk)?;
            self.report.from_the_medium &= passes_cache;
            for (offset, step) in steps(length) {
                if self.stopped() {
                    return Ok(());
                }
                let place = chunk * CHUNK + offset;
                match file.read(found.part(step), offset) {
                    Ok(()) => {
                        self.pattern.fill(place, &mut expected[..step]);
                        self.compare(&file, found.part(step), &expected[..step], place, offset);
                    }
                    Err(error) => self.bad(&file, place, step as u64, offset, &error.to_string()),
                }
                self.observer.event(Event::Advanced { by: step as u64 });
            }
            rates.push(self.point(chunk, length, started));
        }
        self.report.read_curve = thinned(&rates);
        Ok(())
    }

    /// Notes every granule that is not what was written; neighbours are one stretch.
    fn compare(&mut self, file: &Chunk, found: &[u8], expected: &[u8], place: u64, offset: u64) {
        if found == expected {
            return;
        }
        let pairs = found.chunks(ALIGNMENT).zip(expected.chunks(ALIGNMENT));
        for (number, _) in pairs.enumerate().filter(|(_, (found, expected))| found != expected) {
            let at = (number * ALIGNMENT) as u64;
            self.bad(file, place + at, ALIGNMENT as u64, offset + at, "it reads back differently");
        }
    }

    fn bad(&mut self, file: &Chunk, place: u64, length: u64, offset: u64, what: &str) {
        let bad = &mut self.report.bad;
        if let Some(last) = bad.last_mut()
            && last.offset + last.length == place
            && last.what == what
        {
            last.length += length;
        } else if bad.len() < MOST_BAD {
            let on_device = file.place_on_device(offset);
            bad.push(BadStretch { offset: place, length, on_device, what: what.into() });
        }
    }

    /// The rate over a chunk, at its middle.
    fn point(&self, chunk: u64, length: u64, started: Instant) -> (f64, Rate) {
        let middle = (chunk * CHUNK + length / 2) as f64 / self.total as f64;
        (middle, Rate::from_per_second(length as f64 / started.elapsed().as_secs_f64().max(1e-9)))
    }
}

fn steps(length: u64) -> impl Iterator<Item = (u64, usize)> {
    let step = STEP as u64;
    (0..length.div_ceil(step)).map(move |n| {
        let part = step.min(length - n * step);
        (n * step, usize::try_from(part).unwrap_or(STEP))
    })
}

/// Few points, each the mean of its neighbours.
fn thinned(rates: &[(f64, Rate)]) -> Vec<(f64, Rate)> {
    let each = rates.len().div_ceil(POINTS).max(1);
    let mean = |group: &[(f64, Rate)]| {
        let count = group.len() as f64;
        let share = group.iter().map(|(share, _)| share).sum::<f64>() / count;
        let rate = group.iter().map(|(_, rate)| rate.per_second()).sum::<f64>() / count;
        (share, Rate::from_per_second(rate))
    };
    rates.chunks(each).map(mean).collect()
}
