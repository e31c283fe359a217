//! What is there: the disks of the machine, their bays and their health.

pub(crate) mod bays;
pub(crate) mod burn_in;
pub(crate) mod disks;
pub(crate) mod health;
pub(crate) mod probe;
pub(crate) mod self_test;
