//! What is read from and written to the disks of a pool while something runs.

use std::collections::BTreeMap;

use sieve_core::amounts::Amounts;
use sieve_core::units::ByteLength;

use crate::pool::Pool;

/// The counters of all disks, when something began.
pub struct Traffic {
    before: BTreeMap<String, (u64, u64)>,
}

impl Traffic {
    /// Begins to count.
    pub fn begin(pool: &Pool) -> Self {
        Self { before: counters(pool) }
    }

    /// What was read and what was written since.
    pub fn since(&self, pool: &Pool) -> (Amounts, Amounts) {
        let (mut read, mut written) = (Amounts::new(), Amounts::new());
        for (name, (now_read, now_written)) in counters(pool) {
            let (read_before, written_before) = self.before.get(&name).copied().unwrap_or_default();
            read.set(&name, ByteLength::new(now_read - read_before));
            written.set(&name, ByteLength::new(now_written - written_before));
        }
        (read, written)
    }
}

/// Bytes read and written by each disk.
fn counters(pool: &Pool) -> BTreeMap<String, (u64, u64)> {
    let of = |m: &crate::member::Member| m.disk.as_ref().map_or((0, 0), |disk| disk.flow().totals());
    pool.members.iter().map(|m| (m.row.name.clone(), of(m))).collect()
}
