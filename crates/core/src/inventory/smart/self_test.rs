//! The tests that disks run on themselves.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

use crate::inventory::document::{at, flag, list, number, text};

/// How much of a disk a self-test reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Reach {
    /// Electronics and a sample of the surface.
    Short,
    /// All of it.
    Long,
}

/// A self-test of a disk.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SelfTest {
    /// What kind it was: "Extended offline".
    pub kind: String,
    /// How much it reads.
    pub reach: Reach,
    /// Whether it passed; nothing while it is running or was broken off.
    pub passed: Option<bool>,
    /// How it ended, in the disk's words.
    pub outcome: String,
    /// The disk's age then, in hours of power.
    pub at_hours: Option<u64>,
    /// The count of hours has 16 bits in this log, and begins again after 65,535.
    pub hours_wrap: bool,
}

/// Hours after which a count of 16 bits begins again.
const WRAP: u64 = 1 << 16;

impl SelfTest {
    /// Hours of power since it, at the age of `now` hours; none where that cannot be: the test is not in the past.
    ///
    /// Where the log counts with 16 bits the test may be any number of rounds older; the youngest one that fits is
    /// taken, since disks keep the newest tests.
    pub fn age(&self, now: u64) -> Option<u64> {
        let then = self.at_hours?;
        if self.hours_wrap && now >= WRAP && then < WRAP {
            return Some((now % WRAP + WRAP - then) % WRAP);
        }
        now.checked_sub(then)
    }
}

/// The tests on record, the newest first.
pub(super) fn read_all(value: &Value) -> Vec<SelfTest> {
    let ata = ["extended", "standard"].into_iter().find_map(|log| {
        let tests: Vec<SelfTest> =
            list(value, &["ata_smart_self_test_log", log, "table"]).filter_map(of_ata).collect();
        (!tests.is_empty()).then_some(tests)
    });
    let nvme = || list(value, &["nvme_self_test_log", "table"]).filter_map(of_nvme);
    // The log of a SCSI disk has twenty places.
    let scsi = || (0..20).filter_map(|n| of_scsi(at(value, &[&format!("scsi_self_test_{n}")])?));
    ata.unwrap_or_else(|| nvme().chain(scsi()).collect())
}

/// Whether the disk can test itself, if it says.
pub(super) fn is_able(value: &Value) -> Option<bool> {
    flag(value, &["ata_smart_data", "capabilities", "self_tests_supported"])
        .or_else(|| flag(value, &["nvme_optional_admin_commands", "self_test"]))
}

/// What a code for the end of a test means.
enum End {
    Passed,
    Unfinished,
    Failed,
}

impl End {
    const fn passed(self) -> Option<bool> {
        match self {
            Self::Passed => Some(true),
            Self::Unfinished => None,
            Self::Failed => Some(false),
        }
    }

    /// From words, where there is no code.
    fn of_words(words: &str) -> Self {
        let words = words.to_lowercase();
        let has = |any: &[&str]| any.iter().any(|part| words.contains(part));
        if has(&["without error", "passed"]) {
            Self::Passed
        } else if has(&["fail", "fatal", "damage", "unknown"]) && !has(&["abort", "interrupt", "progress"]) {
            Self::Failed
        } else {
            Self::Unfinished
        }
    }
}

/// "SMART self-test log data structure" of ATA Command Set 3: the end of a test is the upper half of a byte.
fn of_ata(entry: &Value) -> Option<SelfTest> {
    let outcome = text(entry, &["status", "string"])?;
    let passed = match number(entry, &["status", "value"]) {
        Some(byte) => match byte >> 4 {
            0 => End::Passed,
            1 | 2 | 15 => End::Unfinished,
            _ => End::Failed,
        }
        .passed(),
        None => {
            let told = flag(entry, &["status", "passed"]);
            End::of_words(&outcome).passed().and_then(|words| told.or(Some(words)))
        }
    };
    let kind = text(entry, &["type", "string"]).unwrap_or_default();
    // The highest bit says only that the disk did nothing else meanwhile.
    let is_long = number(entry, &["type", "value"]).is_some_and(|code| code & 0x7F == 2);
    Some(SelfTest {
        reach: reach(&kind, is_long),
        kind,
        passed,
        outcome,
        at_hours: number(entry, &["lifetime_hours"]),
        hours_wrap: true,
    })
}

