//! From what a disk reports to a verdict with its reasons.

use jiff::civil::Date;
use serde::Serialize;

use crate::inventory::{DiskLink, SmartReport};
use crate::pool::{DiskSpec, Temperature, Thresholds, VolumeSpec};

/// What is to be done about a disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize)]
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

/// The counts of an earlier look at a disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Look {
    /// When, nanoseconds since 1970.
    pub at: i64,
    /// Sectors that were replaced by spare ones.
    pub reallocated: Option<u64>,
    /// Sectors that wait to be written.
    pub pending: Option<u64>,
    /// Sectors that could not be read.
    pub uncorrectable: Option<u64>,
}

/// One reason, and how serious it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Check {
    /// How serious.
    pub verdict: Verdict,
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
    /// The look before this one.
    pub before: Option<&'a Look>,
    /// How full it is, from 0 to 1.
    pub full: Option<f64>,
    /// From when on something is worth a word.
    pub thresholds: &'a Thresholds,
}

/// Reallocated sectors from which on a disk is to be replaced even if they do not grow.
const MANY_REALLOCATED: u64 = 100;
/// Hours of power between two full self-tests: about a month of running day and night, and some grace.
const SELF_TEST_HOURS: u64 = 1000;
/// Hours of power after which a disk is old: about six years of running day and night.
const OLD_HOURS: u64 = 52_000;

/// Judges a disk: the verdict is that of its worst reason. Without a reason it is fine.
///
/// # Source
/// E. Pinheiro, W.-D. Weber, L. A. Barroso, "Failure Trends in a Large Disk Drive Population": after the first
/// reallocation, pending sector or unreadable sector a disk is many times as likely to fail within the next 60
/// days; of temperature and age the influence is weaker.
pub fn judge(about: &About<'_>) -> Vec<Check> {
    let mut checks = Vec::new();
    match about.report {
        Some(report) => {
            judge_sectors(report, about.before, &mut checks);
            judge_tests(report, &mut checks);
            judge_wear(report, &mut checks);
        }
        None => add(&mut checks, Verdict::Watch, "it could not be asked about itself"),
    }
    judge_surroundings(about, &mut checks);
    if let Some(full) = about.full.filter(|f| *f > about.thresholds.too_full.fraction()) {
        add(&mut checks, Verdict::Watch, format!("it is {:.0} % full", full * 100.0));
    }
    checks.sort_by_key(|check| std::cmp::Reverse(check.verdict));
    checks
}

fn add(checks: &mut Vec<Check>, verdict: Verdict, reason: impl Into<String>) {
    checks.push(Check { verdict, reason: reason.into() });
}

fn judge_sectors(report: &SmartReport, before: Option<&Look>, checks: &mut Vec<Check>) {
    let grown = |now: Option<u64>, then: Option<u64>| now.zip(then).map_or(0, |(n, t)| n.saturating_sub(t));
    let since =
        |more: u64| if more > 0 { format!(", {more} more than at the last look") } else { String::new() };
    if report.passed == Some(false) {
        add(checks, Verdict::DoNotUse, "it says itself that it is failing");
    }
    if let Some(count) = report.reallocated.filter(|n| *n > 0) {
        let more = grown(report.reallocated, before.and_then(|b| b.reallocated));
        let bad = more > 0 || count >= MANY_REALLOCATED;
        let verdict = if bad { Verdict::ReplaceSoon } else { Verdict::Watch };
        add(checks, verdict, format!("{count} sectors were replaced by spare ones{}", since(more)));
    }
    if let Some(count) = report.pending.filter(|n| *n > 0) {
        let more = grown(report.pending, before.and_then(|b| b.pending));
        add(checks, Verdict::ReplaceSoon, format!("{count} sectors could not be read{}", since(more)));
    }
    if let Some(count) = report.uncorrectable.filter(|n| *n > 0) {
        let more = grown(report.uncorrectable, before.and_then(|b| b.uncorrectable));
        add(checks, Verdict::ReplaceSoon, format!("{count} reads failed for good{}", since(more)));
    }
}

fn judge_tests(report: &SmartReport, checks: &mut Vec<Check>) {
    let Some(test) = &report.self_test else {
        return add(checks, Verdict::Watch, "no self-test is on record: run a full one");
    };
    if test.passed == Some(false) {
        return add(checks, Verdict::DoNotUse, format!("the last self-test failed: {}", test.outcome));
    }
    let age = report.hours.zip(test.at_hours).map(|(now, then)| now.saturating_sub(then));
    if let Some(hours) = age.filter(|h| *h > SELF_TEST_HOURS) {
        add(
            checks,
            Verdict::Watch,
            format!("the last self-test is {hours} hours of power old: run a full one"),
        );
    }
}

