//! The figures by which plans are compared.

use schemars::JsonSchema;
use serde::Serialize;

use super::risk::{PlanRisk, plan_risk};
use super::{DesignDisk, Layout, Loss, Plan, one_more, plans, survives};
use crate::forecast::{Forecast, Participant, Pass, assumed_processor, forecast};
use crate::ingest::Network;
use crate::pool::Price;
use crate::units::{ByteLength, Rate};

/// A speed and what sets it.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Speed {
    /// Bytes per second.
    #[serde(rename = "bytes_per_second")]
    pub rate: Rate,
    /// What is slowest on the way.
    pub bottleneck: String,
}

/// What one disk more would bring.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Addition {
    /// Its size.
    #[serde(rename = "size_bytes")]
    pub size: ByteLength,
    /// How much more could be stored, with every disk given the best part.
    #[serde(rename = "gain_bytes")]
    pub gain: ByteLength,
    /// What has to happen first, in words.
    pub condition: Option<String>,
}

/// The figures of one plan.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Figures {
    /// The plan.
    #[serde(flatten)]
    pub plan: Plan,
    /// What it is called.
    pub name: String,
    /// It is here for comparison only.
    pub is_for_comparison: bool,
    /// What may be stored, as a share of all disks' space (caches left out), from 0 to 1.
    pub share_of_raw: f64,
    /// The space that is given up for safety, or has no part.
    #[serde(rename = "given_up_bytes")]
    pub given_up: ByteLength,
    /// The disks that are given up for that.
    pub disks_given_up: usize,
    /// How many disks may die, whichever they are, with nothing lost.
    pub survives: usize,
    /// What is lost when one more dies.
    pub one_more: Loss,
    /// How fast one client writes a large file.
    pub write: Speed,
    /// How fast one client reads a large file.
    pub read: Speed,
    /// The first sync of a full volume; none where there is no parity to compute.
    pub first_sync: Option<Forecast>,
    /// The rebuild of the largest disk; none where there is nothing to rebuild it from.
    pub rebuild: Option<Forecast>,
    /// What is to be expected to be lost of it in a year.
    pub risk: PlanRisk,
    /// Price for a terabyte that can be used, where all prices are known and of one currency.
    pub price_per_tb: Option<Price>,
    /// What one disk more would bring.
    pub additions: Vec<Addition>,
}

/// Computes the figures of a plan. `additions` are sizes of disks that might come.
pub fn figures(plan: &Plan, disks: &[DesignDisk], network: &Network, additions: &[ByteLength]) -> Figures {
    let members: Vec<usize> = plan.data.iter().chain(&plan.parity).chain(&plan.unused).copied().collect();
    let raw: ByteLength = members.iter().map(|i| disks[*i].size).sum();
    let rebuild = rebuild_pass(plan, disks).map(|pass| forecast(&pass));
    let rebuild_hours = rebuild.as_ref().map_or(0.0, |forecast| forecast.likely.hours());
    Figures {
        name: name(plan),
        is_for_comparison: plan.layout.is_for_comparison(),
        share_of_raw: plan.usable.exact() as f64 / raw.exact().max(1) as f64,
        given_up: raw.minus(plan.usable),
        disks_given_up: disks_given_up(plan),
        survives: survives(plan, disks),
        one_more: one_more(plan, disks),
        write: slower(write_speed(plan, disks), network),
        read: slower(read_speed(plan, disks), network),
        first_sync: sync_pass(plan, disks).map(|pass| forecast(&pass)),
        rebuild,
        risk: plan_risk(plan, disks, rebuild_hours),
        price_per_tb: price_per_tb(plan, disks),
        additions: additions.iter().map(|size| addition(plan, disks, *size)).collect(),
        plan: plan.clone(),
    }
}

fn name(plan: &Plan) -> String {
    match plan.cache.len() {
        0 => plan.layout.name(),
        1 => format!("{} + cache", plan.layout.name()),
        n => format!("{} + cache on {n}", plan.layout.name()),
    }
}

/// Parity drives, second halves of pairs, the strips of parity in disks, and what has no part.
fn disks_given_up(plan: &Plan) -> usize {
    let for_safety = match plan.layout {
        Layout::MirroredPairs => plan.data.len() / 2,
        Layout::RotatingParity { parities } => usize::from(parities),
        Layout::Spanned | Layout::Tiered | Layout::Unstriped { .. } => plan.parity.len(),
    };
    for_safety + plan.unused.len()
}