/// "Device Self-test Result Data Structure" of the NVM Express Base Specification.
fn of_nvme(entry: &Value) -> Option<SelfTest> {
    let outcome = text(entry, &["self_test_result", "string"])?;
    let end = match number(entry, &["self_test_result", "value"]) {
        Some(0) => End::Passed,
        Some(5..=7) => End::Failed,
        Some(_) => End::Unfinished,
        None => End::of_words(&outcome),
    };
    let kind = text(entry, &["self_test_code", "string"]).unwrap_or_default();
    let is_long = number(entry, &["self_test_code", "value"]) == Some(2);
    Some(SelfTest {
        reach: reach(&kind, is_long),
        kind,
        passed: end.passed(),
        outcome,
        at_hours: number(entry, &["power_on_hours"]),
        hours_wrap: false,
    })
}

/// "Self-Test Results log page" of SCSI Primary Commands 4.
fn of_scsi(entry: &Value) -> Option<SelfTest> {
    let outcome = text(entry, &["result", "string"])?;
    let end = match number(entry, &["result", "value"]) {
        Some(0) => End::Passed,
        Some(3..=7) => End::Failed,
        Some(_) => End::Unfinished,
        None => End::of_words(&outcome),
    };
    let kind = text(entry, &["code", "string"]).unwrap_or_default();
    Some(SelfTest {
        reach: reach(&kind, false),
        kind,
        passed: end.passed(),
        outcome,
        at_hours: number(entry, &["power_on_time", "hours"]),
        hours_wrap: true,
    })
}

fn reach(kind: &str, is_long: bool) -> Reach {
    let kind = kind.to_lowercase();
    if is_long || kind.contains("extended") || kind.contains("long") { Reach::Long } else { Reach::Short }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    #[rstest]
    #[case::first_round(9_000, 8_700, Some(300))]
    #[case::after_the_wrap(65_600, 65_500, Some(100))]
    #[case::both_after(70_000, 4_000, Some(464))]
    #[case::after_two_rounds(140_000, 8_900, Some(28))]
    #[case::in_the_future(1_000, 2_000, None)]
    #[case::now(65_536, 0, Some(0))]
    fn the_age_of_a_test_across_the_wrap_of_hours(
        #[case] now: u64,
        #[case] then: u64,
        #[case] age: Option<u64>,
    ) {
        let entry = json!({ "type": { "value": 2, "string": "Extended offline" }, "lifetime_hours": then,
            "status": { "value": 0, "string": "Completed without error" } });
        assert_eq!(of_ata(&entry).unwrap().age(now), age);
    }

    #[rstest]
    #[case(0, true, Some(true))]
    #[case(0x10, true, None)]
    #[case(0x21, true, None)]
    #[case(0x30, false, Some(false))]
    #[case(0x72, false, Some(false))]
    #[case(0xF4, true, None)]
    fn a_broken_off_test_says_nothing(#[case] byte: u64, #[case] flag: bool, #[case] passed: Option<bool>) {
        let entry = json!({ "status": { "value": byte, "string": "words", "passed": flag } });
        assert_eq!(of_ata(&entry).unwrap().passed, passed);
    }

    #[rstest]
    #[case("Completed without error", Some(true))]
    #[case("Completed: read failure", Some(false))]
    #[case("Fatal or unknown error", Some(false))]
    #[case("Aborted by host", None)]
    #[case("Self-test routine in progress", None)]
    fn words_tell_where_there_is_no_code(#[case] words: &str, #[case] passed: Option<bool>) {
        assert_eq!(of_ata(&json!({ "status": { "string": words } })).unwrap().passed, passed);
    }
}
