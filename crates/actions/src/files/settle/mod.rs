//! Settling: what waits on the cache goes to its place on the disks, and files of a tiered volume to their tier.

mod cache;
mod plan;
mod run;
mod tiers;
mod waiting;
mod when;

use std::collections::BTreeMap;
use when::caches_of;
pub(crate) use when::{NANOSECONDS_A_DAY, age_of};
pub use when::{cache_free, cache_reserve, cache_size};

use sieve_core::amounts::Amounts;
use sieve_core::forecast::Forecast;
use sieve_core::pool::{VolumeKind, VolumeSpec};
pub use sieve_core::tiers::Reason;

pub use plan::{CacheSpace, Options, PlannedMove, SettlePlan, TierOutlook, Why};
pub(crate) use run::settle;
pub use run::{SettleReport, execute};
pub use waiting::{CacheStatus, caches};

pub(crate) use waiting::{CachedFile, cached_files};

pub use crate::files::moves::LeftAlone;
use sieve_catalogue::label::Role;
use sieve_core::count::Count;
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::copies::forecast_copies;
use sieve_pool::grounds::is_limited;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::scan;

/// Scans the caches and plans.
///
/// # Errors
/// When the volume has nothing that settles, or a disk that is needed is not there.
pub fn plan(
    pool: &Pool,
    volume: &VolumeSpec,
    options: &Options,
    observer: &dyn Observer,
) -> Result<SettlePlan> {
    let is_tiered = volume.kind == VolumeKind::Tiered;
    if !volume.has_cache() && !is_tiered {
        let message = format!("volume {} has no cache and no tiers: nothing in it settles", volume.name);
        return Err(Error::new(Kind::Usage, "settle.nothing", message)
            .remedy("give it a cache: zinc-sieve grow DISK --as cache"));
    }
    for member in caches_of(pool, volume) {
        member.writable()?;
    }
    let is_looked_at = |m: &Member| m.row.role == Role::Cache || is_tiered || is_limited(m);
    scan::scan_all(pool, |m| m.row.volume == volume.name && is_looked_at(m), observer)?;
    let mut plan = SettlePlan {
        volume: volume.name.clone(),
        files: Vec::new(),
        by_disk: BTreeMap::new(),
        left_alone: Vec::new(),
        holds: false,
        given_up: Count::default(),
        others: 0,
        caches: Vec::new(),
        holds_on_tiers: false,
        tiers: None,
        read_bytes: Amounts::new(),
        written_bytes: Amounts::new(),
        forecast: Forecast::default(),
        moves: Vec::new(),
        to_give_up: Vec::new(),
    };
    if volume.has_cache() {
        cache::plan(pool, volume, options, &mut plan)?;
    }
    // Where the caches are emptied for good, the tiers end as well.
    if is_tiered && !options.everything {
        tiers::plan(pool, volume, options, &mut plan)?;
    }
    plan.forecast = forecast_copies(pool, &plan.read_bytes, &plan.written_bytes)?;
    Ok(plan)
}
