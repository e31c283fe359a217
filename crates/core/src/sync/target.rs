//! What one lane is to hold after the sync.

use crate::lane::{Interval, LaneAllocator, LaneMap, Piece, Rows};
use crate::units::VersionId;

/// A content that the lane is to hold.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// The content.
    pub version: VersionId,
    /// Its granules that are not holes.
    pub data: Data,
}

/// The granules of a content that are not holes; most contents have none.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Data {
    /// So many, without a hole.
    Dense(u64),
    /// These, in order.
    Sparse(Box<[Rows]>),
}

impl Data {
    /// From ranges in order.
    pub fn new(ranges: &[Rows]) -> Self {
        match ranges {
            [] => Self::Dense(0),
            [one] if one.start() == 0 => Self::Dense(one.end()),
            _ => Self::Sparse(ranges.into()),
        }
    }

    /// As ranges in order.
    pub fn ranges(&self) -> Vec<Rows> {
        match self {
            Self::Dense(0) => Vec::new(),
            Self::Dense(granules) => vec![Rows::new(0, *granules)],
            Self::Sparse(ranges) => ranges.to_vec(),
        }
    }
}

/// A lane as it is to be, and what found no room.
#[derive(Clone, Debug, Default)]
pub struct Target {
    /// The lane.
    pub lane: LaneMap,
    /// Contents that do not fit below the end of the parity drives.
    pub no_room: Vec<VersionId>,
}

/// Plans a lane: contents keep the rows they have in the snapshot, the rest is allocated below row `limit`.
pub fn plan_lane(snapshot: &LaneMap, wanted: &[Wanted], limit: u64) -> Target {
    let mut pieces: Vec<Kept> = snapshot.iter().map(|i| (i.value.version, i.value.offset, i.rows)).collect();
    pieces.sort_unstable();
    let kept = |version: VersionId| {
        let start = pieces.partition_point(|(v, ..)| *v < version);
        let end = pieces.partition_point(|(v, ..)| *v <= version);
        &pieces[start..end]
    };
    let stays = |(version, offset, rows): &Kept| Interval {
        rows: *rows,
        value: Piece { version: *version, offset: *offset },
    };
    let mut placed: Vec<Interval<Piece>> =
        wanted.iter().flat_map(|content| kept(content.version)).map(stays).collect();
    let in_order = |placed: &mut Vec<Interval<Piece>>| placed.sort_unstable_by_key(|i| i.rows.start());
    in_order(&mut placed);
    let mut allocator = LaneAllocator::new(snapshot, &placed.iter().copied().collect(), limit);
    let mut no_room = Vec::new();
    for content in wanted {
        let missing = unplaced(&content.data.ranges(), kept(content.version));
        let count = missing.iter().map(|r| r.length()).sum();
        match allocator.take(count) {
            Some(rows) => fill(&mut placed, content.version, &missing, rows),
            None => no_room.push(content.version),
        }
    }
    in_order(&mut placed);
    Target { lane: placed.into_iter().collect(), no_room }
}

/// A piece that stays where it is: content, first granule of it, where it lies.
type Kept = (VersionId, u64, Rows);

/// The granules of `data` that no kept piece holds.
fn unplaced(data: &[Rows], kept: &[Kept]) -> Vec<Rows> {
    let placed: Vec<Rows> = kept.iter().map(|(_, offset, rows)| Rows::at(*offset, rows.length())).collect();
    let mut missing = Vec::new();
    for range in data {
        let mut from = range.start();
        for hit in placed.iter().map(|p| p.intersection(*range)).filter(|p| !p.is_empty()) {
            missing.push(Rows::new(from, hit.start()));
            from = hit.end();
        }
        missing.push(Rows::new(from, range.end()));
    }
    missing.retain(|r| !r.is_empty());
    missing
}

fn fill(placed: &mut Vec<Interval<Piece>>, version: VersionId, content: &[Rows], places: Vec<Rows>) {
    let mut places = places.into_iter();
    let mut place = Rows::new(0, 0);
    for range in content {
        let mut offset = range.start();
        while offset < range.end() {
            if place.is_empty() {
                place = places.next().expect("as many rows were taken as there are granules");
            }
            let length = place.length().min(range.end() - offset);
            placed.push(Interval { rows: Rows::at(place.start(), length), value: Piece { version, offset } });
            place = Rows::new(place.start() + length, place.end());
            offset += length;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wanted(version: i64, data: &[(u64, u64)]) -> Wanted {
        let data: Vec<Rows> = data.iter().map(|(s, e)| Rows::new(*s, *e)).collect();
        Wanted { version: VersionId::new(version), data: Data::new(&data) }
    }

    #[test]
    fn what_is_in_the_snapshot_stays_where_it_is() {
        let first = plan_lane(&LaneMap::default(), &[wanted(1, &[(0, 5)]), wanted(2, &[(0, 3)])], 100);
        let second = plan_lane(&first.lane, &[wanted(2, &[(0, 3)]), wanted(3, &[(0, 4)])], 100);
        assert_eq!(second.lane.at(5), Some(Piece { version: VersionId::new(2), offset: 0 }));
        assert_eq!(second.lane.at(0), None, "the removed content leaves");
        assert_eq!(second.lane.at(8), Some(Piece { version: VersionId::new(3), offset: 0 }));
    }

    #[test]
    fn holes_take_no_rows() {
        let target = plan_lane(&LaneMap::default(), &[wanted(1, &[(2, 4), (100, 101)])], 10);
        assert_eq!(target.lane.end(), 3);
        assert_eq!(target.lane.at(2), Some(Piece { version: VersionId::new(1), offset: 100 }));
    }

    #[test]
    fn what_finds_no_room_is_named_and_the_rest_is_placed() {
        let target = plan_lane(&LaneMap::default(), &[wanted(1, &[(0, 11)]), wanted(2, &[(0, 10)])], 10);
        assert_eq!(target.no_room, [VersionId::new(1)]);
        assert_eq!(target.lane.end(), 10);
    }

    #[test]
    fn a_content_half_in_the_snapshot_gets_only_the_rest() {
        let mut snapshot = LaneMap::default();
        snapshot.insert(Rows::at(7, 2), Piece { version: VersionId::new(1), offset: 1 });
        let target = plan_lane(&snapshot, &[wanted(1, &[(0, 5)])], 100);
        let placed: u64 = target.lane.iter().map(|i| i.rows.length()).sum();
        assert_eq!(placed, 5);
        assert_eq!(target.lane.at(7).unwrap().offset, 1);
    }
}
