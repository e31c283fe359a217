//! One file a command, in rooms by the order of the work, as the help groups them.

pub(crate) mod agenda;
pub(crate) mod build;
pub(crate) mod context;
pub(crate) mod files;
pub(crate) mod foresee;
pub(crate) mod look;
pub(crate) mod mount;
pub(crate) mod plan;
pub(crate) mod protect;
pub(crate) mod repair;
pub(crate) mod unit;
pub(crate) mod watch;
