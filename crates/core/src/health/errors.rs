//! Counts of errors: sectors, reads, writes, commands, the motor, the cable.

use super::finding::{About, Findings, Look, Verdict};
use super::rule::{FOLLOWED_DAYS, Rule};
use crate::count::so_many;
use crate::inventory::SmartReport;

/// Reallocated sectors from which on a disk is to be replaced even if they do not grow.
const MANY_REALLOCATED: u64 = 100;

/// A count now, and what is known of it from the look before.
struct Count {
    now: u64,
    /// So much more than then.
    more: u64,
    /// It has not grown for as long as findings foretell anything.
    stands_still: bool,
    /// It was the same at the look before.
    was_seen: bool,
    /// Days since that look.
    days: Option<f64>,
}

impl Count {
    /// None where there is no such count, or nothing is counted.
    fn of(about: &About<'_>, now: Option<u64>, then: impl Fn(&Look) -> Option<u64>) -> Option<Self> {
        let now = now.filter(|count| *count > 0)?;
        let before = about.before.and_then(then);
        let more = before.map_or(0, |before| now.saturating_sub(before));
        let was_seen = before == Some(now);
        let stands_still = was_seen && about.days_since_look().is_some_and(|days| days >= FOLLOWED_DAYS);
        Some(Self { now, more, stands_still, was_seen, days: about.days_since_look() })
    }

    /// "3 sectors", with what is new since the last look.
    fn words(&self, one: &str, many: &str) -> String {
        let what = if self.now == 1 { one } else { many };
        let since = if self.more > 0 {
            let then = match self.days {
                Some(days) if days >= 1.0 => format!("{} ago", so_many(days as u64, "day")),
                _ => "at the last look".into(),
            };
            format!(", {} more than {then}", self.more)
        } else if self.stands_still {
            format!(", none for {FOLLOWED_DAYS:.0} days")
        } else {
            String::new()
        };
        format!("{} {what}{since}", self.now)
    }
}

pub(super) fn judge(about: &About<'_>, report: &SmartReport, findings: &mut Findings) {
    judge_medium(about, report, findings);
    let count = |now, then: fn(&Look) -> Option<u64>| Count::of(about, now, then);
    if let Some(found) = count(report.failed_writes, |_| None) {
        let words = found.words("write failed for good", "writes failed for good");
        findings.add(Verdict::ReplaceSoon, Rule::FailedWrites, words);
    }
    if let Some(found) = count(report.spin_retries, |look| look.spin_retries) {
        let verdict = if found.more > 0 { Verdict::ReplaceSoon } else { Verdict::Watch };
        let words = found.words(
            "time its motor had to try again to come up to speed",
            "times its motor had to try again to come up to speed",
        );
        findings.add(verdict, Rule::SpinRetries, words);
    }
    // What was there at the last look already, and has not grown, was seen to or never mattered.
    if let Some(found) = count(report.timeouts, |look| look.timeouts).filter(|c| !c.was_seen) {
        let words = found.words("command was not answered in time", "commands were not answered in time");
        findings.add(Verdict::Watch, Rule::Timeouts, format!("{words}: check power and cable"));
    }
    if let Some(found) = count(report.link_errors, |look| look.link_errors).filter(|c| !c.was_seen) {
        let words =
            found.words("transfer came broken over the cable", "transfers came broken over the cable");
        findings.add(Verdict::Watch, Rule::LinkErrors, format!("{words}: change it"));
    }
}

/// What cannot be read, or could not.
fn judge_medium(about: &About<'_>, report: &SmartReport, findings: &mut Findings) {
    let count = |now, then: fn(&Look) -> Option<u64>| Count::of(about, now, then);
    if let Some(found) = count(report.reallocated, |look| look.reallocated) {
        let is_bad = found.more > 0 || found.now >= MANY_REALLOCATED;
        let verdict = if is_bad { Verdict::ReplaceSoon } else { Verdict::Watch };
        let words = found.words("sector was replaced by a spare one", "sectors were replaced by spare ones");
        add(findings, &found, verdict, Rule::Reallocated, words);
    }
    if let Some(found) = count(report.pending, |look| look.pending) {
        // However long it has been so: it is content that cannot be read.
        let words = found.words("sector cannot be read", "sectors cannot be read");
        findings.add(Verdict::ReplaceSoon, Rule::Pending, words);
    }
    if let Some(found) = count(report.uncorrectable, |look| look.uncorrectable) {
        let verdict = if found.stands_still { Verdict::Watch } else { Verdict::ReplaceSoon };
        add(
            findings,
            &found,
            verdict,
            Rule::Unreadable,
            found.words("read failed for good", "reads failed for good"),
        );
    }
    if let Some(found) = count(report.reported, |look| look.reported) {
        let verdict = if found.stands_still { Verdict::Watch } else { Verdict::ReplaceSoon };
        let words = found.words(
            "error that it could not correct was reported",
            "errors that it could not correct were reported",
        );
        add(findings, &found, verdict, Rule::Reported, words);
    }
}

fn add(findings: &mut Findings, count: &Count, verdict: Verdict, rule: Rule, words: String) {
    if count.stands_still {
        findings.add_of_old(verdict, rule, words);
    } else {
        findings.add(verdict, rule, words);
    }
}
