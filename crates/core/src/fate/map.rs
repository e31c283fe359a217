//! What pairs of disks cost, as a matrix.

use schemars::JsonSchema;
use serde::Serialize;

use super::sets::Cost;

/// Disks against disks: what the loss of both costs; of one alone on the diagonal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LossMap {
    /// The disks.
    pub disks: Vec<String>,
    /// For each disk a row, with a cost for each disk.
    pub costs: Vec<Vec<Cost>>,
}

impl LossMap {
    /// Works every pair of `disks` out; `cost` gets one or two positions in order.
    pub fn new(disks: Vec<String>, cost: impl Fn(&[usize]) -> Cost) -> Self {
        let count = disks.len();
        let pair = |row: usize, column: usize| {
            if row == column { cost(&[row]) } else { cost(&[row.min(column), row.max(column)]) }
        };
        let costs = (0..count).map(|row| (0..count).map(|column| pair(row, column)).collect()).collect();
        Self { disks, costs }
    }

    /// The costliest pair, as row and column; the first of equal ones.
    pub fn worst(&self) -> Option<(usize, usize, Cost)> {
        let cells = (0..self.disks.len()).flat_map(|row| (0..=row).map(move |column| (row, column)));
        cells.map(|(row, column)| (row, column, self.costs[row][column])).rev().max_by_key(|cell| cell.2)
    }

    /// The disks of the costliest pair, or the one, and what they cost; nothing where nothing costs anything.
    pub fn worst_disks(&self) -> Option<(Vec<&str>, Cost)> {
        let (row, column, cost) = self.worst().filter(|(.., cost)| cost.files > 0)?;
        let mut disks = vec![self.disks[column].as_str()];
        if row != column {
            disks.push(&self.disks[row]);
        }
        Some((disks, cost))
    }

    /// How much of the worst a cost is: 0 for nothing, then 1 to 4 by quarters.
    pub fn heat(&self, cost: Cost) -> usize {
        let worst = self.worst().map_or(0, |(_, _, worst)| worst.bytes.exact());
        match (cost.files, u128::from(cost.bytes.exact()) * 4) {
            (0, _) => 0,
            (_, share) => usize::try_from(share.div_ceil(u128::from(worst.max(1)))).unwrap_or(4).clamp(1, 4),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::ByteLength;
    use rstest::rstest;

    /// What three disks cost: nothing for the second alone, most for the first and the third.
    fn map() -> LossMap {
        let names = ["alder", "beech", "cedar"].map(String::from).to_vec();
        LossMap::new(names, |set| {
            assert!(set.windows(2).all(|pair| pair[0] < pair[1]), "positions come in order");
            let bytes = match set {
                [1] => 0,
                [0, 2] => 4000,
                [one] => 500 * (*one as u64 + 1),
                _ => 1001,
            };
            Cost { bytes: ByteLength::new(bytes), files: u64::from(bytes > 0) }
        })
    }

    #[test]
    fn the_matrix_is_the_same_both_ways_round() {
        let map = map();
        for row in 0..3 {
            for column in 0..3 {
                assert_eq!(map.costs[row][column], map.costs[column][row]);
            }
        }
        assert_eq!(
            map.worst().map(|(row, column, cost)| (row, column, cost.bytes.exact())),
            Some((2, 0, 4000))
        );
    }

    #[rstest]
    #[case(0, 0)]
    #[case(1, 1)]
    #[case(1000, 1)]
    #[case(1001, 2)]
    #[case(2001, 3)]
    #[case(3001, 4)]
    #[case(4000, 4)]
    fn heat_goes_by_quarters_of_the_worst(#[case] bytes: u64, #[case] heat: usize) {
        let cost = Cost { bytes: ByteLength::new(bytes), files: u64::from(bytes > 0) };
        assert_eq!(map().heat(cost), heat);
    }

    #[test]
    fn files_without_bytes_count_and_an_empty_map_has_no_worst() {
        assert_eq!(map().heat(Cost { bytes: ByteLength::ZERO, files: 3 }), 1);
        assert_eq!(LossMap::new(Vec::new(), |_| Cost::default()).worst(), None);
    }
}
