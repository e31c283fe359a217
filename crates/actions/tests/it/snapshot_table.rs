//! Guards against a snapshot in the database that is not the one in memory: intervals cut, joined and replaced at
//! checkpoints, against a row-by-row model.
#![allow(clippy::unwrap_used, reason = "a test may fail")]

use std::sync::Arc;

use proptest::prelude::*;
use sieve_catalogue::{Catalogue, Identity, parity_state};
use sieve_core::lane::{LaneMap, Piece, Rows};
use sieve_core::units::{DiskId, VersionId};
use sieve_disk::machine::{Clock, RealMachine};
use sieve_testkit::scratch;
use uuid::Uuid;

const ROWS: u64 = 64;

/// What one checkpoint does: the pieces of the target (start, length, version), and which cells of 8 rows it takes.
type Drawn = (Vec<(u64, u64, i64)>, Vec<bool>);

fn checkpoint() -> impl Strategy<Value = Drawn> {
    let pieces = prop::collection::vec((0..ROWS, 1..20u64, 1..6i64), 0..6);
    (pieces, prop::collection::vec(any::<bool>(), (ROWS / 8) as usize))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn the_lane_in_the_database_is_the_one_that_was_committed(checkpoints in prop::collection::vec(checkpoint(), 1..6)) {
        let folder = scratch();
        let identity = Identity { pool: Uuid::nil(), name: "fernhollow".into() };
        let machine = Arc::new(RealMachine { clock: Clock::Fixed(0) });
        let catalogue = Catalogue::create(&folder.path().join("c.sqlite"), machine, &identity).unwrap();
        let disk = DiskId::new(1);
        let mut naive: Vec<Option<Piece>> = vec![None; ROWS as usize + 32];
        for (pieces, cells) in checkpoints {
            let mut target = LaneMap::default();
            for (start, length, version) in pieces {
                target.insert(Rows::at(start, length), Piece { version: VersionId::new(version), offset: start });
            }
            catalogue.transaction(|t| {
                for (cell, _) in cells.iter().enumerate().filter(|(_, taken)| **taken) {
                    let rows = Rows::at(cell as u64 * 8, 8);
                    parity_state::set_lane(t, disk, rows, &target, |version| version)?;
                    for row in rows.start()..rows.end() {
                        naive[row as usize] = target.at(row);
                    }
                }
                Ok(())
            }).unwrap();
            let lane = parity_state::lane(catalogue.reading(), disk).unwrap();
            for row in 0..ROWS {
                prop_assert_eq!(lane.at(row), naive[row as usize], "row {}", row);
            }
            // The other disk's lane is not touched by it.
            prop_assert!(parity_state::lane(catalogue.reading(), DiskId::new(2)).unwrap().is_empty());
        }
    }
}
