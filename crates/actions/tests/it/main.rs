//! Whole actions, with everybody else acting in the middle: power that fails, disks that fail, neighbours, hostile files.

mod corpus;
mod engine;
mod faults;
mod hostile;
mod neighbour;
mod power_cut;
mod power_cut_kinds;
mod power_cut_names;
mod snapshot_table;
