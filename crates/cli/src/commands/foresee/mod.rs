//! What would be if disks died, and its proof.

pub(crate) mod drill;
pub(crate) mod fate;
pub(crate) mod regularity;
pub(crate) mod risk;
