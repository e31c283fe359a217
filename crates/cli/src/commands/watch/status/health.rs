//! What the disks say of themselves, in one word and one figure each.

use std::collections::BTreeMap;
use std::path::Path;

use sieve_core::health::Verdict;

use crate::human::{Cell, style};
use crate::shelf::{Shelf, temperature_cell};

/// Of each disk of the pool that the machine knows: its verdict, and how warm it is.
pub(super) struct Health(BTreeMap<String, (Cell, Cell)>);

impl Health {
    /// Nothing is known of a pool on paper.
    pub(super) const fn unknown() -> Self {
        Self(BTreeMap::new())
    }

    /// Asks the machine, and no disk that sleeps. A help and no more: where its disks cannot be asked, the columns stay away.
    pub(super) fn look(pool_file: &Path) -> Self {
        let Ok(shelf) = Shelf::glance(pool_file) else { return Self::unknown() };
        let thresholds = shelf.thresholds();
        let mut known = BTreeMap::new();
        for item in shelf.items() {
            let Some(name) = item.name else { continue };
            // Without a report of its own there is nothing to judge it by.
            let judged = item.report().and_then(|_| shelf.judge(&item).ok());
            let verdict =
                judged.map(|judged| judged.checks.first().map_or(Verdict::Fine, |check| check.verdict));
            let cell = verdict.map_or_else(dash, |verdict| {
                Cell::from((verdict.words().to_string(), style::of_verdict(verdict)))
            });
            known.insert(name.to_string(), (cell, temperature_cell(&item, &thresholds)));
        }
        Self(known)
    }

    /// The cells of a disk.
    pub(super) fn take(&mut self, disk: &str) -> (Cell, Cell) {
        self.0.remove(disk).unwrap_or_else(|| (dash(), dash()))
    }
}

fn dash() -> Cell {
    Cell::from(("-".to_string(), style::FAINT))
}
