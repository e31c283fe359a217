//! A pass over several disks at once: it advances at the pace of the slowest that still takes part.

use schemars::JsonSchema;
use serde::Serialize;

use super::curve::time_over;
use super::{Duration, SpeedCurve};
use crate::units::{ByteLength, Rate};

/// The rates of a cautious forecast, as a share of the likely ones: disks are busy with other things, files lie
/// in pieces, heads move.
const CAUTIOUS: f64 = 0.7;
/// What holds up a pass that moves nothing.
const NOTHING: &str = "nothing";
/// The points of a forecast's curve.
const CURVE_POINTS: u64 = 20;

/// What the processor hashes and encodes in all where it was not measured, in bytes per second: cautious for two cores
/// of the last ten years.
const ASSUMED_PROCESSOR: f64 = 2e9;

/// The rate that is assumed for hashing and encoding.
pub fn assumed_processor() -> Rate {
    Rate::from_per_second(ASSUMED_PROCESSOR)
}

/// One disk that is read or written from its start on.
#[derive(Clone, Debug)]
pub struct Participant {
    /// Its name.
    pub name: String,
    /// How far the pass goes on it.
    pub end: ByteLength,
    /// All its space, over which its curve is drawn.
    pub capacity: ByteLength,
    /// How fast it is.
    pub curve: SpeedCurve,
    /// The link it shares with others, as a position in [`Pass::links`].
    pub link: Option<usize>,
}

/// A controller or port group that several disks share.
#[derive(Clone, Debug, PartialEq)]
pub struct Link {
    /// Its name.
    pub name: String,
    /// What it carries in all.
    pub rate: Rate,
}

/// What is passed over.
#[derive(Clone, Debug, Default)]
pub struct Pass {
    /// The disks.
    pub disks: Vec<Participant>,
    /// The links that some of them share.
    pub links: Vec<Link>,
    /// What the processor hashes and encodes in all, if that is known.
    pub processor: Option<Rate>,
}

/// How long a pass takes.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Forecast {
    /// The likely duration.
    #[serde(rename = "likely_seconds")]
    pub likely: Duration,
    /// A cautious one.
    #[serde(rename = "cautious_seconds")]
    pub cautious: Duration,
    /// What holds the pass up longest.
    pub bottleneck: String,
    /// Seconds from the start, and how far the pass has come by then, in bytes of the longest disk.
    #[serde(serialize_with = "crate::pairs::progress")]
    #[schemars(with = "Vec<crate::pairs::ProgressPoint>")]
    pub curve: Vec<(Duration, ByteLength)>,
}

impl Forecast {
    /// Passes one after another; the longest of them tells what holds it up.
    pub fn in_turn(passes: impl IntoIterator<Item = Self>) -> Self {
        let mut all = Self { bottleneck: NOTHING.into(), ..Self::default() };
        let mut longest = Duration::default();
        for pass in passes {
            let (before, length) = all.curve.pop().unwrap_or_default();
            all.curve.extend(pass.curve.into_iter().map(|(at, bytes)| (before.plus(at), length.plus(bytes))));
            if pass.likely > longest {
                (longest, all.bottleneck) = (pass.likely, pass.bottleneck);
            }
            all.likely = all.likely.plus(pass.likely);
            all.cautious = all.cautious.plus(pass.cautious);
        }
        all
    }
}

