//! How often something is done, as the journal tells.

use sieve_disk::{Error, Result};
use sieve_foresight::risk::Regularity;
use sieve_pool::journal::{self, Did};
use sieve_pool::pool::Pool;

/// So many past syncs tell how often there is one.
const SYNCS: usize = 10;
/// Fewer gaps than these, or over fewer days, are no habit.
const LEAST_GAPS: usize = 3;
const LEAST_DAYS: f64 = 3.0;

/// How regularly the pool was synced and settled, as its journal tells.
///
/// # Errors
/// What the disk says.
pub(crate) fn regularity(pool: &Pool, now: i64) -> Result<Regularity> {
    let regular = |what: &Did| Ok::<_, Error>(mean_gap(&journal::times(&*pool.home, what, SYNCS + 1)?, now));
    Ok(Regularity { syncs: regular(&Did::Sync)?, settlings: regular(&Did::Settle)? })
}

/// Days from one time to the next, over the last ones; none where they are too few, or too close together, to be a habit.
fn mean_gap(times: &[i64], now: i64) -> Option<f64> {
    let recent = &times[times.len().saturating_sub(SYNCS + 1)..];
    let (first, last) = (*recent.first()?, *recent.last()?);
    let gaps = recent.len() - 1;
    let days = |from: i64, to: i64| to.saturating_sub(from) as f64 / 86_400e9;
    if gaps < LEAST_GAPS || days(first, last) < LEAST_DAYS {
        return None;
    }
    // Who has not done it for long does it less often than before.
    Some((days(first, last) / gaps as f64).max(days(first, now) / (gaps + 1) as f64))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[], 9, None)]
    #[case(&[5], 9, None)]
    #[case::two_are_no_habit(&[5, 9], 9, None)]
    #[case::all_on_one_day(&[5, 5, 5, 5, 6], 9, None)]
    #[case(&[0, 2, 4, 9], 9, Some(3.0))]
    #[case::not_done_for_long(&[0, 1, 2, 3], 19, Some(19.0 / 4.0))]
    fn past_syncs_tell_how_often_there_is_one(
        #[case] days: &[i64],
        #[case] now: i64,
        #[case] gap: Option<f64>,
    ) {
        let times: Vec<i64> = days.iter().map(|day| day * DAY).collect();
        assert_eq!(mean_gap(&times, now * DAY), gap);
    }

    const DAY: i64 = 86_400_000_000_000;

    #[test]
    fn only_the_last_syncs_count() {
        let mut times: Vec<i64> = (0..5).map(|n| n * 30 * DAY).collect();
        let last = times[4];
        times.extend((1..=10).map(|n| last + n * DAY));
        assert_eq!(mean_gap(&times, *times.last().unwrap()), Some(1.0));
    }
}
