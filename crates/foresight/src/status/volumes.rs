//! Each volume at a glance: how large it is, how full, and when it will be full.

use sieve_catalogue::label::Role;
use sieve_core::mirror;
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_pool::pool::Pool;

use super::filling::filling_of;
use super::report::{DiskStatus, VolumeStatus};

/// Nanoseconds in a day.
const DAY: f64 = 86_400e9;

/// The sizes of a volume by its disks and its limit.
pub(crate) fn sizes(volume: &VolumeSpec, disks: &[DiskStatus], limit: Option<ByteLength>) -> VolumeStatus {
    let copies = if volume.kind == VolumeKind::Mirrored { volume.copies.max(1) } else { 1 };
    let data = || disks.iter().filter(|d| d.volume == volume.name && d.role == Role::Data);
    let sizes: Vec<ByteLength> = data().map(|d| d.used.plus(d.free)).collect();
    let space = mirror::space(&sizes, copies);
    // A limit is of what the disks hold, with all copies.
    let once = |bytes: ByteLength| ByteLength::new(bytes.exact() / copies as u64);
    let used = once(data().map(|d| d.used).sum());
    let total = limit.map_or(space, |limit| once(limit).min(space));
    VolumeStatus {
        name: volume.name.clone(),
        kind: volume.kind,
        total,
        used,
        free: total.minus(used),
        full_about: None,
        fills_first: None,
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
        let mut status = sizes(&volume, disks, limit);
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
