//! One copy: through the network, onto the cache or the disks.

use schemars::JsonSchema;
use serde::Serialize;

use crate::forecast::{Duration, default_curve};
use crate::pool::Media;
use crate::units::{ByteLength, Rate};

/// What a wired link carries of a file, as a share of its stated rate.
///
/// # Source
/// IEEE 802.3 framing: of 1538 bytes on the wire for a full frame, 1448 are payload of a TCP stream with time
/// stamps.
const WIRED_SHARE: f64 = 1448.0 / 1538.0;
/// What a wireless link carries of a file: its stated rate is that of single frames on a shared, half-duplex
/// medium; about half of it is left for payload.
const WIRELESS_SHARE: f64 = 0.5;

/// Where the bytes come in.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Network {
    /// What it is called.
    pub name: String,
    /// What it carries of a file.
    #[serde(rename = "bytes_per_second")]
    pub rate: Rate,
}

/// A wired link of that stated rate.
pub fn wired(stated: Rate) -> Network {
    link("the network", stated, WIRED_SHARE)
}

/// A wireless link of that stated rate.
pub fn wireless(stated: Rate) -> Network {
    link("the wireless network", stated, WIRELESS_SHARE)
}

fn link(name: &str, stated: Rate, share: f64) -> Network {
    Network { name: name.into(), rate: Rate::from_per_second(stated.per_second() * share) }
}

/// Where files land.
#[derive(Clone, Debug, PartialEq)]
pub struct Landing {
    /// What it is called.
    pub name: String,
    /// Its rate at first.
    pub rate: Rate,
    /// What it takes at that rate before it becomes slower; none where the rate stays.
    pub fast_area: Option<FastArea>,
    /// Its rate after that.
    pub sustained: Rate,
    /// What opening and closing one file costs, in seconds.
    pub per_file: f64,
}

/// The part of an SSD that is written fast, and emptied into the rest meanwhile. It consists of cells that are free: of a
/// drive that is half full, half of it is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FastArea {
    /// What it takes on an empty drive.
    pub size: ByteLength,
    /// The size of the drive and what is free on it, where that is known.
    pub drive: Option<(ByteLength, ByteLength)>,
}

/// What opening and closing a file costs on disks, in seconds: a seek or two and the update of a folder.
const PER_FILE_ON_DISKS: f64 = 0.02;
/// The same on flash.
const PER_FILE_ON_FLASH: f64 = 0.002;

impl Landing {
    /// A cache: its rate at first, its fast area, and its rate once that is full. What is not known is assumed.
    pub fn cache(rate: Option<Rate>, fast_area: Option<FastArea>, sustained: Option<Rate>) -> Self {
        let rate = rate.unwrap_or_else(|| default_curve(Some(Media::Ssd)).mean());
        Self {
            name: "the cache".into(),
            rate,
            fast_area,
            sustained: sustained.unwrap_or(rate),
            per_file: PER_FILE_ON_FLASH,
        }
    }

    /// Hard disks, on average from their start to their end. A rate that is not known is assumed.
    pub fn disks(rate: Option<Rate>) -> Self {
        let rate = rate.unwrap_or_else(|| default_curve(Some(Media::Hdd)).mean());
        Self { name: "the disks".into(), rate, fast_area: None, sustained: rate, per_file: PER_FILE_ON_DISKS }
    }
}

/// A part of a copy at one rate.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Stage {
    /// How much.
    pub bytes: ByteLength,
    /// How fast.
    #[serde(rename = "bytes_per_second")]
    pub rate: Rate,
    /// What sets the rate.
    pub bottleneck: String,
}

/// How a copy goes.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Copy {
    /// How long it takes.
    #[serde(rename = "seconds")]
    pub duration: Duration,
    /// The rate over all of it.
    #[serde(rename = "bytes_per_second")]
    pub rate: Rate,
    /// What holds it up longest.
    pub bottleneck: String,
    /// Its parts.
    pub stages: Vec<Stage>,
}

