//! What a disk says about itself, as `smartctl --json --xall` prints it, on ATA, SCSI and NVMe.

mod ata;
mod nvme;
mod scsi;
mod self_test;

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

use super::document::{DocumentError, at, flag, list, number, read, text};
use super::link::{DiskLink, LinkSpeed};
use crate::units::ByteLength;

pub use ata::BelowLimit;
pub use nvme::Warning;
pub use self_test::{Reach, SelfTest};

/// What a disk says about itself; what it does not say is none.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct SmartReport {
    /// The device that was asked.
    pub device: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Its size.
    #[serde(rename = "size_bytes")]
    pub size: Option<ByteLength>,
    /// Revolutions per minute; 0 for flash.
    pub rpm: Option<u64>,
    /// The link to it.
    pub link: DiskLink,
    /// Nothing of its health could be read: why, in words.
    pub silent: Option<String>,
    /// Degrees Celsius.
    pub celsius: Option<f64>,
    /// Degrees Celsius at which the disk itself takes harm, by its maker.
    pub celsius_limit: Option<f64>,
    /// The disk's own verdict.
    pub passed: Option<bool>,
    /// What it warns of.
    pub warnings: Vec<Warning>,
    /// Attributes at or below their makers' limits, now or once.
    pub below_limits: Vec<BelowLimit>,
    /// Hours of power.
    #[serde(rename = "powered_hours")]
    pub hours: Option<u64>,
    /// Sectors that were replaced by spare ones.
    pub reallocated: Option<u64>,
    /// Sectors that could not be read and wait to be written.
    pub pending: Option<u64>,
    /// Sectors or blocks that could not be read at all.
    pub uncorrectable: Option<u64>,
    /// Errors that the disk could not correct and reported to who asked.
    pub reported: Option<u64>,
    /// Writes that failed for good.
    pub failed_writes: Option<u64>,
    /// Commands that were not answered in time.
    pub timeouts: Option<u64>,
    /// Times that the motor had to try again to come up to speed.
    pub spin_retries: Option<u64>,
    /// Transfers over the cable that came broken.
    pub link_errors: Option<u64>,
    /// How much of the life of its flash is used, in per cent.
    #[serde(rename = "flash_used_percent")]
    pub flash_used: Option<u64>,
    /// Spare space that is left and the least that its maker wants, in per cent.
    #[serde(serialize_with = "crate::pairs::left_and_least")]
    #[schemars(with = "Option<crate::pairs::LeftAndLeast>")]
    pub spare: Option<(u64, u64)>,
    /// Whether it can test itself, if it says.
    pub can_test: Option<bool>,
    /// Its self-tests, the newest first.
    pub self_tests: Vec<SelfTest>,
}

/// Reads a report.
///
/// # Errors
/// When it is no JSON object.
pub fn parse_smart(document: &str) -> Result<SmartReport, DocumentError> {
    let value = read(document)?;
    if !value.is_object() {
        return Err(DocumentError::Missing("device"));
    }
    let rpm = number(&value, &["rotation_rate"]);
    let is_flash = rpm == Some(0);
    let statistic = |name: &str| ata::statistic(&value, name);
    Ok(SmartReport {
        device: text(&value, &["device", "name"]),
        model: text(&value, &["model_name"]).or_else(|| text(&value, &["scsi_model_name"])),
        serial: text(&value, &["serial_number"]),
        size: number(&value, &["user_capacity", "bytes"]).map(ByteLength::new),
        rpm,
        link: DiskLink { now: link_speed(&value, "current"), possible: link_speed(&value, "max") },
        silent: silence(&value),
        celsius: celsius(&value, "current"),
        celsius_limit: celsius(&value, "drive_trip").or_else(|| celsius(&value, "op_limit_max")),
        passed: own_verdict(&value),
        warnings: nvme::warnings(&value),
        below_limits: ata::below_limits(&value),
        hours: hours(&value),
        reallocated: ata::attribute(&value, 5)
            .or_else(|| statistic("Number of Reallocated Logical Sectors"))
            .or_else(|| number(&value, &["scsi_grown_defect_list"])),
        pending: ata::attribute(&value, 197)
            .or_else(|| statistic("Number of Realloc. Candidate Logical Sectors"))
            .or_else(|| number(&value, &["scsi_pending_defects", "count"])),
        uncorrectable: ata::attribute(&value, 198)
            .or_else(|| scsi::failed_reads(&value))
            .or_else(|| nvme::health(&value, "media_errors")),
        reported: ata::attribute(&value, 187)
            .or_else(|| statistic("Number of Reported Uncorrectable Errors")),
        failed_writes: scsi::failed_writes(&value),
        timeouts: ata::timeouts(&value),
        spin_retries: ata::attribute(&value, 10),
        link_errors: ata::attribute(&value, 199).or_else(|| statistic("Number of Interface CRC Errors")),
        flash_used: flash_used(&value, is_flash),
        spare: nvme::spare(&value).or_else(|| {
            let spare = |key: &str| number(&value, &["spare_available", key]);
            spare("current_percent").zip(spare("threshold_percent"))
        }),
        can_test: self_test::is_able(&value),
        self_tests: self_test::read_all(&value),
    })
}

fn celsius(value: &Value, which: &str) -> Option<f64> {
    let told = at(value, &["temperature", which]).and_then(Value::as_f64);
    told.filter(|c| (-60.0..=200.0).contains(c))
}

/// The bit of the exit status that says that the disk reports its own failure.
const DISK_IS_FAILING: u64 = 1 << 3;

