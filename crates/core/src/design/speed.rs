//! How fast one client writes and reads large files.

use schemars::JsonSchema;
use serde::Serialize;

use super::loss::VolumeLosses;
use super::{DesignDisk, Layout, Plan, PlannedVolume};
use crate::ingest::Network;
use crate::pool::Media;
use crate::units::Rate;

/// A speed and what sets it.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Speed {
    /// Bytes per second.
    #[serde(rename = "bytes_per_second")]
    pub rate: Rate,
    /// What the disks alone would take or give, if no network were in the way.
    #[serde(rename = "disks_bytes_per_second")]
    pub disks: Rate,
    /// What is slowest on the way.
    pub bottleneck: String,
}

/// Writing and reading.
pub(super) fn speeds(
    plan: &Plan,
    losses: &[&VolumeLosses],
    disks: &[DesignDisk],
    network: &Network,
) -> (Speed, Speed) {
    let of = |speed: fn(&PlannedVolume, &VolumeLosses, &[DesignDisk]) -> (f64, &'static str)| {
        let each = plan.volumes.iter().zip(losses).map(|(volume, losses)| {
            let (rate, bottleneck) = speed(volume, losses, disks);
            (rate, volume.usable.exact() as f64, bottleneck)
        });
        let each: Vec<_> = each.collect();
        // What is stored is spread over the volumes as their space is.
        let rate = weighted(each.iter().map(|(rate, space, _)| (*rate, *space)));
        slower(rate, each.first().map_or("", |(_, _, bottleneck)| bottleneck), network)
    };
    (of(write_speed), of(read_speed))
}

fn slower(rate: f64, bottleneck: &str, network: &Network) -> Speed {
    let disks = Rate::from_per_second(rate);
    let (rate, bottleneck) =
        if network.rate < disks { (network.rate, network.name.as_str()) } else { (disks, bottleneck) };
    Speed { rate, disks, bottleneck: bottleneck.to_string() }
}

fn mean(disk: &DesignDisk) -> f64 {
    disk.curve.mean().per_second()
}

/// The mean of rates, each with its weight.
fn weighted(rates: impl Iterator<Item = (f64, f64)>) -> f64 {
    let (sum, weight) =
        rates.fold((0.0, 0.0), |(sum, all), (rate, weight)| (sum + rate * weight, all + weight));
    if weight > 0.0 { sum / weight } else { 0.0 }
}

fn average(rates: impl Iterator<Item = f64>) -> f64 {
    weighted(rates.map(|rate| (rate, 1.0)))
}

fn slowest(members: &[usize], disks: &[DesignDisk]) -> f64 {
    members.iter().map(|i| mean(&disks[*i])).fold(f64::INFINITY, f64::min)
}

/// A large file goes whole to one disk, so on average at the mean speed of the data disks; to both of two copies at the
/// slower one's; to a stripe at its strips' together; to flash first where there is some.
fn write_speed(volume: &PlannedVolume, losses: &VolumeLosses, disks: &[DesignDisk]) -> (f64, &'static str) {
    if !volume.cache.is_empty() {
        return (slowest(&volume.cache, disks), "the cache");
    }
    match volume.layout {
        Layout::Tiered { .. } => {
            let fast = volume.data.iter().filter(|i| disks[**i].media != Media::Hdd);
            (average(fast.map(|i| mean(&disks[*i]))), "the fast tier")
        }
        Layout::Mirrored { .. } => {
            let pairs = losses
                .pairs()
                .map(|(pair, bytes)| (slowest(&pair.map(|disk| volume.data[disk]), disks), bytes));
            (weighted(pairs), "one disk")
        }
        Layout::RotatingParity { .. } => (stripe_speed(volume, disks), "the slowest disk"),
        Layout::Spanned | Layout::Unstriped { .. } => (one_disk(volume, disks), "one disk"),
    }
}

/// A large file is read from the disk it lies on; of a cache it has left by then.
fn read_speed(volume: &PlannedVolume, _losses: &VolumeLosses, disks: &[DesignDisk]) -> (f64, &'static str) {
    match volume.layout {
        Layout::RotatingParity { .. } => (stripe_speed(volume, disks), "the slowest disk"),
        _ => (one_disk(volume, disks), "one disk"),
    }
}

fn one_disk(volume: &PlannedVolume, disks: &[DesignDisk]) -> f64 {
    average(volume.data.iter().map(|i| mean(&disks[*i])))
}

fn stripe_speed(volume: &PlannedVolume, disks: &[DesignDisk]) -> f64 {
    let Layout::RotatingParity { parities } = volume.layout else { return 0.0 };
    slowest(&volume.data, disks) * (volume.data.len() - usize::from(parities)) as f64
}