/// Works a copy of `amount` in files of `file` bytes out: from `source`, over the network, onto a landing; what
/// does not fit into `room` goes on to `overflow`.
///
/// The rate is the least of source, network and landing. Files cost their opening and closing on top.
///
/// A fast area that is emptied at the sustained rate s while it fills at r holds B · (r − s) / r after B bytes; at r ≤ s it
/// never fills. On a drive of C bytes, of which L are in use, it has room for F · (1 − (L + B) / C) by then: both are the same
/// after B = F · (1 − L / C) / ((r − s) / r + F / C) bytes. Where C is not known it is taken to be as good as empty.
pub fn copy(
    amount: ByteLength,
    file: ByteLength,
    source: Option<Rate>,
    network: &Network,
    landing: &Landing,
    room: Option<ByteLength>,
    overflow: Option<&Landing>,
) -> Copy {
    let slowest = |name: &str, rate: Rate| {
        let chain = [(Some(network.rate), network.name.as_str()), (source, "the source"), (Some(rate), name)];
        let known = chain.into_iter().filter_map(|(rate, name)| Some((rate?, name.to_string())));
        known.min_by(|a, b| a.0.per_second().total_cmp(&b.0.per_second())).expect("the landing is known")
    };
    let into_landing = room.map_or(amount, |room| room.min(amount));
    let mut stages = Vec::new();
    let mut add = |bytes: ByteLength, (rate, bottleneck): (Rate, String)| {
        if bytes > ByteLength::ZERO {
            stages.push(Stage { bytes, rate, bottleneck });
        }
    };
    let at_first = slowest(&landing.name, landing.rate);
    let lasts = landing.fast_area.map(|area| area.lasts(at_first.0, landing.sustained));
    let fast = lasts.map_or(into_landing, |lasts| lasts.min(into_landing));
    add(fast, at_first);
    add(
        into_landing.minus(fast),
        slowest(&format!("{} after its fast area", landing.name), landing.sustained),
    );
    let rest = amount.minus(into_landing);
    if let Some(other) = overflow {
        add(rest, slowest(&other.name, other.sustained));
    }
    let files = |bytes: ByteLength| bytes.exact().div_ceil(file.exact().max(1)) as f64;
    let overhead =
        files(into_landing) * landing.per_file + overflow.map_or(0.0, |o| files(rest) * o.per_file);
    finish(stages, overhead)
}

impl FastArea {
    /// So many bytes go in at a rate before it is full.
    fn lasts(&self, inflow: Rate, sustained: Rate) -> ByteLength {
        let (r, s) = (inflow.per_second(), sustained.per_second());
        if r <= s {
            return ByteLength::new(u64::MAX);
        }
        let size = self.size.exact() as f64;
        let (free, shrinks) = self.drive.map_or((1.0, 0.0), |(drive, free)| {
            let drive = drive.exact().max(1) as f64;
            ((free.exact() as f64 / drive).min(1.0), size / drive)
        });
        ByteLength::new((size * free / ((r - s) / r + shrinks)) as u64)
    }
}

