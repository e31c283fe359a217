//! Files: into a volume, out of it, and from member to member.

mod folders;
pub mod mirror;
pub mod moves;
pub mod put;
pub mod read;
pub mod remove;
pub mod restore;
pub mod settle;
pub mod shift;
pub mod transfer;
