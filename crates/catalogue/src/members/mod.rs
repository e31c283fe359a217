//! The disks and volumes of the pool, and what is known of each disk.

pub mod disks;
pub mod looks;
pub mod proofs;
pub mod rest;
pub mod samples;
pub mod volumes;