/// A bound on the pace: a line over addresses.
#[derive(Clone, Copy)]
struct Bound {
    start: f64,
    end: f64,
    limit: Limit,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Limit {
    Disk(usize),
    Link(usize),
    Processor,
}

/// A stretch over which one limit decides.
pub(super) struct Stretch {
    pub(super) length: f64,
    /// The pace at its start and at its end, in bytes per second.
    pub(super) start: f64,
    pub(super) end: f64,
    limit: Limit,
}

/// Forecasts a pass that reads or writes every disk from its start to its end, at one pace for all.
///
/// At each address the pace is the least of: the rate of each disk that reaches so far; for each link its rate
/// over the number of its disks that do; the processor's rate over the number of all that do. The time is the
/// integral of 1/pace, exact, since every bound is a straight line between the bends.
pub fn forecast(pass: &Pass) -> Forecast {
    let stretches = stretches(pass);
    let likely: f64 = stretches.iter().map(|s| time_over(s.length, s.start, s.end)).sum();
    Forecast {
        likely: Duration::from_seconds(likely),
        cautious: Duration::from_seconds(likely / CAUTIOUS),
        bottleneck: bottleneck(pass, &stretches),
        curve: curve(&stretches),
    }
}

pub(super) fn stretches(pass: &Pass) -> Vec<Stretch> {
    let mut borders = vec![0.0];
    for disk in &pass.disks {
        let capacity = disk.capacity.exact() as f64;
        borders.push(disk.end.exact() as f64);
        borders.extend(disk.curve.bends().map(|share| share * capacity));
    }
    let last = pass.disks.iter().map(|d| d.end.exact() as f64).fold(0.0, f64::max);
    borders.retain(|b| *b <= last);
    borders.sort_by(f64::total_cmp);
    borders.dedup();
    let mut found = Vec::new();
    for pair in borders.windows(2) {
        lowest(&bounds(pass, pair[0], pair[1]), pair[1] - pair[0], &mut found);
    }
    found
}

/// All bounds over a range of addresses in which nobody drops out and no curve bends.
fn bounds(pass: &Pass, from: f64, to: f64) -> Vec<Bound> {
    let active = |disk: &Participant| disk.end.exact() as f64 > from;
    let mut bounds = Vec::new();
    for (number, disk) in pass.disks.iter().enumerate().filter(|(_, d)| active(d)) {
        let capacity = (disk.capacity.exact() as f64).max(1.0);
        // Just behind a bend and just before the next the line is the same one.
        let rate = |at: f64| disk.curve.at((at / capacity).min(1.0)).per_second();
        bounds.push(Bound { start: rate(from), end: rate(to), limit: Limit::Disk(number) });
    }
    let flat = |rate: Rate, sharers: usize, limit| {
        let pace = rate.per_second() / sharers as f64;
        (sharers > 0 && pace > 0.0).then_some(Bound { start: pace, end: pace, limit })
    };
    for (number, link) in pass.links.iter().enumerate() {
        let sharers = pass.disks.iter().filter(|d| active(d) && d.link == Some(number)).count();
        bounds.extend(flat(link.rate, sharers, Limit::Link(number)));
    }
    let all = pass.disks.iter().filter(|d| active(d)).count();
    bounds.extend(pass.processor.and_then(|rate| flat(rate, all, Limit::Processor)));
    bounds
}

/// Cuts a range where another bound becomes the lowest.
fn lowest(bounds: &[Bound], length: f64, found: &mut Vec<Stretch>) {
    let mut at = 0.0;
    let value = |b: &Bound, share: f64| b.start + (b.end - b.start) * share;
    while at < 1.0 {
        let least = bounds.iter().map(|b| value(b, at)).fold(f64::INFINITY, f64::min);
        // Of those that are equally low here the one that falls fastest decides next.
        let equally_low = bounds.iter().filter(|b| value(b, at) <= least * (1.0 + 1e-9));
        let Some(low) = equally_low.min_by(|a, b| (a.end - a.start).total_cmp(&(b.end - b.start))) else {
            return;
        };
        let mut next = 1.0;
        for other in bounds.iter().filter(|b| b.limit != low.limit) {
            let closing = (low.end - low.start) - (other.end - other.start);
            let crossing = (other.start - low.start) / closing;
            if closing > 0.0 && crossing > at + 1e-9 && crossing < next {
                next = crossing;
            }
        }
        found.push(Stretch {
            length: length * (next - at),
            start: value(low, at),
            end: value(low, next),
            limit: low.limit,
        });
        at = next;
    }
}

fn bottleneck(pass: &Pass, stretches: &[Stretch]) -> String {
    let mut times: Vec<(Limit, f64)> = Vec::new();
    for stretch in stretches {
        let time = time_over(stretch.length, stretch.start, stretch.end);
        match times.iter_mut().find(|(limit, _)| *limit == stretch.limit) {
            Some((_, sum)) => *sum += time,
            None => times.push((stretch.limit, time)),
        }
    }
    match times.into_iter().max_by(|a, b| a.1.total_cmp(&b.1)).map(|(limit, _)| limit) {
        None => NOTHING.into(),
        Some(Limit::Disk(number)) => pass.disks[number].name.clone(),
        Some(Limit::Link(number)) => format!("the link {}", pass.links[number].name),
        Some(Limit::Processor) => "the processor".into(),
    }
}

/// Points of equal distance in bytes, with the time by which the pass gets there.
fn curve(stretches: &[Stretch]) -> Vec<(Duration, ByteLength)> {
    let total: f64 = stretches.iter().map(|s| s.length).sum();
    let mut points = Vec::new();
    let (mut time, mut done, mut rest) = (0.0, 0.0, stretches.iter());
    let mut current = rest.next();
    for step in 0..=CURVE_POINTS {
        let goal = total * step as f64 / CURVE_POINTS as f64;
        while let Some(stretch) = current.filter(|s| done + s.length < goal) {
            time += time_over(stretch.length, stretch.start, stretch.end);
            done += stretch.length;
            current = rest.next();
        }
        let part = current.map_or(0.0, |s| {
            let length = goal - done;
            let end = s.start + (s.end - s.start) * (length / s.length.max(1e-9)).min(1.0);
            time_over(length, s.start, end)
        });
        points.push((Duration::from_seconds(time + part), ByteLength::new(goal as u64)));
    }
    points
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::forecast::CurveSource;
    use proptest::prelude::*;

    fn disk(name: &str, size: u64, start: f64, end: f64) -> Participant {
        let points = [(0.0, Rate::from_per_second(start)), (1.0, Rate::from_per_second(end))];
        Participant {
            name: name.into(),
            end: ByteLength::new(size),
            capacity: ByteLength::new(size),
            curve: SpeedCurve::new(points, CurveSource::Given).unwrap(),
            link: None,
        }
    }

    fn seconds(pass: &Pass) -> f64 {
        forecast(pass).likely.seconds()
    }

    fn close(a: f64, b: f64) -> bool {
        (a - b).abs() <= 1e-6 * a.abs().max(b.abs()).max(1.0)
    }

    #[test]
    fn passes_in_turn_add_up_and_the_longest_tells_what_holds_them_up() {
        let pass = |seconds: f64, bottleneck: &str| Forecast {
            likely: Duration::from_seconds(seconds),
            cautious: Duration::from_seconds(2.0 * seconds),
            bottleneck: bottleneck.into(),
            curve: vec![
                (Duration::default(), ByteLength::ZERO),
                (Duration::from_seconds(seconds), ByteLength::new(10)),
            ],
        };
        let all = Forecast::in_turn([pass(5.0, "alder"), pass(4.0, "beech"), pass(8.0, "cedar")]);
        assert_eq!((all.likely.seconds(), all.cautious.seconds()), (17.0, 34.0));
        assert_eq!(all.bottleneck, "cedar");
        let points: Vec<_> = all.curve.iter().map(|(at, bytes)| (at.seconds(), bytes.exact())).collect();
        assert_eq!(points, [(0.0, 0), (5.0, 10), (9.0, 20), (17.0, 30)]);
        assert_eq!(Forecast::in_turn([]).bottleneck, forecast(&Pass::default()).bottleneck);
    }

    #[test]
    fn when_the_smaller_disk_ends_the_pace_changes() {
        // 1000 at 50 (the slower one), then 1000 at 100: 20 s + 10 s.
        let pass = Pass {
            disks: vec![disk("a", 2000, 100.0, 100.0), disk("b", 1000, 50.0, 50.0)],
            ..Pass::default()
        };
        assert!(close(seconds(&pass), 30.0));
        let found = forecast(&pass);
        assert_eq!(found.bottleneck, "b");
        assert!(close(found.cautious.seconds(), 30.0 / 0.7));
        assert_eq!(found.curve.len(), 21);
        assert!(close(found.curve[10].0.seconds(), 20.0) && found.curve[10].1 == ByteLength::new(1000));
        assert!(close(found.curve[20].0.seconds(), 30.0));
    }

    #[test]
    fn falling_curves_that_cross_by_hand() {
        // a falls from 100 to 50, b is 75 throughout: b decides the first half, a the second.
        // 500/75 + 500·ln(50/75)/(50-75) = 6.66667 + 8.10930.
        let pass = Pass {
            disks: vec![disk("a", 1000, 100.0, 50.0), disk("b", 1000, 75.0, 75.0)],
            ..Pass::default()
        };
        assert!(close(seconds(&pass), 6.666_666_667 + 8.109_302_162), "{}", seconds(&pass));
    }

    #[test]
    fn a_shared_link_and_the_processor_bound_the_pace() {
        let mut pass = Pass {
            disks: vec![
                disk("a", 1000, 100.0, 100.0),
                disk("b", 1000, 100.0, 100.0),
                disk("c", 1000, 100.0, 100.0),
            ],
            links: vec![Link { name: "card-a".into(), rate: Rate::from_per_second(120.0) }],
            processor: None,
        };
        pass.disks[0].link = Some(0);
        pass.disks[1].link = Some(0);
        assert!(close(seconds(&pass), 1000.0 / 60.0));
        assert_eq!(forecast(&pass).bottleneck, "the link card-a");
        pass.processor = Some(Rate::from_per_second(90.0));
        assert!(close(seconds(&pass), 1000.0 / 30.0));
        assert_eq!(forecast(&pass).bottleneck, "the processor");
    }

    #[test]
    fn nothing_to_do_takes_no_time() {
        assert_eq!(forecast(&Pass::default()).likely, Duration::default());
        assert_eq!(forecast(&Pass::default()).bottleneck, "nothing");
    }

    fn drawn() -> impl Strategy<Value = Vec<(u64, f64, f64)>> {
        prop::collection::vec((1_000..1_000_000u64, 10.0..500.0f64, 10.0..500.0f64), 1..6)
    }

    fn pass_of(disks: &[(u64, f64, f64)], faster: f64) -> Pass {
        let disks = disks.iter().map(|(size, s, e)| disk("d", *size, s * faster, e * faster)).collect();
        Pass { disks, ..Pass::default() }
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn double_the_speed_half_the_time(disks in drawn()) {
            prop_assert!(close(seconds(&pass_of(&disks, 1.0)), 2.0 * seconds(&pass_of(&disks, 2.0))));
        }

        #[test]
        fn one_more_disk_never_makes_it_shorter(disks in drawn()) {
            let (fewer, all) = (seconds(&pass_of(&disks[1..], 1.0)), seconds(&pass_of(&disks, 1.0)));
            prop_assert!(fewer <= all * (1.0 + 1e-9), "{} {}", fewer, all);
        }

        #[test]
        fn it_agrees_with_adding_up_small_steps(disks in drawn()) {
            let pass = pass_of(&disks, 1.0);
            let last = disks.iter().map(|d| d.0).max().unwrap() as f64;
            let steps = 20_000;
            let sum: f64 = (0..steps).map(|step| {
                let at = (f64::from(step) + 0.5) * last / f64::from(steps);
                let pace = pass.disks.iter().filter(|d| d.end.exact() as f64 > at)
                    .map(|d| d.curve.at(at / d.capacity.exact() as f64).per_second()).fold(f64::MAX, f64::min);
                last / f64::from(steps) / pace
            }).sum();
            let exact = seconds(&pass);
            prop_assert!((exact - sum).abs() < 0.002 * sum, "{exact} against {sum}");
        }
    }
}