fn finish(stages: Vec<Stage>, overhead: f64) -> Copy {
    let seconds = |s: &Stage| s.rate.seconds_for(s.bytes);
    let moving: f64 = stages.iter().map(seconds).sum();
    let slowest = stages.iter().max_by(|a, b| seconds(a).total_cmp(&seconds(b)));
    let bottleneck = match slowest {
        Some(stage) if moving >= overhead => stage.bottleneck.clone(),
        Some(_) => "opening and closing so many files".into(),
        None => "nothing".into(),
    };
    let bytes: ByteLength = stages.iter().map(|s| s.bytes).sum();
    let total = moving + overhead;
    let rate = if total > 0.0 { bytes.exact() as f64 / total } else { 0.0 };
    Copy { duration: Duration::from_seconds(total), rate: Rate::from_per_second(rate), bottleneck, stages }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn rate(megabytes: f64) -> Rate {
        Rate::from_per_second(megabytes * 1e6)
    }

    fn gb(n: u64) -> ByteLength {
        ByteLength::new(n * 1_000_000_000)
    }

    fn ssd() -> Landing {
        Landing {
            name: "the cache".into(),
            rate: rate(500.0),
            fast_area: Some(FastArea { size: gb(30), drive: None }),
            sustained: rate(100.0),
            per_file: 0.0,
        }
    }

    fn disks() -> Landing {
        Landing {
            name: "the disks".into(),
            rate: rate(130.0),
            fast_area: None,
            sustained: rate(130.0),
            per_file: 0.02,
        }
    }

    #[test]
    fn a_wired_gigabit_carries_117_megabytes() {
        assert!((wired(Rate::parse("1 Gbit/s").unwrap()).rate.per_second() / 1e6 - 117.7).abs() < 0.1);
        assert_eq!(wireless(Rate::parse("1 Gbit/s").unwrap()).rate.per_second(), 62.5e6);
    }

    #[test]
    fn the_slowest_part_sets_the_rate() {
        let slow = Network { name: "the network".into(), rate: rate(117.0) };
        let found = copy(gb(117), gb(1), None, &slow, &disks(), None, None);
        assert_eq!((found.bottleneck.as_str(), found.stages.len()), ("the network", 1));
        assert!((found.duration.seconds() - (1000.0 + 117.0 * 0.02)).abs() < 1e-6);
        let from_a_slow_disk = copy(gb(1), gb(1), Some(rate(50.0)), &slow, &disks(), None, None);
        assert_eq!(from_a_slow_disk.bottleneck, "the source");
    }

    #[test]
    fn a_fast_area_lasts_longer_than_its_size() {
        // At 300 in and 100 out a fast area of 30 GB lasts for 45 GB; the rest goes at 100.
        let network = Network { name: "the network".into(), rate: rate(300.0) };
        let found = copy(gb(100), gb(1), None, &network, &ssd(), None, None);
        assert_eq!(found.stages.iter().map(|s| s.bytes).collect::<Vec<_>>(), [gb(45), gb(55)]);
        assert!((found.duration.seconds() - (150.0 + 550.0)).abs() < 1e-6);
        assert_eq!(found.bottleneck, "the cache after its fast area");
        let slower = Network { name: "the network".into(), rate: rate(90.0) };
        assert_eq!(copy(gb(100), gb(1), None, &slower, &ssd(), None, None).stages.len(), 1, "it never fills");
    }

    /// By small steps: what is written before more is in the fast area than it has room for.
    fn by_small_steps(area: f64, drive: f64, used: f64, rates: (f64, f64)) -> f64 {
        let (mut written, mut inside, step) = (0.0, 0.0, 1e-3);
        while inside < area * (1.0 - (used + written) / drive) {
            written += rates.0 * step;
            inside += (rates.0 - rates.1) * step;
        }
        written
    }

    #[rstest]
    #[case(30, 500, 500, 45.0 / 1.09)]
    #[case(30, 500, 250, 22.5 / 1.09)]
    #[case(30, 500, 0, 0.0)]
    #[case(100, 120, 60, 50.0 / 1.5)]
    fn of_a_drive_that_is_in_use_there_is_less(
        #[case] size: u64,
        #[case] drive: u64,
        #[case] free: u64,
        #[case] lasts: f64,
    ) {
        let area = FastArea { size: gb(size), drive: Some((gb(drive), gb(free))) };
        let found = area.lasts(rate(300.0), rate(100.0)).exact() as f64 / 1e9;
        assert!((found - lasts).abs() < 1e-6, "{found}");
        let plainly = by_small_steps(size as f64, drive as f64, (drive - free) as f64, (0.3, 0.1));
        assert!((found - plainly).abs() < 1e-3, "{found} {plainly}");
        assert_eq!(area.lasts(rate(90.0), rate(100.0)), ByteLength::new(u64::MAX), "it never fills");
    }

    #[test]
    fn what_does_not_fit_on_the_cache_goes_on_to_the_disks() {
        let network = Network { name: "the network".into(), rate: rate(1000.0) };
        let found = copy(gb(50), gb(50), None, &network, &ssd(), Some(gb(20)), Some(&disks()));
        assert_eq!(found.stages.last().unwrap().bottleneck, "the disks");
        assert_eq!(found.stages.iter().map(|s| s.bytes).sum::<ByteLength>(), gb(50));
    }

    #[test]
    fn many_small_files_cost_more_than_their_bytes() {
        let network = Network { name: "the network".into(), rate: rate(117.0) };
        let found = copy(gb(1), ByteLength::new(10_000), None, &network, &disks(), None, None);
        assert_eq!(found.bottleneck, "opening and closing so many files");
        assert!(found.duration.seconds() > 2000.0);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn more_takes_longer_and_a_faster_network_never_does(amount in 1..500u64, megabytes in 10.0..2000.0f64) {
            let network = |m: f64| Network { name: "n".into(), rate: rate(m) };
            let time = |amount, m| copy(gb(amount), gb(1), None, &network(m), &ssd(), Some(gb(200)), Some(&disks())).duration.seconds();
            prop_assert!(time(amount, megabytes) < time(amount + 1, megabytes));
            // A faster inflow fills the fast area sooner, but what it saved is never lost again.
            prop_assert!(time(amount, megabytes * 1.1) <= time(amount, megabytes) * (1.0 + 1e-9));
        }
    }
}
