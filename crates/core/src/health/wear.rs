//! Use and age.

use super::finding::{Findings, Verdict};
use super::rule::Rule;
use crate::inventory::{SmartReport, Warning};

/// Hours of power after which a disk is old: about six years of running day and night.
const OLD_HOURS: u64 = 52_000;
/// Per cent of the promised writes from which on a successor should be planned.
const WORN: u64 = 80;

pub(super) fn judge(report: &SmartReport, findings: &mut Findings) {
    if let Some(used) = report.flash_used.filter(|used| *used >= WORN) {
        let verdict = if used >= 100 { Verdict::ReplaceSoon } else { Verdict::Watch };
        findings.add(verdict, Rule::Wear, format!("{used} % of the life of its flash is used"));
    }
    let warns_itself = report.warnings.contains(&Warning::SpareIsLow);
    if let Some((left, least)) = report.spare.filter(|(left, least)| left <= least && !warns_itself) {
        let reason = format!("{left} % of its spare space is left, its maker's limit is {least} %");
        findings.add(Verdict::ReplaceSoon, Rule::Spare, reason);
    }
    if let Some(hours) = report.hours.filter(|h| *h >= OLD_HOURS) {
        findings.add(Verdict::Watch, Rule::Age, format!("it has run for {:.1} years", hours as f64 / 8766.0));
    }
}
