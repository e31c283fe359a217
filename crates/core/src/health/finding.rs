//! What is found about a disk: verdicts, reasons, and what they are looked for in.

use super::rule::Rule;
use crate::inventory::{DiskLink, SmartReport};
use crate::pool::Thresholds;
use schemars::JsonSchema;
use serde::Serialize;

/// What is to be done about a disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// Nothing.
    #[default]
    Fine,
    /// It is worth a look now and then.
    Watch,
    /// It should be replaced before it has to be.
    ReplaceSoon,
    /// It should hold nothing.
    DoNotUse,
}

impl Verdict {
    /// The words for it.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Fine => "fine",
            Self::Watch => "watch",
            Self::ReplaceSoon => "replace soon",
            Self::DoNotUse => "do not use",
        }
    }
}

/// The counts of an earlier look at a disk: since then they are as they were then, or were until now.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Look {
    /// When, nanoseconds since 1970.
    #[serde(with = "crate::moment")]
    #[schemars(with = "crate::moment::Text")]
    pub at: i64,
    /// Sectors that were replaced by spare ones.
    pub reallocated: Option<u64>,
    /// Sectors that wait to be written.
    pub pending: Option<u64>,
    /// Sectors that could not be read.
    pub uncorrectable: Option<u64>,
    /// Errors that reached who asked.
    pub reported: Option<u64>,
    /// Commands that were not answered in time.
    pub timeouts: Option<u64>,
    /// Further tries of the motor.
    pub spin_retries: Option<u64>,
    /// Transfers over the cable that came broken.
    pub link_errors: Option<u64>,
}

impl Look {
    /// The counts of a report.
    pub const fn of(report: &SmartReport, at: i64) -> Self {
        Self {
            at,
            reallocated: report.reallocated,
            pending: report.pending,
            uncorrectable: report.uncorrectable,
            reported: report.reported,
            timeouts: report.timeouts,
            spin_retries: report.spin_retries,
            link_errors: report.link_errors,
        }
    }
}

/// One reason, and how serious it is.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Check {
    /// How serious.
    pub verdict: Verdict,
    /// By which rule.
    pub rule: Rule,
    /// How many times as likely it makes a failure within the next 60 days; 1 where it foretells none.
    pub raises: f64,
    /// Why, in words.
    pub reason: String,
}

/// Everything that is known of one disk.
#[derive(Clone, Copy, Debug)]
pub struct About<'a> {
    /// What it reports; none where nothing could be asked.
    pub report: Option<&'a SmartReport>,
    /// The link to it.
    pub link: Option<&'a DiskLink>,
    /// How warm it is, in degrees Celsius.
    pub celsius: Option<f64>,
    /// The last look at which its counts were others, or the first at which they were as they are.
    pub before: Option<&'a Look>,
    /// When this is asked, nanoseconds since 1970.
    pub now: i64,
    /// How full it is, from 0 to 1.
    pub full: Option<f64>,
    /// From when on something is worth a word.
    pub thresholds: &'a Thresholds,
}

impl About<'_> {
    /// Days since the look before this one.
    pub(super) fn days_since_look(&self) -> Option<f64> {
        self.before.map(|look| self.now.saturating_sub(look.at) as f64 / 86_400e9)
    }
}

/// The reasons found so far.
#[derive(Default)]
pub(super) struct Findings(pub(super) Vec<Check>);

impl Findings {
    pub(super) fn add(&mut self, verdict: Verdict, rule: Rule, reason: impl Into<String>) {
        self.0.push(Check { verdict, rule, raises: rule.raises(), reason: reason.into() });
    }

    /// A reason that foretells nothing any more.
    pub(super) fn add_of_old(&mut self, verdict: Verdict, rule: Rule, reason: impl Into<String>) {
        self.0.push(Check { verdict, rule, raises: 1.0, reason: reason.into() });
    }
}
