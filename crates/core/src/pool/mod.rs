//! The pool file: what its owner wrote by hand, read and validated.

mod cases;
mod fields;
mod mistake;
mod parse;
mod quantities;
mod risk;
mod spec;

pub use cases::{BayPlace, find_bay, neighbours, place_in_words};
pub use mistake::Mistake;
pub use parse::{Parsed, parse};
pub use quantities::{Price, Temperature, parse_date};
pub use spec::{
    CaseSpec, DiskSpec, GroupSpec, LinkSpec, Media, PoolSpec, RiskSpec, Share, SizeLimit, Thresholds,
    VolumeKind, VolumeSpec,
};