fn judge_surroundings(about: &About<'_>, checks: &mut Vec<Check>) {
    let limit = about.thresholds.too_hot;
    if let Some(celsius) = about.celsius.filter(|c| *c > limit.celsius) {
        let now: Temperature = limit.like(celsius);
        add(checks, Verdict::Watch, format!("it is at {now}, the limit is {limit}"));
    }
    if let Some((now, possible)) = about.link.and_then(DiskLink::slow) {
        add(
            checks,
            Verdict::Watch,
            format!("it is linked at {now} and could do {possible}: check the cable and the port"),
        );
    }
}

fn judge_wear(report: &SmartReport, checks: &mut Vec<Check>) {
    if let Some(used) = report.flash_used.filter(|u| *u >= 80) {
        let verdict = if used >= 100 { Verdict::ReplaceSoon } else { Verdict::Watch };
        add(checks, verdict, format!("{used} % of the life of its flash is used"));
    }
    if let Some(hours) = report.hours.filter(|h| *h >= OLD_HOURS) {
        add(checks, Verdict::Watch, format!("it has run for {:.1} years", hours as f64 / 8766.0));
    }
}

/// The days of warranty that are left on a day; negative when it has ended; none where its end is not known.
pub fn warranty_left(disk: &DiskSpec, today: Date) -> Option<i64> {
    let left = today.until(disk.warranty?).ok()?;
    Some(i64::from(left.get_days()))
}

/// The age of a disk on a day, in years: since it was made, else since it was bought.
pub fn age_in_years(disk: &DiskSpec, today: Date) -> Option<f64> {
    let days = disk.made.or(disk.bought)?.until(today).ok()?.get_days();
    (days >= 0).then(|| f64::from(days) / 365.25)
}