fn mean(disk: &DesignDisk) -> f64 {
    disk.curve.mean().per_second()
}

fn average(rates: impl Iterator<Item = f64>) -> f64 {
    let (sum, count) = rates.fold((0.0, 0u32), |(sum, count), rate| (sum + rate, count + 1));
    sum / f64::from(count.max(1))
}

fn slowest(members: &[usize], disks: &[DesignDisk]) -> f64 {
    members.iter().map(|i| mean(&disks[*i])).fold(f64::INFINITY, f64::min)
}

/// A large file goes whole to one disk, so on average at the mean speed of the data disks; to both of a pair at the
/// slower one's; to a stripe at its strips' together; to flash first where there is some.
fn write_speed(plan: &Plan, disks: &[DesignDisk]) -> Speed {
    if !plan.cache.is_empty() {
        let rate = Rate::from_per_second(slowest(&plan.cache, disks));
        return Speed { rate, bottleneck: "the cache".into() };
    }
    let (rate, bottleneck) = match plan.layout {
        Layout::Tiered => {
            let fast: Vec<usize> =
                plan.data.iter().copied().filter(|i| disks[*i].media != crate::pool::Media::Hdd).collect();
            (average(fast.iter().map(|i| mean(&disks[*i]))), "the fast tier")
        }
        Layout::MirroredPairs => (average(plan.data.chunks(2).map(|pair| slowest(pair, disks))), "one disk"),
        Layout::RotatingParity { .. } => (stripe_speed(plan, disks), "the slowest disk"),
        Layout::Spanned | Layout::Unstriped { .. } => {
            (average(plan.data.iter().map(|i| mean(&disks[*i]))), "one disk")
        }
    };
    Speed { rate: Rate::from_per_second(rate), bottleneck: bottleneck.into() }
}

/// A large file is read from the disk it lies on; of a cache it has left by then.
fn read_speed(plan: &Plan, disks: &[DesignDisk]) -> Speed {
    let rate = match plan.layout {
        Layout::RotatingParity { .. } => stripe_speed(plan, disks),
        _ => average(plan.data.iter().map(|i| mean(&disks[*i]))),
    };
    let bottleneck = if plan.layout.is_for_comparison() { "the slowest disk" } else { "one disk" };
    Speed { rate: Rate::from_per_second(rate), bottleneck: bottleneck.into() }
}

fn stripe_speed(plan: &Plan, disks: &[DesignDisk]) -> f64 {
    let Layout::RotatingParity { parities } = plan.layout else { return 0.0 };
    slowest(&plan.data, disks) * (plan.data.len() - usize::from(parities)) as f64
}

fn slower(speed: Speed, network: &Network) -> Speed {
    if network.rate < speed.rate {
        Speed { rate: network.rate, bottleneck: network.name.clone() }
    } else {
        speed
    }
}

/// A pass over some disks, each to its end, with the links that they share.
fn pass<'a>(members: impl Iterator<Item = (&'a DesignDisk, ByteLength)>) -> Pass {
    let mut pass = Pass { processor: Some(assumed_processor()), ..Pass::default() };
    for (disk, end) in members {
        let link = disk.link.as_ref().map(|link| {
            let known = pass.links.iter().position(|l| l.name == link.name);
            known.unwrap_or_else(|| {
                pass.links.push(link.clone());
                pass.links.len() - 1
            })
        });
        pass.disks.push(Participant {
            name: disk.name.clone(),
            end: end.min(disk.size),
            capacity: disk.size,
            curve: disk.curve.clone(),
            link,
        });
    }
    pass
}

fn largest(members: &[usize], disks: &[DesignDisk]) -> ByteLength {
    members.iter().map(|i| disks[*i].size).max().unwrap_or_default()
}

