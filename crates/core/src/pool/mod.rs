//! The pool file: what its owner wrote by hand, read and validated.

mod agenda;
pub mod agreement;
mod cases;
mod elsewhere;
mod fields;
mod jobs;
mod mistake;
mod parse;
mod quantities;
mod risk;
mod share;
mod spec;
mod volume;

pub use crate::stretch::{parse_days, parse_stretch};
pub use cases::{BayPlace, find_bay, neighbours, place_in_words};
pub use elsewhere::ElsewhereSpec;
pub use jobs::{AgendaSpec, Channel, ChannelSpec, JobSpec, NoticeSpec};
pub use mistake::Mistake;
pub use parse::{Parsed, is_plain_name, parse};
pub use quantities::{Price, Temperature, parse_date};
pub use share::Share;
pub use spec::{
    CacheSpec, CaseSpec, DiskSpec, FolderSpec, GroupSpec, Hold, Landing, LinkSpec, Media, MountSpec,
    PoolSpec, RiskSpec, Role, SizeLimit, Thresholds, Tier, VolumeKind, VolumeSpec,
};
