//! Something wrong in a pool file, and where.

use std::ops::Range;

/// One mistake in a pool file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mistake {
    /// The bytes of the file it is about.
    pub span: Range<usize>,
    /// What is wrong.
    pub message: String,
    /// What to write instead, where that can be said.
    pub advice: Option<String>,
}

impl Mistake {
    /// A mistake at `span`.
    pub fn new(span: Range<usize>, message: impl Into<String>) -> Self {
        Self { span, message: message.into(), advice: None }
    }

    /// Adds what to do about it.
    #[must_use]
    pub fn advise(mut self, advice: impl Into<String>) -> Self {
        self.advice = Some(advice.into());
        self
    }

    /// The line number (from 1) in `text` where it begins.
    pub fn line(&self, text: &str) -> usize {
        text.as_bytes()[..self.span.start.min(text.len())].iter().filter(|b| **b == b'\n').count() + 1
    }
}