/// Every data disk is read to its end while parity is written as far as the largest of them reaches.
fn sync_pass(plan: &Plan, disks: &[DesignDisk]) -> Option<Pass> {
    match plan.layout {
        Layout::Unstriped { parities } if parities > 0 => {
            let end = largest(&plan.data, disks);
            let data = plan.data.iter().map(|i| (&disks[*i], disks[*i].size));
            Some(pass(data.chain(plan.parity.iter().map(|i| (&disks[*i], end)))))
        }
        Layout::RotatingParity { .. } => {
            let end = plan.data.iter().map(|i| disks[*i].size).min().unwrap_or_default();
            Some(pass(plan.data.iter().map(|i| (&disks[*i], end))))
        }
        _ => None,
    }
}

/// The largest data disk comes back onto one like it: all others are read as far as it reaches.
fn rebuild_pass(plan: &Plan, disks: &[DesignDisk]) -> Option<Pass> {
    match plan.layout {
        Layout::Unstriped { parities } if parities > 0 => {
            let end = largest(&plan.data, disks);
            Some(pass(plan.data.iter().chain(&plan.parity).map(|i| (&disks[*i], end))))
        }
        Layout::RotatingParity { .. } => sync_pass(plan, disks),
        Layout::MirroredPairs => {
            let smaller = |pair: &&[usize]| pair.iter().map(|i| disks[*i].size).min();
            let pair = plan.data.chunks(2).max_by_key(smaller)?;
            let end = smaller(&pair)?;
            Some(pass(pair.iter().map(|i| (&disks[*i], end))))
        }
        _ => None,
    }
}

fn price_per_tb(plan: &Plan, disks: &[DesignDisk]) -> Option<Price> {
    let used = plan.data.iter().chain(&plan.parity).chain(&plan.cache).chain(&plan.unused);
    let prices: Vec<_> = used.map(|i| disks[*i].price.as_ref()).collect::<Option<_>>()?;
    let currency = prices.first()?.currency.clone();
    let is_one = prices.iter().all(|p| p.currency == currency);
    let sum: u64 = prices.iter().map(|p| p.hundredths).sum();
    let hundredths = (sum as f64 / (plan.usable.exact() as f64 / 1e12)).round() as u64;
    is_one.then_some(Price { hundredths, currency })
}

