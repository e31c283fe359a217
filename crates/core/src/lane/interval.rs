//! A map from intervals of rows to values.

use std::collections::BTreeMap;

use super::Rows;

/// A value over an interval that still makes sense from some way into it.
pub trait Splittable: Clone + PartialEq {
    /// The value as it is `granules` further on.
    #[must_use]
    fn advanced(&self, granules: u64) -> Self;
}

impl Splittable for crate::units::CheckpointId {
    fn advanced(&self, _granules: u64) -> Self {
        *self
    }
}

/// One interval of an [`IntervalMap`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Interval<T> {
    /// Where it lies.
    pub rows: Rows,
    /// The value at its first row.
    pub value: T,
}

/// Values over disjoint intervals; neighbours that continue each other are one interval.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct IntervalMap<T> {
    intervals: BTreeMap<u64, (u64, T)>,
}

impl<T> Default for IntervalMap<T> {
    fn default() -> Self {
        Self { intervals: BTreeMap::new() }
    }
}

impl<T: Splittable> IntervalMap<T> {
    /// Sets the value over `rows`, replacing what was there.
    pub fn insert(&mut self, rows: Rows, value: T) {
        if rows.is_empty() {
            return;
        }
        self.remove(rows);
        let mut start = rows.start();
        let mut end = rows.end();
        let mut value = value;
        if let Some((s, (e, v))) = self.intervals.range(..start).next_back()
            && *e == start
            && v.advanced(start - s) == value
        {
            (start, value) = (*s, v.clone());
        }
        if let Some((e, v)) = self.intervals.get(&end)
            && *v == value.advanced(end - start)
        {
            let after = end;
            end = *e;
            self.intervals.remove(&after);
        }
        self.intervals.insert(start, (end, value));
    }

    /// Leaves nothing over `rows`.
    pub fn remove(&mut self, rows: Rows) {
        for Interval { rows: old, value } in self.whole_overlapping(rows) {
            self.intervals.remove(&old.start());
            if old.start() < rows.start() {
                self.intervals.insert(old.start(), (rows.start(), value.clone()));
            }
            if rows.end() < old.end() {
                self.intervals.insert(rows.end(), (old.end(), value.advanced(rows.end() - old.start())));
            }
        }
    }

    fn whole_overlapping(&self, rows: Rows) -> Vec<Interval<T>> {
        self.touching(rows).map(|(s, e, v)| Interval { rows: Rows::new(s, e), value: v.clone() }).collect()
    }

    fn touching(&self, rows: Rows) -> impl Iterator<Item = (u64, u64, &T)> {
        let first = self
            .intervals
            .range(..=rows.start())
            .next_back()
            .filter(|(_, (end, _))| *end > rows.start())
            .map_or(rows.start(), |(start, _)| *start);
        let last = rows.end().max(first);
        self.intervals.range(first..last).map(|(s, (e, v))| (*s, *e, v)).filter(move |_| !rows.is_empty())
    }

    /// The intervals within `rows`, cut to it.
    pub fn overlapping(&self, rows: Rows) -> impl Iterator<Item = Interval<T>> {
        self.touching(rows).map(move |(start, end, value)| {
            let cut = Rows::new(start, end).intersection(rows);
            Interval { rows: cut, value: value.advanced(cut.start() - start) }
        })
    }

    /// All intervals in order.
    pub fn iter(&self) -> impl Iterator<Item = Interval<T>> {
        self.intervals.iter().map(|(s, (e, v))| Interval { rows: Rows::new(*s, *e), value: v.clone() })
    }

    /// The value at one row.
    pub fn at(&self, row: u64) -> Option<T> {
        self.overlapping(Rows::at(row, 1)).next().map(|i| i.value)
    }

    /// The row after the last interval.
    pub fn end(&self) -> u64 {
        self.intervals.last_key_value().map_or(0, |(_, (end, _))| *end)
    }

    /// Whether nothing is mapped.
    pub fn is_empty(&self) -> bool {
        self.intervals.is_empty()
    }

    /// The rows where the two maps differ, in order; neighbours are joined.
    pub fn difference(&self, other: &Self) -> Vec<Rows> {
        let (mut ours, mut theirs) = (self.iter(), other.iter());
        let (mut left, mut right) = (ours.next(), theirs.next());
        let mut rows = Vec::new();
        while let Some((stretch, is_same)) = next_stretch(&left, &right) {
            if !is_same {
                append(&mut rows, stretch);
            }
            left = left.and_then(|interval| interval.after(stretch.end())).or_else(|| ours.next());
            right = right.and_then(|interval| interval.after(stretch.end())).or_else(|| theirs.next());
        }
        rows
    }
}

impl<T: Splittable> Interval<T> {
    /// What of it lies at and after a row.
    fn after(self, row: u64) -> Option<Self> {
        let start = self.rows.start().max(row);
        let rows = Rows::new(start, self.rows.end());
        (!rows.is_empty()).then(|| Self { rows, value: self.value.advanced(start - self.rows.start()) })
    }
}

