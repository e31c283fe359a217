//! An open pool, and what is true of it: its members, what lies on them, what is held, what survives, who is at work.
//!
//! Nothing here does what a user asks for; that are the actions, which call it. It may write what follows from looking (what
//! a scan found), and nothing else.

mod agreement;
pub mod check;
pub mod checkpoint;
pub mod curves;
pub mod damage;
pub mod fate;
pub mod follow;
pub mod grounds;
pub mod held;
pub mod images;
pub mod journal;
pub mod looks;
pub mod member;
pub mod new_disk;
pub mod pieces;
pub mod pool;
pub mod progress;
pub mod scan;
pub mod traffic;
pub mod writer;

pub use agreement::{agree, open};
