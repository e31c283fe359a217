//! What several of these commands say.

/// What becomes of the pool file when one disk takes the place of another.
pub(super) const POOL_FILE: &str = "The pool file is changed; comments in it stay. What it says of the old disk alone (serial number, bay, price) goes, and is kept in the journal.";