fn own_verdict(value: &Value) -> Option<bool> {
    let status = number(value, &["smartctl", "exit_status"]);
    let is_failing = status.is_some_and(|bits| bits & DISK_IS_FAILING != 0);
    flag(value, &["smart_status", "passed"])
        .map(|passed| passed && !is_failing)
        .or(is_failing.then_some(false))
}

fn hours(value: &Value) -> Option<u64> {
    number(value, &["power_on_time", "hours"])
        .or_else(|| nvme::health(value, "power_on_hours"))
        .or_else(|| ata::statistic(value, "Power-on Hours"))
        .or_else(|| ata::attribute(value, 9))
}

fn flash_used(value: &Value, is_flash: bool) -> Option<u64> {
    number(value, &["endurance_used", "current_percent"])
        .or_else(|| nvme::health(value, "percentage_used"))
        .or_else(|| scsi::flash_used(value))
        .or_else(|| ata::flash_used(value, is_flash))
}

/// Keys of which a disk that was asked tells at least one.
const OF_HEALTH: [&str; 9] = [
    "smart_status",
    "power_on_time",
    "ata_smart_attributes",
    "ata_device_statistics",
    "ata_smart_self_test_log",
    "nvme_smart_health_information_log",
    "scsi_grown_defect_list",
    "scsi_error_counter_log",
    "scsi_self_test_0",
];

/// Why a report tells nothing about health, in its own words where it has some.
fn silence(value: &Value) -> Option<String> {
    if OF_HEALTH.iter().any(|key| at(value, &[key]).is_some()) {
        return None;
    }
    let first = list(value, &["smartctl", "messages"]).find_map(|message| text(message, &["string"]));
    Some(first.unwrap_or_else(|| "its report says nothing of its health".into()))
}

fn link_speed(value: &Value, which: &str) -> Option<LinkSpeed> {
    let link = at(value, &["interface_speed", which])?;
    let words = text(link, &["string"])?;
    let product = number(link, &["units_per_second"]).zip(number(link, &["bits_per_unit"]));
    let bits = product.and_then(|(units, bits)| units.checked_mul(bits)).unwrap_or(0);
    Some(LinkSpeed { words, bits })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const DISK: &str = r#"{"device": {"name": "/dev/sdb"}, "model_name": "Kestrel K8", "serial_number": "KS08-31V7C5",
        "user_capacity": {"bytes": 8001563222016}, "rotation_rate": 7200,
        "interface_speed": {"max": {"string": "6.0 Gb/s", "units_per_second": 60, "bits_per_unit": 100000000},
                            "current": {"string": "3.0 Gb/s", "units_per_second": 30, "bits_per_unit": 100000000}},
        "smart_status": {"passed": true}, "temperature": {"current": 41},
        "power_on_time": {"hours": 31022},
        "ata_smart_attributes": {"table": [{"id": 5, "raw": {"value": 24}}, {"id": 197, "raw": {"value": "2"}}, {"id": 198, "raw": null}]},
        "ata_smart_self_test_log": {"standard": {"table": [
            {"type": {"string": "Extended offline"}, "status": {"string": "Completed without error", "passed": true}, "lifetime_hours": 30500}]}}}"#;

    #[test]
    fn a_report_of_a_hard_disk() {
        let report = parse_smart(DISK).unwrap();
        assert_eq!((report.reallocated, report.pending, report.uncorrectable), (Some(24), Some(2), None));
        assert_eq!((report.hours, report.celsius, report.rpm), (Some(31_022), Some(41.0), Some(7200)));
        assert_eq!(report.link.slow(), Some(("3.0 Gb/s", "6.0 Gb/s")));
        let test = &report.self_tests[0];
        assert_eq!((test.passed, test.at_hours, test.reach), (Some(true), Some(30_500), Reach::Long));
    }

    #[test]
    fn a_report_of_flash_on_the_bus() {
        let report = parse_smart(
            r#"{"nvme_smart_health_information_log": {"percentage_used": 7, "media_errors": 0}, "temperature": {"current": "x"},
                "nvme_self_test_log": {"table": [{"self_test_code": {"string": "Short"}, "self_test_result": {"value": 0, "string": "Completed without error"}}]}}"#,
        )
        .unwrap();
        assert_eq!((report.flash_used, report.uncorrectable, report.celsius), (Some(7), Some(0), None));
        assert_eq!((report.self_tests[0].passed, report.self_tests[0].reach), (Some(true), Reach::Short));
    }

    #[rstest]
    #[case("{}")]
    #[case(r#"{"temperature": null, "ata_smart_attributes": {"table": []}, "interface_speed": {"max": 3}}"#)]
    #[case(r#"{"temperature": {"current": 900}, "power_on_time": -4}"#)]
    fn what_is_not_reported_is_a_gap(#[case] document: &str) {
        let silent = parse_smart(document).unwrap().silent;
        assert_eq!(parse_smart(document).unwrap(), SmartReport { silent, ..SmartReport::default() });
    }

    #[rstest]
    #[case("")]
    #[case("[1, 2]")]
    #[case("{\"temperature\": ")]
    fn what_is_no_report_is_refused(#[case] document: &str) {
        assert!(parse_smart(document).is_err());
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn a_report_with_any_value_put_anywhere_is_read(cut in 0..DISK.len(), junk in "[0-9\"{}\\[\\]null:,a-z]{0,6}") {
            let mut text = DISK.as_bytes().to_vec();
            text.splice(cut..cut, junk.bytes());
            let _ = parse_smart(&String::from_utf8_lossy(&text));
        }
    }
}
