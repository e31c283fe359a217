//! A living data disk, or a cache disk, hands its place over to a new one: its files are copied while it stays in its place, and
//! one commit switches over. The lane and its addresses stay, so that parity needs not one byte.

mod copy;
mod plan;
mod run;
mod spare;

pub use plan::{HandoverPlan, HandoverRequest, PreparedHandover, plan};
pub use run::{HandoverReport, execute};
