//! What a verify reads, and how long that takes.

use sieve_catalogue::label::Role;
use sieve_core::amounts::Amounts;
use sieve_core::forecast::Forecast;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_pool::curves::forecast_pass;
use sieve_pool::pool::Pool;

use super::Scope;

/// Bytes of each disk that a verify of everything reads: files, and parity as far as it reaches. A cache is in no rows.
///
/// # Errors
/// What the database says.
pub fn amounts(pool: &Pool, is_meant: impl Fn(&str) -> bool) -> Result<Amounts> {
    let read =
        pool.members.iter().filter(|member| member.row.role != Role::Cache && is_meant(&member.row.volume));
    read.map(|member| Ok((member.row.name.clone(), member.used_bytes(&pool.catalogue)?))).collect()
}

/// What a verify of that scope reads of each disk that is there, and how long it takes; nothing of a folder, since only its
/// files are read and nobody has added them up.
///
/// # Errors
/// When the measured curves are damaged, or what the database says.
pub fn forecast(pool: &Pool, scope: &Scope) -> Result<Option<(Amounts, Forecast)>> {
    let mut amounts = amounts(pool, |_| true)?;
    amounts.retain(|name, _| pool.member_named(name).is_ok_and(|member| member.state.is_usable()));
    match scope {
        Scope::Folder(_) => return Ok(None),
        Scope::Disks(disks) => amounts.retain(|name, _| disks.iter().any(|disk| disk == name)),
        Scope::Share(share) => {
            let part = |bytes: ByteLength| ByteLength::new((bytes.exact() as f64 * share) as u64);
            amounts = amounts.map(part);
        }
        Scope::Whole => {}
    }
    let takes = forecast_pass(pool, &amounts)?;
    Ok(Some((amounts, takes)))
}
