//! What the program takes from the machine besides disks: the time, chance, what it tells of its hardware, its priorities.

pub(crate) mod idle;
pub mod inventory;
pub mod machine;
pub mod self_test;
pub mod sysfs;
