//! From what a disk reports to a verdict with its reasons.

use super::finding::{About, Check, Findings, Verdict};
use super::rule::{FOLLOWED_DAYS, Rule};
use super::{errors, self_tests, wear};
use crate::inventory::{DiskLink, SmartReport, Warning};
use crate::pool::Temperature;

/// Judges a disk: the verdict is that of its worst reason. Without a reason it is fine. What each rule rests on is
/// told by [`Rule::why`].
pub fn judge(about: &About<'_>) -> Vec<Check> {
    let mut findings = Findings::default();
    match about.report {
        Some(report) if report.silent.is_none() => {
            judge_its_own_words(report, &mut findings);
            errors::judge(about, report, &mut findings);
            self_tests::judge(report, &mut findings);
            wear::judge(report, &mut findings);
        }
        report => {
            let why = report.and_then(|r| r.silent.as_deref());
            let why = why.map_or_else(String::new, |why| format!(": {why}"));
            findings.add(Verdict::Watch, Rule::Silent, format!("it could not be asked about itself{why}"));
        }
    }
    judge_surroundings(about, &mut findings);
    let mut checks = findings.0;
    checks.sort_by_key(|check| std::cmp::Reverse(check.verdict));
    checks
}

/// How many times as likely to fail within a year the findings make a disk.
///
/// The studies followed disks for 60 days; for the rest of the year nothing is claimed.
pub fn raised_over_a_year(checks: &[Check]) -> f64 {
    let most = checks.iter().map(|check| check.raises).fold(1.0, f64::max);
    let share = FOLLOWED_DAYS / 365.25;
    most * share + (1.0 - share)
}

fn judge_its_own_words(report: &SmartReport, findings: &mut Findings) {
    if report.passed == Some(false) {
        findings.add(Verdict::DoNotUse, Rule::OwnVerdict, "it says itself that it is failing");
    }
    for warning in &report.warnings {
        let (verdict, words) = match warning {
            Warning::SpareIsLow => (Verdict::ReplaceSoon, "it warns that its spare space runs out"),
            Warning::Temperature => (Verdict::Watch, "it warns of its temperature"),
            Warning::Unreliable => (Verdict::DoNotUse, "it warns that errors have made it unreliable"),
            Warning::ReadOnly => (Verdict::DoNotUse, "it takes no more writes"),
            Warning::PowerLossProtection => {
                (Verdict::ReplaceSoon, "it warns that what guards its memory against a power cut has failed")
            }
            Warning::MemoryRegion => (Verdict::Watch, "it warns of its persistent memory region"),
        };
        findings.add(verdict, Rule::Warning, words);
    }
    for attribute in &report.below_limits {
        // Temperatures count down towards their limit like all else, but cool down again.
        let is_temperature = matches!(attribute.id, 190 | 194);
        let verdict = match (attribute.is_now, attribute.foretells_failure) {
            _ if is_temperature => Verdict::Watch,
            (true, true) => Verdict::DoNotUse,
            (true, false) | (false, true) => Verdict::ReplaceSoon,
            (false, false) => Verdict::Watch,
        };
        let (rule, when) =
            if attribute.is_now { (Rule::BelowLimit, "is") } else { (Rule::WasBelowLimit, "was once") };
        let name = if attribute.name.is_empty() { "without a name" } else { &attribute.name };
        findings.add(
            verdict,
            rule,
            format!("its value {} ({name}) {when} below the limit of its maker", attribute.id),
        );
    }
}

fn judge_surroundings(about: &About<'_>, findings: &mut Findings) {
    let limit = about.thresholds.too_hot;
    if let Some(celsius) = about.celsius {
        let now: Temperature = limit.like(celsius);
        let own = about.report.and_then(|r| r.celsius_limit).filter(|own| celsius > *own);
        if let Some(own) = own {
            let own: Temperature = limit.like(own);
            let reason = format!("it is at {now}, and may be at {own} by its maker: cool it");
            findings.add(Verdict::Watch, Rule::Temperature, reason);
        } else if celsius > limit.celsius {
            findings.add(Verdict::Watch, Rule::Temperature, format!("it is at {now}, the limit is {limit}"));
        }
    }
    if let Some((now, possible)) = about.link.and_then(DiskLink::slow) {
        let reason = format!("it is linked at {now} and could do {possible}: check the cable and the port");
        findings.add(Verdict::Watch, Rule::SlowLink, reason);
    }
    if let Some(full) = about.full.filter(|f| *f > about.thresholds.too_full.fraction()) {
        findings.add(Verdict::Watch, Rule::Full, format!("it is {:.0} % full", full * 100.0));
    }
}
