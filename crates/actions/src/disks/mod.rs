//! Who belongs to the pool: made, taken up, joined, replaced, rebuilt, ended.

pub mod adopt;
pub mod convert;
pub mod create;
pub mod membership;
pub mod rebuild;
pub mod rename;
