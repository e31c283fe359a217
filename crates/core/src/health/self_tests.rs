//! What the tests say that disks run on themselves.

use super::finding::{Findings, Verdict};
use super::rule::Rule;
use crate::inventory::{Reach, SelfTest, SmartReport};

/// Hours of power between two full self-tests: about a month of running day and night, and some grace.
const SELF_TEST_HOURS: u64 = 1000;

pub(super) fn judge(report: &SmartReport, findings: &mut Findings) {
    if let Some((failed, newer)) = unanswered_failure(&report.self_tests) {
        let length = if failed.reach == Reach::Long { "full" } else { "short" };
        let since = if newer { ", and the shorter one that passed since reads less" } else { "" };
        let reason = format!("its last {length} self-test failed: {}{since}", failed.outcome);
        return findings.add(Verdict::DoNotUse, Rule::FailedTest, reason);
    }
    if report.can_test == Some(false) {
        return;
    }
    let passed = report.self_tests.iter().find(|t| t.reach == Reach::Long && t.passed == Some(true));
    let reason = match passed {
        Some(test) => {
            let age = report.hours.and_then(|now| test.age(now)).filter(|age| *age > SELF_TEST_HOURS);
            age.map(|hours| format!("its last full self-test is {hours} hours of power old: run one"))
        }
        None => Some(match report.self_tests.first() {
            None => "no self-test is on record: run a full one".to_string(),
            Some(test) if test.passed.is_none() => {
                format!("no full self-test has passed, the last ended with: {}", test.outcome)
            }
            Some(_) => "no full self-test is on record, only short ones: run one".to_string(),
        }),
    };
    if let Some(reason) = reason {
        findings.add(Verdict::Watch, Rule::NoRecentTest, reason);
    }
}

/// The newest failure that no newer test of at least its reach has answered, and whether a shorter one passed since.
fn unanswered_failure(tests: &[SelfTest]) -> Option<(&SelfTest, bool)> {
    let mut answered: Option<Reach> = None;
    for test in tests {
        match test.passed {
            Some(true) => answered = answered.max(Some(test.reach)),
            Some(false) if answered < Some(test.reach) => return Some((test, answered.is_some())),
            _ => {}
        }
    }
    None
}
