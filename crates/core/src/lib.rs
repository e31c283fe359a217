//! The computation of Zinc Sieve: pool files, lanes, the erasure code, fate, plans.
//!
//! Nothing here touches a file, a clock, a terminal or a network: values in, values out.

pub mod agenda;
pub mod amounts;
pub mod checksum;
pub mod code;
pub mod count;
pub mod design;
pub mod fate;
pub mod first_file;
pub mod forecast;
pub mod gf256;
pub mod health;
pub mod ingest;
pub mod inventory;
pub mod landing;
pub mod lane;
pub mod layout;
pub mod mirror;
pub mod moment;
pub mod notice;
pub mod pairs;
pub mod paper;
pub mod path;
pub mod placement;
pub mod pool;
pub mod prepare;
pub mod risk;
pub mod route;
pub mod stretch;
pub mod suggest;
pub mod sync;
pub mod tiers;
pub mod units;
