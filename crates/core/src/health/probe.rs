//! Whether an alarm about one disk is real: the disk itself, its cable, or nothing at all.

use schemars::JsonSchema;
use serde::Serialize;

use super::finding::{Check, Verdict};
use super::rule::Rule;

/// What came of reading samples of a disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Samples {
    /// How many were read, or were to be.
    pub taken: u64,
    /// Those that could not be read.
    pub unreadable: u64,
    /// Those that took so long that the disk must have tried again and again.
    pub slow: u64,
}

/// What an alarm is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// Nothing: it reads, and says nothing bad of itself.
    FalseAlarm,
    /// What is between the disk and the machine: the bytes on the disk are well.
    Cable,
    /// The disk.
    Dying,
}

/// What the cause is, and why it is taken to be that.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Conclusion {
    /// The cause.
    pub cause: Cause,
    /// Why, in words, what weighs most first.
    pub reasons: Vec<String>,
}

/// So many slow samples are no chance: a disk in use may be slow to answer once.
const SLOW: u64 = 2;

/// Whether a rule speaks of what is between the disk and the machine.
const fn is_between(rule: Rule) -> bool {
    matches!(rule, Rule::LinkErrors | Rule::SlowLink | Rule::Timeouts)
}

/// Whether a rule speaks of the disk's own ability to give back what was written; its age, warmth and fullness do not.
const fn is_of_the_disk(rule: Rule) -> bool {
    matches!(
        rule,
        Rule::OwnVerdict
            | Rule::Warning
            | Rule::BelowLimit
            | Rule::Reallocated
            | Rule::Pending
            | Rule::Unreadable
            | Rule::Reported
            | Rule::FailedWrites
            | Rule::FailedTest
            | Rule::Wear
            | Rule::Spare
    )
}

/// Weighs what was read against what the disk says of itself.
///
/// A sample that cannot be read is the disk's fault unless transfers come broken and the disk itself counts nothing that it
/// could not read: then the cable is tried first, which costs less than a disk. What it counts since long and does not grow
/// (a mere word to watch it) is no cause.
pub fn conclude(checks: &[Check], samples: Samples) -> Conclusion {
    let is_grave = |check: &&Check| check.verdict >= Verdict::ReplaceSoon;
    let (own, standing): (Vec<&Check>, Vec<&Check>) =
        checks.iter().filter(|c| is_of_the_disk(c.rule)).partition(is_grave);
    let between: Vec<&Check> = checks.iter().filter(|c| is_between(c.rule)).collect();
    let mut reasons = read(samples);
    let fails = samples.unreadable > 0 || samples.slow >= SLOW;
    let cause = match (own.is_empty(), between.is_empty(), fails) {
        (false, ..) | (true, true, true) => Cause::Dying,
        (true, false, _) => Cause::Cable,
        (true, true, false) => Cause::FalseAlarm,
    };
    let told = own.into_iter().chain(between);
    reasons.extend(told.map(|check| check.reason.clone()));
    reasons.extend(standing.iter().map(|check| format!("{}, and no more since", check.reason)));
    let silent = checks.iter().find(|check| check.rule == Rule::Silent);
    match silent {
        Some(check) => reasons.push(format!("{}: what was read is all there is to go by", check.reason)),
        None if cause == Cause::FalseAlarm && standing.is_empty() => {
            reasons
                .push("of itself it says nothing that foretells a failure, and nothing of its link".into());
        }
        None => {}
    }
    Conclusion { cause, reasons }
}

fn read(samples: Samples) -> Vec<String> {
    let Samples { taken, unreadable, slow } = samples;
    let mut reasons = Vec::new();
    if unreadable > 0 {
        reasons.push(format!("{unreadable} of {taken} samples cannot be read"));
    }
    if slow >= SLOW {
        reasons.push(format!(
            "{slow} of {taken} samples took far longer than the others: it tries again and again"
        ));
    }
    if taken == 0 {
        reasons.push("nothing lies on it that could be read".into());
    } else if reasons.is_empty() {
        reasons.push(format!("all {taken} samples were read"));
    }
    reasons
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn check(verdict: Verdict, rule: Rule) -> Check {
        Check { verdict, rule, raises: 1.0, reason: format!("{rule:?}") }
    }

    const GOOD: Samples = Samples { taken: 100, unreadable: 0, slow: 0 };
    const BAD: Samples = Samples { taken: 100, unreadable: 3, slow: 0 };
    const SLOW_ONES: Samples = Samples { taken: 100, unreadable: 0, slow: 9 };

    #[rstest]
    #[case::nothing(&[], GOOD, Cause::FalseAlarm)]
    #[case::one_slow(&[], Samples { slow: 1, ..GOOD }, Cause::FalseAlarm)]
    #[case::old_and_warm(&[(Verdict::Watch, Rule::Age), (Verdict::ReplaceSoon, Rule::Temperature)], GOOD, Cause::FalseAlarm)]
    #[case::old_sectors(&[(Verdict::Watch, Rule::Reallocated)], GOOD, Cause::FalseAlarm)]
    #[case::growing_sectors(&[(Verdict::ReplaceSoon, Rule::Reallocated)], GOOD, Cause::Dying)]
    #[case::unreadable(&[], BAD, Cause::Dying)]
    #[case::slow(&[], SLOW_ONES, Cause::Dying)]
    #[case::broken_transfers(&[(Verdict::Watch, Rule::LinkErrors)], GOOD, Cause::Cable)]
    #[case::slow_link(&[(Verdict::Watch, Rule::SlowLink)], GOOD, Cause::Cable)]
    #[case::unreadable_over_a_bad_cable(&[(Verdict::Watch, Rule::LinkErrors)], BAD, Cause::Cable)]
    #[case::both(&[(Verdict::Watch, Rule::LinkErrors), (Verdict::DoNotUse, Rule::Pending)], BAD, Cause::Dying)]
    fn the_cause_follows_from_what_is_seen(
        #[case] checks: &[(Verdict, Rule)],
        #[case] samples: Samples,
        #[case] cause: Cause,
    ) {
        let checks: Vec<Check> = checks.iter().map(|(verdict, rule)| check(*verdict, *rule)).collect();
        let found = conclude(&checks, samples);
        assert_eq!(found.cause, cause, "{found:?}");
        assert!(!found.reasons.is_empty());
    }

    #[test]
    fn a_disk_that_says_nothing_is_not_said_to_say_nothing_bad() {
        let found = conclude(&[check(Verdict::Watch, Rule::Silent)], GOOD);
        let told = found.reasons.join("; ");
        assert!(told.contains("all there is to go by") && !told.contains("of itself"), "{told}");
    }
}
