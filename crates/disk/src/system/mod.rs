//! Disks of the machine that the program runs on: the operating system's calls, each fenced in its own file.

pub(crate) mod attributes;
pub(crate) mod filesystem;
pub(crate) mod lease;
pub(crate) mod open_files;
pub(crate) mod real;
pub(crate) mod real_file;
pub(crate) mod real_stat;
mod rights;
pub(crate) mod uuid_ioctl;
