//! Each volume at a glance: how large it is, how full, and when it will be full.

use serde::Serialize;
use sieve_catalogue::label::Role;
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_pool::pool::Pool;

use super::filling::filling_of;
use super::report::DiskStatus;

/// Nanoseconds in a day.
const DAY: f64 = 86_400e9;

/// One volume.
#[derive(Clone, Debug, Serialize)]
pub struct VolumeStatus {
    /// Its name.
    pub name: String,
    /// How it lays files over its disks.
    pub kind: VolumeKind,
    /// What it can hold: by this disks are bought. Copies count once; the cache in front of it does not.
    pub total: ByteLength,
    /// What is on its data disks.
    pub used: ByteLength,
    /// What still fits.
    pub free: ByteLength,
    /// When the first of its data disks will be full, nanoseconds since 1970; none where none grows, or little is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub full_about: Option<i64>,
    /// That disk.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fills_first: Option<String>,
}

impl VolumeStatus {
    /// The sizes of a volume by its disks and its limit.
    pub(crate) fn of(volume: &VolumeSpec, disks: &[DiskStatus], limit: Option<ByteLength>) -> Self {
        let copies = if volume.kind == VolumeKind::Mirrored { volume.copies.max(1) as u64 } else { 1 };
        let data = || disks.iter().filter(|d| d.volume == volume.name && d.role == Role::Data);
        let of_data = |amount: fn(&DiskStatus) -> ByteLength| {
            ByteLength::new(data().map(amount).sum::<ByteLength>().exact() / copies)
        };
        let (used, free) = (of_data(|d| d.used), of_data(|d| d.free));
        let total = limit.map_or(used.plus(free), |limit| limit.min(used.plus(free)));
        Self {
            name: volume.name.clone(),
            kind: volume.kind,
            total,
            used,
            free: total.minus(used),
            full_about: None,
            fills_first: None,
        }
    }
}

/// Every volume of a pool, with when it will be full by the samples of the last months.
///
/// # Errors
/// What the database says.
pub(super) fn volumes(pool: &Pool, disks: &[DiskStatus], now: i64) -> Result<Vec<VolumeStatus>> {
    let mut all = Vec::new();
    for volume in pool.volumes() {
        let limit = pool.size_limit(&volume)?.map(|(_, limit)| limit);
        let mut status = VolumeStatus::of(&volume, disks, limit);
        let mut first: Option<(f64, &str)> = None;
        for disk in disks.iter().filter(|d| d.volume == volume.name && d.role == Role::Data) {
            let Some(filling) = filling_of(pool, disk)? else { continue };
            if first.is_none_or(|(days, _)| filling.likely < days) {
                first = Some((filling.likely, &disk.name));
            }
        }
        status.full_about = first.map(|(days, _)| now.saturating_add((days * DAY) as i64));
        status.fills_first = first.map(|(_, name)| name.to_string());
        all.push(status);
    }
    Ok(all)
}