/// The batches of which a volume has more than one disk: they are of one age and may die together.
pub fn batches<'a>(volume: &'a VolumeSpec, disks: &'a [DiskSpec]) -> Vec<(&'a str, Vec<&'a str>)> {
    let mut found: Vec<(&str, Vec<&str>)> = Vec::new();
    for disk in disks.iter().filter(|d| volume.members().any(|name| name == d.name)) {
        let Some(batch) = disk.batch.as_deref() else { continue };
        match found.iter_mut().find(|(known, _)| *known == batch) {
            Some((_, names)) => names.push(&disk.name),
            None => found.push((batch, vec![&disk.name])),
        }
    }
    found.retain(|(_, names)| names.len() > 1);
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::inventory::{LinkSpeed, SelfTest};
    use crate::pool::Share;
    use jiff::civil::date;
    use rstest::rstest;

    fn well() -> SmartReport {
        SmartReport {
            celsius: Some(34.0),
            passed: Some(true),
            hours: Some(9_000),
            reallocated: Some(0),
            pending: Some(0),
            self_test: Some(SelfTest {
                kind: "Extended offline".into(),
                passed: Some(true),
                outcome: "Completed without error".into(),
                at_hours: Some(8_700),
            }),
            ..SmartReport::default()
        }
    }

    fn judged(report: &SmartReport, before: Option<&Look>) -> (Verdict, String) {
        let thresholds = Thresholds::default();
        let about = About {
            report: Some(report),
            link: Some(&report.link),
            celsius: report.celsius,
            before,
            full: Some(0.5),
            thresholds: &thresholds,
        };
        let checks = judge(&about);
        let reasons = checks.iter().map(|c| c.reason.clone()).collect::<Vec<_>>().join("; ");
        (checks.first().map_or(Verdict::Fine, |c| c.verdict), reasons)
    }

    #[test]
    fn a_disk_without_a_fault_is_fine() {
        assert_eq!(judged(&well(), None), (Verdict::Fine, String::new()));
    }

    #[rstest]
    #[case(|r: &mut SmartReport| r.passed = Some(false), Verdict::DoNotUse, "failing")]
    #[case(|r: &mut SmartReport| r.reallocated = Some(8), Verdict::Watch, "8 sectors were replaced")]
    #[case(|r: &mut SmartReport| r.reallocated = Some(100), Verdict::ReplaceSoon, "100 sectors")]
    #[case(|r: &mut SmartReport| r.pending = Some(1), Verdict::ReplaceSoon, "could not be read")]
    #[case(|r: &mut SmartReport| r.uncorrectable = Some(1), Verdict::ReplaceSoon, "failed for good")]
    #[case(|r: &mut SmartReport| r.celsius = Some(51.0), Verdict::Watch, "at 51 °C, the limit is 50 °C")]
    #[case(|r: &mut SmartReport| r.hours = Some(60_000), Verdict::Watch, "6.8 years")]
    #[case(|r: &mut SmartReport| r.hours = Some(9_800), Verdict::Watch, "1100 hours of power old")]
    #[case(|r: &mut SmartReport| r.self_test = None, Verdict::Watch, "no self-test")]
    #[case(|r: &mut SmartReport| r.self_test.as_mut().unwrap().passed = Some(false), Verdict::DoNotUse, "self-test failed")]
    #[case(|r: &mut SmartReport| r.flash_used = Some(85), Verdict::Watch, "85 %")]
    #[case(|r: &mut SmartReport| r.flash_used = Some(103), Verdict::ReplaceSoon, "103 %")]
    fn each_fault_has_its_verdict(
        #[case] fault: fn(&mut SmartReport),
        #[case] verdict: Verdict,
        #[case] words: &str,
    ) {
        let mut report = well();
        fault(&mut report);
        let (found, reasons) = judged(&report, None);
        assert_eq!(found, verdict, "{reasons}");
        assert!(reasons.contains(words), "{reasons}");
    }

    #[test]
    fn what_grows_is_worse_than_what_stands_still() {
        let mut report = well();
        report.reallocated = Some(8);
        let before = |count| Look { reallocated: Some(count), ..Look::default() };
        assert_eq!(judged(&report, Some(&before(8))).0, Verdict::Watch);
        let (verdict, reasons) = judged(&report, Some(&before(3)));
        assert_eq!(verdict, Verdict::ReplaceSoon);
        assert!(reasons.contains("5 more than at the last look"), "{reasons}");
    }

    #[test]
    fn a_slow_link_a_full_disk_and_a_silent_one() {
        let link = |words: &str, bits| Some(LinkSpeed { words: words.into(), bits });
        let mut report = well();
        report.link = DiskLink { now: link("3.0 Gb/s", 3), possible: link("6.0 Gb/s", 6) };
        assert!(judged(&report, None).1.contains("linked at 3.0 Gb/s and could do 6.0 Gb/s"));
        let thresholds = Thresholds { too_full: Share::percent(40), ..Thresholds::default() };
        let about = About {
            report: None,
            link: None,
            celsius: Some(51.0),
            before: None,
            full: Some(0.5),
            thresholds: &thresholds,
        };
        let reasons: Vec<String> = judge(&about).into_iter().map(|c| c.reason).collect();
        assert_eq!(
            reasons,
            ["it could not be asked about itself", "it is at 51 °C, the limit is 50 °C", "it is 50 % full"]
        );
    }

    #[test]
    fn warranty_and_age_are_counted_in_days() {
        let disk = DiskSpec {
            warranty: Some(date(2031, 5, 14)),
            bought: Some(date(2029, 5, 4)),
            ..DiskSpec::default()
        };
        let today = date(2031, 5, 4);
        assert_eq!(warranty_left(&disk, today), Some(10));
        assert_eq!(warranty_left(&disk, date(2031, 6, 14)), Some(-31));
        assert!((age_in_years(&disk, today).unwrap() - 2.0).abs() < 0.01);
        assert_eq!(warranty_left(&DiskSpec::default(), today), None);
        assert_eq!(age_in_years(&disk, date(2020, 1, 1)), None);
    }

    #[test]
    fn disks_of_one_batch_in_one_volume_are_named() {
        let text = "[pool]\nname = \"f\"\n[[disk]]\nname = \"alder\"\nbatch = \"may\"\n[[disk]]\nname = \"beech\"\nbatch = \"may\"\n[[disk]]\nname = \"oak\"\n[[volume]]\nname = \"v\"\nkind = \"unstriped\"\ndata = [\"alder\", \"oak\"]\nparity = [\"beech\"]\n";
        let spec = crate::pool::parse(text).spec.unwrap();
        assert_eq!(batches(&spec.volumes[0], &spec.disks), [("may", vec!["alder", "beech"])]);
    }
}
