//! How long it takes to copy whole files from disk to disk.

use sieve_core::amounts::Amounts;
use sieve_core::forecast::Forecast;
use sieve_core::units::ByteLength;
use sieve_disk::Result;

use crate::curves::forecast_pass;
use crate::pool::Pool;

/// Forecasts copies of files, bytes by disk: what is read, file by file, while the new disks take it side by side; and then,
/// file by file again, what is read back from them before anything is removed where it was.
///
/// # Errors
/// When the measured curves are damaged.
pub fn forecast_copies(pool: &Pool, read: &Amounts, written: &Amounts) -> Result<Forecast> {
    let (reading, writing) = (Forecast::in_turn(one_by_one(pool, read)?), forecast_pass(pool, written)?);
    let copying = if reading.likely > writing.likely { reading } else { writing };
    Ok(Forecast::in_turn(std::iter::once(copying).chain(one_by_one(pool, written)?)))
}

/// Each disk for itself.
fn one_by_one(pool: &Pool, amounts: &Amounts) -> Result<Vec<Forecast>> {
    let alone = |(disk, bytes): (&String, ByteLength)| {
        forecast_pass(pool, &Amounts::from_iter([(disk.clone(), bytes)]))
    };
    amounts.iter().map(alone).collect()
}