fn addition(plan: &Plan, disks: &[DesignDisk], size: ByteLength) -> Addition {
    let media = plan.data.iter().find(|i| disks[**i].media == crate::pool::Media::Hdd);
    let media = media.or(plan.data.first()).map_or(crate::pool::Media::Hdd, |i| disks[*i].media);
    let mut more = disks.to_vec();
    more.push(DesignDisk::on_paper("new", size, media));
    let then =
        plans(&more).into_iter().find(|p| p.layout == plan.layout && p.cache.len() == plan.cache.len());
    let gain = then.map_or(ByteLength::ZERO, |p| p.usable.minus(plan.usable));
    let smallest_parity = plan.parity.iter().map(|i| disks[*i].size).min();
    let condition = match (plan.layout, smallest_parity) {
        (Layout::Unstriped { parities }, Some(parity)) if size > parity => {
            let drives =
                if parities == 1 { "a parity drive".into() } else { format!("{parities} parity drives") };
            Some(format!("a {size} data disk needs {drives} of {size} first (as one it frees {parity})"))
        }
        (Layout::RotatingParity { .. }, _) => Some("every disk counts as the smallest one".into()),
        (Layout::MirroredPairs, _) if gain == ByteLength::ZERO => Some("it has no partner yet".into()),
        _ => None,
    };
    Addition { size, gain, condition }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::parse_disks;
    use crate::pool::{Media, Price};
    use rstest::rstest;

    fn network(rate: f64) -> Network {
        Network { name: "the network".into(), rate: Rate::from_per_second(rate) }
    }

    fn of(disks: &[DesignDisk], layout: Layout, cached: bool, rate: f64) -> Figures {
        let plans = plans(disks);
        let plan = plans.iter().find(|p| p.layout == layout && p.cache.is_empty() != cached).unwrap();
        figures(
            plan,
            disks,
            &network(rate),
            &[ByteLength::new(8_000_000_000_000), ByteLength::new(14_000_000_000_000)],
        )
    }

    fn shelf() -> Vec<DesignDisk> {
        let mut disks = parse_disks("12TB,10TB,2x6TB,4TB", Media::Hdd).unwrap();
        disks.extend(parse_disks("1TB", Media::Ssd).unwrap());
        disks
    }

    const ONE_PARITY: Layout = Layout::Unstriped { parities: 1 };

    #[test]
    fn the_figures_of_one_parity_drive_by_hand() {
        let found = of(&shelf(), ONE_PARITY, false, 117e6);
        // 26 of 38 TB and the SSD without a part.
        assert!((found.share_of_raw - 26.0 / 39.0).abs() < 1e-9);
        assert_eq!((found.given_up.to_string().as_str(), found.disks_given_up), ("13.0 TB", 2));
        // 180 falling to 90 MB/s is 129.84 MB/s on the mean: the network is slower.
        assert_eq!((found.write.bottleneck.as_str(), found.write.rate.per_second()), ("the network", 117e6));
        let faster = of(&shelf(), ONE_PARITY, false, 1e9);
        assert_eq!(faster.write.bottleneck, "one disk");
        assert!((faster.write.rate.per_second() / 1e6 - 129.84).abs() < 0.01);
        assert_eq!(of(&shelf(), ONE_PARITY, true, 1e9).write.rate.per_second(), 450e6);
    }

    #[test]
    fn a_rebuild_reads_as_far_as_the_lost_disk_reaches() {
        let found = of(&shelf(), ONE_PARITY, false, 1e9);
        let (sync, rebuild) = (found.first_sync.unwrap(), found.rebuild.unwrap());
        assert_eq!(sync.likely, rebuild.likely, "the largest disk decides both");
        // The 10 TB disk alone from 180 to 90 MB/s takes 10e12 / 129.84e6 s; the smaller ones hold it up at their ends.
        assert!(rebuild.likely.seconds() > 10e12 / 129.85e6 && rebuild.likely.hours() < 30.0);
        assert_eq!(of(&shelf(), Layout::Spanned, false, 1e9).rebuild, None);
        assert_eq!(of(&shelf(), Layout::MirroredPairs, false, 1e9).first_sync, None);
    }

    #[rstest]
    #[case(ONE_PARITY, 0, "8.0 TB", None)]
    #[case(ONE_PARITY, 1, "12.0 TB", Some("a 14.0 TB data disk needs a parity drive of 14.0 TB first"))]
    #[case(Layout::Spanned, 1, "14.0 TB", None)]
    #[case(Layout::MirroredPairs, 0, "4.0 TB", None)]
    #[case(Layout::RotatingParity { parities: 1 }, 0, "4.0 TB", Some("smallest"))]
    fn one_more_disk(
        #[case] layout: Layout,
        #[case] which: usize,
        #[case] gain: &str,
        #[case] condition: Option<&str>,
    ) {
        let found = of(&shelf(), layout, false, 1e9);
        let addition = &found.additions[which];
        assert_eq!(addition.gain.to_string(), gain);
        assert_eq!(addition.condition.is_some(), condition.is_some());
        assert!(condition.is_none_or(|words| addition.condition.as_ref().unwrap().contains(words)));
    }

    #[test]
    fn a_shared_link_makes_a_sync_longer() {
        let mut disks = shelf();
        let alone = of(&disks, ONE_PARITY, false, 1e9).first_sync.unwrap();
        let link = crate::forecast::Link { name: "card-a".into(), rate: Rate::from_per_second(200e6) };
        disks.iter_mut().for_each(|d| d.link = Some(link.clone()));
        let shared = of(&disks, ONE_PARITY, false, 1e9).first_sync.unwrap();
        assert!(shared.likely > alone.likely);
        assert_eq!(shared.bottleneck, "the link card-a");
    }

    #[test]
    fn a_price_is_told_only_when_all_are_known() {
        let mut disks = parse_disks("4TB,4TB", Media::Hdd).unwrap();
        disks[0].price = Price::parse("100 EUR");
        assert_eq!(of(&disks, ONE_PARITY, false, 1e9).price_per_tb, None);
        disks[1].price = Price::parse("80 EUR");
        assert_eq!(of(&disks, ONE_PARITY, false, 1e9).price_per_tb, Price::parse("45 EUR"));
        disks[1].price = Price::parse("80 USD");
        assert_eq!(of(&disks, ONE_PARITY, false, 1e9).price_per_tb, None);
    }
}
