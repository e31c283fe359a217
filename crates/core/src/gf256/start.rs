//! What sums of products begin with.

/// What the targets of a sum hold before.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Start {
    /// Nothing of interest: the sum replaces it.
    Zero,
    /// Something to add to.
    Present,
}
