//! The figures by which plans are compared.

use std::rc::Rc;

use schemars::JsonSchema;
use serde::Serialize;

use super::loss::{VolumeLosses, one_more, survives};
use super::passes::{first_sync, rebuild};
use super::risk::{PlanRisk, volume_risk};
use super::saving::{Weighed, price_per_saved_tb};
use super::speed::{Speed, speeds};
use super::{DesignDisk, Layout, Loss, Plan, plans};
use crate::forecast::Forecast;
use crate::ingest::Network;
use crate::pool::{Media, Price};
use crate::units::ByteLength;

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
    /// What each terabyte costs that it keeps from being lost, beyond what the largest plan that survives less keeps;
    /// with the price of the disks spread over five years. None where that is not known.
    pub price_per_saved_tb: Option<Price>,
    /// What one disk more would bring.
    pub additions: Vec<Addition>,
}

/// The plans of all disks and one more.
struct More {
    size: ByteLength,
    plans: Vec<Plan>,
}

/// Computes the figures of plans of the same disks. `additions` are sizes of disks that might come.
pub fn figures(
    plans: &[Plan],
    disks: &[DesignDisk],
    network: &Network,
    additions: &[ByteLength],
) -> Vec<Figures> {
    let more: Vec<More> = additions.iter().map(|size| with_one_more(disks, *size)).collect();
    let mut all: Vec<Figures> = plans.iter().map(|plan| figures_of(plan, disks, network, &more)).collect();
    let weighed: Vec<Weighed> = all.iter().map(weigh).collect();
    for (position, figures) in all.iter_mut().enumerate() {
        figures.price_per_saved_tb = price_per_saved_tb(&weighed, position);
    }
    all
}

fn weigh(figures: &Figures) -> Weighed {
    Weighed {
        is_for_comparison: figures.is_for_comparison,
        survives: figures.survives,
        usable: figures.plan.usable,
        lost: figures.risk.bytes,
        price_per_tb: figures.price_per_tb.clone(),
    }
}

fn figures_of(plan: &Plan, disks: &[DesignDisk], network: &Network, more: &[More]) -> Figures {
    let members: Vec<usize> = plan.members().chain(plan.unused.iter().copied()).collect();
    let raw: ByteLength = members.iter().map(|i| disks[*i].size).sum();
    let losses: Vec<Rc<VolumeLosses>> =
        plan.volumes.iter().map(|volume| Rc::new(VolumeLosses::new(volume, disks))).collect();
    let each: Vec<&VolumeLosses> = losses.iter().map(|losses| &**losses).collect();
    let (mut longest, mut risk): (Option<Forecast>, _) = (None, PlanRisk::default());
    for (volume, losses) in plan.volumes.iter().zip(&losses) {
        let rebuild = rebuild(volume, losses, disks);
        let hours = rebuild.as_ref().map_or(0.0, |forecast| forecast.likely.hours());
        risk = risk.and(volume_risk(volume, Rc::clone(losses), disks, hours));
        longest = longest
            .into_iter()
            .chain(rebuild)
            .max_by(|a, b| a.likely.seconds().total_cmp(&b.likely.seconds()));
    }
    let (write, read) = speeds(plan, &each, disks, network);
    Figures {
        name: plan.name(),
        is_for_comparison: plan.is_for_comparison(),
        share_of_raw: plan.usable.exact() as f64 / raw.exact().max(1) as f64,
        given_up: raw.minus(plan.usable),
        disks_given_up: disks_given_up(plan),
        survives: survives(&each),
        one_more: one_more(&each),
        write,
        read,
        first_sync: first_sync(plan, disks),
        rebuild: longest,
        risk,
        price_per_tb: price_per_tb(plan, disks),
        price_per_saved_tb: None,
        additions: more.iter().map(|more| addition(plan, disks, more)).collect(),
        plan: plan.clone(),
    }
}

/// Parity drives, second halves of pairs, the strips of parity in disks, and what has no part.
fn disks_given_up(plan: &Plan) -> usize {
    let for_safety = plan.volumes.iter().map(|volume| match volume.layout {
        Layout::Mirrored { .. } => volume.data.len() / 2 + volume.parity.len(),
        Layout::RotatingParity { parities } => usize::from(parities),
        Layout::Spanned | Layout::Tiered { .. } | Layout::Unstriped { .. } => volume.parity.len(),
    });
    for_safety.sum::<usize>() + plan.unused.len()
}

fn price_per_tb(plan: &Plan, disks: &[DesignDisk]) -> Option<Price> {
    let used = plan.members().chain(plan.caches()).chain(plan.unused.iter().copied());
    let prices: Vec<_> = used.map(|i| disks[i].price.as_ref()).collect::<Option<_>>()?;
    let currency = prices.first()?.currency.clone();
    let is_one = prices.iter().all(|p| p.currency == currency);
    let sum: u64 = prices.iter().map(|p| p.hundredths).sum();
    let hundredths = (sum as f64 / (plan.usable.exact() as f64 / 1e12)).round() as u64;
    is_one.then_some(Price { hundredths, currency })
}