/// The first rows of two intervals in which each is there throughout or not at all, and whether both are the same there.
fn next_stretch<T: Splittable>(
    left: &Option<Interval<T>>,
    right: &Option<Interval<T>>,
) -> Option<(Rows, bool)> {
    match (left, right) {
        (None, None) => None,
        (Some(one), None) | (None, Some(one)) => Some((one.rows, false)),
        (Some(left), Some(right)) => {
            let (first, last) = (left.rows.start(), right.rows.start());
            let end = left.rows.end().min(right.rows.end());
            Some(match first == last {
                true => (Rows::new(first, end), left.value == right.value),
                false => (Rows::new(first.min(last), end.min(first.max(last))), false),
            })
        }
    }
}

fn append(rows: &mut Vec<Rows>, next: Rows) {
    match rows.last_mut() {
        Some(last) if last.end() == next.start() => *last = Rows::new(last.start(), next.end()),
        _ => rows.push(next),
    }
}

impl<T: Splittable> FromIterator<Interval<T>> for IntervalMap<T> {
    /// As if each were inserted; much faster than that where they are disjoint and come in order.
    fn from_iter<I: IntoIterator<Item = Interval<T>>>(intervals: I) -> Self {
        let mut disjoint: Vec<(u64, (u64, T))> = Vec::new();
        let mut rest = Vec::new();
        for Interval { rows, value } in intervals.into_iter().filter(|interval| !interval.rows.is_empty()) {
            match disjoint.last_mut() {
                Some((_, (end, _))) if *end > rows.start() || !rest.is_empty() => {
                    rest.push(Interval { rows, value });
                }
                Some((start, (end, first)))
                    if *end == rows.start() && first.advanced(*end - *start) == value =>
                {
                    *end = rows.end();
                }
                _ => disjoint.push((rows.start(), (rows.end(), value))),
            }
        }
        let mut map = Self { intervals: disjoint.into_iter().collect() };
        rest.into_iter().for_each(|interval| map.insert(interval.rows, interval.value));
        map
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lane::Piece;
    use crate::units::VersionId;
    use proptest::prelude::*;

    #[derive(Debug, Clone)]
    enum Step {
        Insert(u64, u64, i64, u64),
        Remove(u64, u64),
    }

    fn step() -> impl Strategy<Value = Step> {
        prop_oneof![
            (0..60u64, 1..12u64, 0..4i64, 0..6u64).prop_map(|(s, l, v, o)| Step::Insert(s, l, v, o)),
            (0..60u64, 1..20u64).prop_map(|(s, l)| Step::Remove(s, l)),
        ]
    }

    fn piece(version: i64, offset: u64) -> Piece {
        Piece { version: VersionId::new(version), offset }
    }

    proptest! {
        #[test]
        fn the_map_agrees_with_a_naive_one(steps in prop::collection::vec(step(), 0..40)) {
            let mut map = IntervalMap::default();
            let mut naive: [Option<Piece>; 80] = [None; 80];
            for step in steps {
                match step {
                    Step::Insert(start, length, version, offset) => {
                        map.insert(Rows::at(start, length), piece(version, offset));
                        for i in 0..length {
                            naive[(start + i) as usize] = Some(piece(version, offset + i));
                        }
                    }
                    Step::Remove(start, length) => {
                        map.remove(Rows::at(start, length));
                        naive[start as usize..(start + length) as usize].fill(None);
                    }
                }
            }
            for row in 0..80 {
                prop_assert_eq!(map.at(row), naive[row as usize]);
            }
            let all: Vec<_> = map.iter().collect();
            prop_assert!(all.windows(2).all(|w| w[0].rows.end() <= w[1].rows.start()));
            prop_assert!(all.windows(2).all(|w| w[0].rows.end() < w[1].rows.start()
                || w[0].value.advanced(w[0].rows.length()) != w[1].value), "neighbours are joined");
            let mut rebuilt: Vec<_> = map.iter().collect();
            prop_assert_eq!(&rebuilt.iter().copied().collect::<IntervalMap<_>>(), &map);
            rebuilt.reverse();
            prop_assert_eq!(&rebuilt.into_iter().collect::<IntervalMap<_>>(), &map, "in any order");
            let differing = map.difference(&IntervalMap::default());
            prop_assert_eq!(differing.iter().map(|r| r.length()).sum::<u64>(),
                naive.iter().flatten().count() as u64);
        }

        #[test]
        fn two_maps_differ_where_their_rows_do(
            one in prop::collection::vec(step(), 0..20),
            other in prop::collection::vec(step(), 0..20),
        ) {
            let built = |steps: Vec<Step>| {
                let mut map = IntervalMap::default();
                for step in steps {
                    match step {
                        Step::Insert(start, length, version, offset) => {
                            map.insert(Rows::at(start, length), piece(version, offset));
                        }
                        Step::Remove(start, length) => map.remove(Rows::at(start, length)),
                    }
                }
                map
            };
            let (one, other) = (built(one), built(other));
            let differing = one.difference(&other);
            for row in 0..80 {
                let is_in = differing.iter().any(|rows| rows.start() <= row && row < rows.end());
                prop_assert_eq!(is_in, one.at(row) != other.at(row), "row {}", row);
            }
            prop_assert!(differing.windows(2).all(|w| w[0].end() < w[1].start()), "joined, and in order");
        }
    }
}
