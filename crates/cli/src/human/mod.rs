//! Results as text for people.

pub(crate) mod amounts;
mod chances;
pub(crate) mod place;
pub(crate) mod reason;
pub(crate) mod style;
pub(crate) mod table;
pub(crate) mod time;
pub(crate) mod units;
pub(crate) mod width;

pub(crate) use chances::{odds, percent_of, rounded, two_digits};
pub(crate) use table::{Cell, Table};
pub(crate) use units::{count, size};
