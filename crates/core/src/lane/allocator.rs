//! Finding room in a lane for new content.

use std::collections::BTreeMap;

use super::{LaneMap, Rows};

/// Most gaps that are looked at for one that holds a request whole.
const GAPS_TRIED: usize = 256;

/// Hands out rows of one lane, each at most once.
///
/// Rows that are zero in the snapshot come first, since writing to them weakens no other file; rows that
/// the snapshot still uses, and the coming one does not, only when there is nothing else.
#[derive(Debug)]
pub struct LaneAllocator {
    zero: BTreeMap<u64, u64>,
    leaving: BTreeMap<u64, u64>,
}

impl LaneAllocator {
    /// Prepares to add to `target`, where `snapshot` is what parity encodes now and the lane ends at row `limit`.
    pub fn new(snapshot: &LaneMap, target: &LaneMap, limit: u64) -> Self {
        let taken = |maps: [&LaneMap; 2]| {
            let mut rows: Vec<Rows> = maps.iter().flat_map(|m| m.iter().map(|i| i.rows)).collect();
            rows.sort_unstable();
            rows
        };
        let zero = gaps(&taken([snapshot, target]), limit);
        let mut not_leaving = taken([target, target]);
        not_leaving.extend(zero.iter().map(|(start, end)| Rows::new(*start, *end)));
        not_leaving.sort_unstable();
        Self { zero, leaving: gaps(&not_leaving, limit) }
    }

    /// Takes `count` granules: in one stretch where one fits, else in several; nothing if there is no room.
    pub fn take(&mut self, count: u64) -> Option<Vec<Rows>> {
        if count == 0 {
            return Some(Vec::new());
        }
        let whole = self
            .zero
            .iter()
            .take(GAPS_TRIED)
            .chain(self.zero.last_key_value())
            .find(|(start, end)| *end - *start >= count)
            .map(|(start, _)| *start);
        if let Some(start) = whole {
            return Some(vec![cut(&mut self.zero, start, count)]);
        }
        let free: u64 = self.zero.iter().chain(&self.leaving).map(|(s, e)| e - s).sum();
        if free < count {
            return None;
        }
        let mut taken = Vec::new();
        let mut wanted = count;
        for gaps in [&mut self.zero, &mut self.leaving] {
            while wanted > 0
                && let Some((start, end)) = gaps.first_key_value().map(|(s, e)| (*s, *e))
            {
                let rows = cut(gaps, start, wanted.min(end - start));
                wanted -= rows.length();
                taken.push(rows);
            }
        }
        Some(taken)
    }
}

fn cut(gaps: &mut BTreeMap<u64, u64>, start: u64, count: u64) -> Rows {
    let end = gaps.remove(&start).expect("the gap was just found");
    if start + count < end {
        gaps.insert(start + count, end);
    }
    Rows::at(start, count)
}

fn gaps(taken: &[Rows], limit: u64) -> BTreeMap<u64, u64> {
    let mut gaps = BTreeMap::new();
    let mut free_from = 0;
    for rows in taken {
        if rows.start() > free_from && free_from < limit {
            gaps.insert(free_from, rows.start().min(limit));
        }
        free_from = free_from.max(rows.end());
    }
    if free_from < limit {
        gaps.insert(free_from, limit);
    }
    gaps
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lane::Piece;
    use crate::units::VersionId;
    use proptest::prelude::*;

    fn map(spots: &[(u64, u64)]) -> LaneMap {
        let mut map = LaneMap::default();
        for (version, (start, length)) in spots.iter().enumerate() {
            map.insert(
                Rows::at(*start, *length),
                Piece { version: VersionId::new(version as i64), offset: 0 },
            );
        }
        map
    }

    proptest! {
        #[test]
        fn agrees_with_a_naive_model(
            snapshot in prop::collection::vec((0..60u64, 1..9u64), 0..8),
            target in prop::collection::vec((0..60u64, 1..9u64), 0..8),
            requests in prop::collection::vec(1..12u64, 0..12),
        ) {
            let (snapshot, target) = (map(&snapshot), map(&target));
            let limit = 70;
            let mut allocator = LaneAllocator::new(&snapshot, &target, limit);
            let mut used: Vec<bool> = (0..limit).map(|row| target.at(row).is_some()).collect();
            for count in requests {
                let free = used.iter().filter(|u| !**u).count() as u64;
                let zero = (0..limit).filter(|r| !used[*r as usize] && snapshot.at(*r).is_none()).count() as u64;
                match allocator.take(count) {
                    None => prop_assert!(free < count),
                    Some(rows) => {
                        prop_assert_eq!(rows.iter().map(|r| r.length()).sum::<u64>(), count);
                        for row in rows.iter().flat_map(|r| r.start()..r.end()) {
                            prop_assert!(!std::mem::replace(&mut used[row as usize], true), "taken twice");
                            prop_assert!(zero < count || snapshot.at(row).is_none(), "zero rows come first");
                        }
                    }
                }
            }
        }
    }

    #[test]
    fn a_request_stays_in_one_stretch_where_one_fits() {
        let mut allocator = LaneAllocator::new(&map(&[(2, 2), (6, 10)]), &map(&[(2, 2), (6, 10)]), 100);
        assert_eq!(allocator.take(5), Some(vec![Rows::at(16, 5)]));
        assert_eq!(allocator.take(2), Some(vec![Rows::at(0, 2)]));
    }
}
