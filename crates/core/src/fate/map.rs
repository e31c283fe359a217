//! What pairs of disks cost, as a matrix.

use serde::Serialize;

use super::sets::Cost;

/// Disks against disks: what the loss of both costs; of one alone on the diagonal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
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

    /// How much of the worst a cost is: 0 for nothing, then 1 to 4 by quarters.
    pub fn heat(&self, cost: Cost) -> usize {
        let worst = self.worst().map_or(0, |(_, _, worst)| worst.bytes.exact());
        match (cost.files, u128::from(cost.bytes.exact()) * 4) {
            (0, _) => 0,
            (_, share) => usize::try_from(share.div_ceil(u128::from(worst.max(1)))).unwrap_or(4).clamp(1, 4),
        }
    }
}