/// The disk that comes is a hard disk where there are some.
fn with_one_more(disks: &[DesignDisk], size: ByteLength) -> More {
    let hdd = disks.iter().any(|disk| disk.media == Media::Hdd);
    let media = if hdd { Media::Hdd } else { disks.first().map_or(Media::Hdd, |disk| disk.media) };
    let mut all = disks.to_vec();
    all.push(DesignDisk::on_paper("new", size, media));
    More { size, plans: plans(&all) }
}

fn addition(plan: &Plan, disks: &[DesignDisk], more: &More) -> Addition {
    let look = |plan: &Plan| {
        (plan.volumes.iter().map(|volume| volume.layout).collect::<Vec<_>>(), plan.caches().count())
    };
    let then = more.plans.iter().filter(|then| look(then) == look(plan)).map(|then| then.usable).max();
    let gain = then.map_or(ByteLength::ZERO, |usable| usable.minus(plan.usable));
    let size = more.size;
    let volume = (plan.volumes.len() == 1).then(|| &plan.volumes[0]);
    let smallest_parity = volume.and_then(|volume| volume.parity.iter().map(|i| disks[*i].size).min());
    let condition = match (plan.layout(), smallest_parity) {
        (Some(Layout::RotatingParity { .. }), _) => Some("every disk counts as the smallest one".into()),
        (_, Some(parity)) if size > parity => {
            let count = volume.map_or(0, |volume| volume.parity.len());
            let drives = if count == 1 { "a parity drive".into() } else { format!("{count} parity drives") };
            Some(format!("a {size} data disk needs {drives} of {size} first (as one it frees {parity})"))
        }
        (Some(Layout::Mirrored { .. }), _) if gain == ByteLength::ZERO => {
            Some("no other disk has room for the copies".into())
        }
        _ => None,
    };
    Addition { size, gain, condition }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::parse_disks;
    use crate::units::Rate;
    use rstest::rstest;

    fn network(rate: f64) -> Network {
        Network { name: "the network".into(), rate: Rate::from_per_second(rate) }
    }

    fn of(disks: &[DesignDisk], layout: Layout, cached: bool, rate: f64) -> Figures {
        let plans = plans(disks);
        let is_asked = |p: &Plan| p.layout() == Some(layout) && (p.caches().count() > 0) == cached;
        let at = plans.iter().position(is_asked).unwrap();
        let additions = [ByteLength::new(8_000_000_000_000), ByteLength::new(14_000_000_000_000)];
        figures(&plans[at..=at], disks, &network(rate), &additions).remove(0)
    }

    fn shelf() -> Vec<DesignDisk> {
        let mut disks = parse_disks("12TB,10TB,2x6TB,4TB", Media::Hdd).unwrap();
        disks.extend(parse_disks("1TB", Media::Ssd).unwrap());
        disks
    }

    const MIRROR: Layout = Layout::Mirrored { parities: 0 };
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
        let cached = of(&shelf(), ONE_PARITY, true, 117e6).write;
        assert_eq!((cached.rate.per_second(), cached.bottleneck.as_str()), (117e6, "the network"));
        assert!(
            (cached.disks.per_second() / 450e6 - 1.0).abs() < 1e-9,
            "what the network hides is told as well"
        );
    }

    #[test]
    fn a_rebuild_reads_as_far_as_the_lost_disk_reaches() {
        let found = of(&shelf(), ONE_PARITY, false, 1e9);
        let (sync, rebuild) = (found.first_sync.unwrap(), found.rebuild.unwrap());
        assert_eq!(sync.likely, rebuild.likely, "the largest disk decides both");
        // The 10 TB disk alone from 180 to 90 MB/s takes 10e12 / 129.84e6 s; the smaller ones hold it up at their ends.
        assert!(rebuild.likely.seconds() > 10e12 / 129.85e6 && rebuild.likely.hours() < 30.0);
        assert_eq!(of(&shelf(), Layout::Spanned, false, 1e9).rebuild, None);
        assert_eq!(of(&shelf(), MIRROR, false, 1e9).first_sync, None);
    }

    #[rstest]
    #[case(ONE_PARITY, 0, "8.0 TB", None)]
    #[case(ONE_PARITY, 1, "12.0 TB", Some("a 14.0 TB data disk needs a parity drive of 14.0 TB first"))]
    #[case(Layout::Spanned, 1, "14.0 TB", None)]
    #[case(MIRROR, 0, "4.0 TB", None)]
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
