//! What a disk says about itself, as `smartctl --json --all` prints it.

use serde::Serialize;
use serde_json::Value;

use super::document::{DocumentError, at, flag, list, number, read, text};
use super::link::{DiskLink, LinkSpeed};
use crate::units::ByteLength;

/// The newest self-test of a disk.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SelfTest {
    /// What kind it was: "Extended offline".
    pub kind: String,
    /// Whether it passed; nothing while it is running or was broken off.
    pub passed: Option<bool>,
    /// How it ended, in the disk's words.
    pub outcome: String,
    /// The disk's age then, in hours of power.
    pub at_hours: Option<u64>,
}

/// What a disk says about itself; what it does not say is none.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct SmartReport {
    /// The device that was asked.
    pub device: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Its size.
    pub size: Option<ByteLength>,
    /// Revolutions per minute; 0 for flash.
    pub rpm: Option<u64>,
    /// The link to it.
    pub link: DiskLink,
    /// Degrees Celsius.
    pub celsius: Option<f64>,
    /// The disk's own verdict.
    pub passed: Option<bool>,
    /// Hours of power.
    pub hours: Option<u64>,
    /// Sectors that were replaced by spare ones.
    pub reallocated: Option<u64>,
    /// Sectors that could not be read and wait to be written.
    pub pending: Option<u64>,
    /// Sectors or blocks that could not be read at all.
    pub uncorrectable: Option<u64>,
    /// How much of the life of its flash is used, in per cent.
    pub flash_used: Option<u64>,
    /// The newest self-test.
    pub self_test: Option<SelfTest>,
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
    let flash = ["nvme_smart_health_information_log"];
    let log = |key: &str| number(&value, &[flash[0], key]);
    let temperature = at(&value, &["temperature", "current"]).and_then(Value::as_f64);
    Ok(SmartReport {
        device: text(&value, &["device", "name"]),
        model: text(&value, &["model_name"]),
        serial: text(&value, &["serial_number"]),
        size: number(&value, &["user_capacity", "bytes"]).map(ByteLength::new),
        rpm: number(&value, &["rotation_rate"]),
        link: DiskLink { now: link_speed(&value, "current"), possible: link_speed(&value, "max") },
        celsius: temperature.filter(|c| (-60.0..=200.0).contains(c)),
        passed: flag(&value, &["smart_status", "passed"]),
        hours: number(&value, &["power_on_time", "hours"]).or_else(|| attribute(&value, 9)),
        reallocated: attribute(&value, 5),
        pending: attribute(&value, 197),
        uncorrectable: attribute(&value, 198).or_else(|| log("media_errors")),
        flash_used: log("percentage_used"),
        self_test: self_test(&value),
    })
}

/// The raw value of an attribute by its number.
fn attribute(value: &Value, id: u64) -> Option<u64> {
    let table = list(value, &["ata_smart_attributes", "table"]);
    let found = table.into_iter().find(|entry| number(entry, &["id"]) == Some(id))?;
    number(found, &["raw", "value"])
}

fn link_speed(value: &Value, which: &str) -> Option<LinkSpeed> {
    let link = at(value, &["interface_speed", which])?;
    let words = text(link, &["string"])?;
    let product = number(link, &["units_per_second"]).zip(number(link, &["bits_per_unit"]));
    let bits = product.and_then(|(units, bits)| units.checked_mul(bits)).unwrap_or(0);
    Some(LinkSpeed { words, bits })
}

fn self_test(value: &Value) -> Option<SelfTest> {
    const LOGS: [&[&str]; 3] = [
        &["ata_smart_self_test_log", "extended", "table"],
        &["ata_smart_self_test_log", "standard", "table"],
        &["nvme_self_test_log", "table"],
    ];
    let newest = LOGS.iter().find_map(|path| list(value, path).next())?;
    let either = |paths: [&[&str]; 2]| paths.iter().find_map(|path| text(newest, path));
    let outcome = either([&["status", "string"], &["self_test_result", "string"]])?;
    let passed = flag(newest, &["status", "passed"])
        .or_else(|| number(newest, &["self_test_result", "value"]).map(|code| code == 0));
    let is_running = outcome.to_lowercase().contains("progress") || outcome.to_lowercase().contains("abort");
    Some(SelfTest {
        kind: either([&["type", "string"], &["self_test_code", "string"]]).unwrap_or_default(),
        passed: passed.filter(|_| !is_running),
        outcome,
        at_hours: number(newest, &["lifetime_hours"]).or_else(|| number(newest, &["power_on_hours"])),
    })
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
        let test = report.self_test.unwrap();
        assert_eq!((test.passed, test.at_hours), (Some(true), Some(30_500)));
    }

    #[test]
    fn a_report_of_flash_on_the_bus() {
        let report = parse_smart(
            r#"{"nvme_smart_health_information_log": {"percentage_used": 7, "media_errors": 0}, "temperature": {"current": "x"},
                "nvme_self_test_log": {"table": [{"self_test_code": {"string": "Short"}, "self_test_result": {"value": 0, "string": "Completed without error"}}]}}"#,
        )
        .unwrap();
        assert_eq!((report.flash_used, report.uncorrectable, report.celsius), (Some(7), Some(0), None));
        assert_eq!(report.self_test.unwrap().passed, Some(true));
    }

    #[rstest]
    #[case("{}")]
    #[case(r#"{"temperature": null, "ata_smart_attributes": {"table": []}, "interface_speed": {"max": 3}}"#)]
    #[case(r#"{"temperature": {"current": 900}, "power_on_time": -4}"#)]
    fn what_is_not_reported_is_a_gap(#[case] document: &str) {
        assert_eq!(parse_smart(document).unwrap(), SmartReport::default());
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
