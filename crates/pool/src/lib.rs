//! An open pool, and what is true of it: its members, what lies on them, what is held, what survives, who is at work.
//!
//! Nothing here does what a user asks for; that are the actions, which call it. It may write what follows from looking (what
//! a scan found), and nothing else.

pub mod checkpoint;
pub mod damage;
pub mod fate;
pub mod grounds;
pub mod held;
pub mod images;
pub mod journal;
pub mod looks;
mod members;
pub mod notices;
mod pace;
pub mod pieces;
pub mod pool;
pub mod scan;
pub mod writer;

pub use members::agreement::{agree, open};
pub use members::{check, follow, member, new_disk};
pub use pace::{copies, curves, pass, progress, traffic};
