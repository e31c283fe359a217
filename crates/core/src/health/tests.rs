//! Reports of disks whose state is known, and what is said of them.

use rstest::rstest;
use serde_json::{Value, json};

use super::*;
use crate::inventory::{DiskLink, LinkSpeed, SmartReport, parse_smart};
use crate::pool::{Share, Thresholds};

const DAY: i64 = 86_400_000_000_000;

/// A hard disk on ATA without a fault.
fn sata() -> Value {
    let attribute = |id: u64, name: &str, prefailure: bool, thresh: u64| {
        json!({ "id": id, "name": name, "value": 100, "worst": 100, "thresh": thresh, "when_failed": "",
            "flags": { "prefailure": prefailure }, "raw": { "value": 0, "string": "0" } })
    };
    json!({
        "device": { "name": "/dev/sda", "protocol": "ATA" }, "rotation_rate": 7200,
        "smart_status": { "passed": true }, "temperature": { "current": 34 }, "power_on_time": { "hours": 9000 },
        "ata_smart_data": { "capabilities": { "self_tests_supported": true } },
        "ata_smart_attributes": { "table": [
            attribute(5, "Reallocated_Sector_Ct", true, 10), attribute(10, "Spin_Retry_Count", true, 97),
            attribute(187, "Reported_Uncorrect", false, 0), attribute(188, "Command_Timeout", false, 0),
            attribute(190, "Airflow_Temperature_Cel", false, 40), attribute(197, "Current_Pending_Sector", false, 0),
            attribute(198, "Offline_Uncorrectable", false, 0), attribute(199, "UDMA_CRC_Error_Count", false, 0),
        ]},
        "ata_smart_self_test_log": { "standard": { "table": [ test("Extended offline", 2, 0, 8700) ] } },
    })
}

fn test(kind: &str, code: u64, status: u64, hours: u64) -> Value {
    let words = match status >> 4 {
        0 => "Completed without error",
        1 => "Aborted by host",
        _ => "Completed: read failure",
    };
    json!({ "type": { "value": code, "string": kind }, "lifetime_hours": hours,
        "status": { "value": status, "string": words, "passed": status == 0 } })
}

/// An SSD on ATA without a fault.
fn ssd() -> Value {
    let mut report = sata();
    report["rotation_rate"] = json!(0);
    report["ata_smart_attributes"]["table"] = json!([
        { "id": 5, "value": 100, "raw": { "value": 0 } },
        { "id": 177, "name": "Wear_Leveling_Count", "value": 95, "worst": 95, "thresh": 0, "raw": { "value": 61 } },
    ]);
    report
}

/// A hard disk on SCSI without a fault.
fn sas() -> Value {
    let counter = |uncorrected: u64| {
        json!({ "total_errors_corrected": 412, "gigabytes_processed": "81234.512",
        "total_uncorrected_errors": uncorrected })
    };
    json!({
        "device": { "name": "/dev/sdb", "protocol": "SCSI" }, "scsi_model_name": "Tarnworks S8", "rotation_rate": 7200,
        "smart_status": { "passed": true }, "temperature": { "current": 38, "drive_trip": 65 },
        "power_on_time": { "hours": 21000, "minutes": 12 }, "scsi_grown_defect_list": 0,
        "scsi_error_counter_log": { "read": counter(0), "write": counter(0), "verify": counter(0) },
        "scsi_self_test_0": { "code": { "value": 2, "string": "Background long" },
            "result": { "value": 0, "string": "Completed" }, "power_on_time": { "hours": 20700 } },
    })
}

/// Flash on the bus without a fault.
fn nvme() -> Value {
    json!({
        "device": { "name": "/dev/nvme0", "protocol": "NVMe" }, "temperature": { "current": 44 },
        "smart_status": { "passed": true, "nvme": { "value": 0 } },
        "nvme_smart_health_information_log": { "critical_warning": 0, "available_spare": 100,
            "available_spare_threshold": 10, "percentage_used": 7, "power_on_hours": 5000, "media_errors": 0 },
        "nvme_self_test_log": { "table": [ { "self_test_code": { "value": 2, "string": "Extended" },
            "self_test_result": { "value": 0, "string": "Completed without error" }, "power_on_hours": 4800 } ] },
    })
}

/// The attribute of a report by its number.
fn attribute(report: &mut Value, id: u64) -> &mut Value {
    let table = report["ata_smart_attributes"]["table"].as_array_mut().unwrap();
    table.iter_mut().find(|entry| entry["id"] == id).unwrap()
}

fn raw(report: &mut Value, id: u64, value: u64) {
    attribute(report, id)["raw"] = json!({ "value": value, "string": value.to_string() });
}

fn tests_of(report: &mut Value, tests: &[Value]) {
    report["ata_smart_self_test_log"]["standard"]["table"] = json!(tests);
}

fn checks(report: &SmartReport, before: Option<&Look>, days: i64) -> Vec<Check> {
    let thresholds = Thresholds::default();
    judge(&About {
        report: Some(report),
        link: Some(&report.link),
        celsius: report.celsius,
        before,
        now: days * DAY,
        full: Some(0.5),
        thresholds: &thresholds,
    })
}

fn judged(document: &Value) -> (Verdict, String, f64) {
    let found = checks(&parse_smart(&document.to_string()).unwrap(), None, 0);
    let reasons = found.iter().map(|c| c.reason.clone()).collect::<Vec<_>>().join("; ");
    let most = found.iter().map(|c| c.raises).fold(1.0, f64::max);
    (found.first().map_or(Verdict::Fine, |c| c.verdict), reasons, most)
}

#[rstest]
fn a_disk_without_a_fault_is_fine(#[values(sata(), ssd(), sas(), nvme())] document: Value) {
    assert_eq!(judged(&document), (Verdict::Fine, String::new(), 1.0));
}

#[rstest]
// SATA
#[case::failing(sata, |r: &mut Value| r["smart_status"]["passed"] = json!(false), Verdict::DoNotUse, "failing", 39.0)]
#[case::failing_by_exit_status(sata, |r: &mut Value| { r["smart_status"] = json!(null); r["smartctl"] = json!({ "exit_status": 8 }); }, Verdict::DoNotUse, "failing", 39.0)]
#[case::few_reallocated(sata, |r: &mut Value| raw(r, 5, 8), Verdict::Watch, "8 sectors were replaced", 14.0)]
#[case::one_reallocated(sata, |r: &mut Value| raw(r, 5, 1), Verdict::Watch, "1 sector was replaced", 14.0)]
#[case::many_reallocated(sata, |r: &mut Value| raw(r, 5, 100), Verdict::ReplaceSoon, "100 sectors", 14.0)]
#[case::packed_reallocated(sata, |r: &mut Value| attribute(r, 5)["raw"] = json!({ "value": 12_884_901_893_u64, "string": "5 (3 0)" }), Verdict::Watch, "5 sectors", 14.0)]
#[case::pending(sata, |r: &mut Value| raw(r, 197, 1), Verdict::ReplaceSoon, "1 sector cannot be read", 16.0)]
#[case::uncorrectable(sata, |r: &mut Value| raw(r, 198, 2), Verdict::ReplaceSoon, "2 reads failed for good", 39.0)]
#[case::reported(sata, |r: &mut Value| raw(r, 187, 3), Verdict::ReplaceSoon, "3 errors that it could not correct", 39.0)]
#[case::timeouts(sata, |r: &mut Value| raw(r, 188, 0x0001_0002_0004), Verdict::Watch, "4 commands were not answered", 1.0)]
#[case::spin_retries(sata, |r: &mut Value| raw(r, 10, 2), Verdict::Watch, "2 times its motor", 1.0)]
#[case::spin_retries_once_failed(sata, |r: &mut Value| attribute(r, 10)["when_failed"] = json!("past"), Verdict::ReplaceSoon, "10 (Spin_Retry_Count) was once below", 1.0)]
#[case::worst_at_the_limit(sata, |r: &mut Value| attribute(r, 10)["worst"] = json!(97), Verdict::ReplaceSoon, "was once below", 1.0)]
#[case::at_the_limit_now(sata, |r: &mut Value| attribute(r, 5)["value"] = json!(9), Verdict::DoNotUse, "5 (Reallocated_Sector_Ct) is below", 1.0)]
#[case::once_too_warm(sata, |r: &mut Value| attribute(r, 190)["when_failed"] = json!("past"), Verdict::Watch, "190 (Airflow_Temperature_Cel) was once", 1.0)]
#[case::cable(sata, |r: &mut Value| raw(r, 199, 17), Verdict::Watch, "17 transfers came broken over the cable", 1.0)]
#[case::long_failed(sata, |r: &mut Value| tests_of(r, &[test("Extended offline", 2, 0x72, 8900)]), Verdict::DoNotUse, "last full self-test failed", 39.0)]
#[case::long_failed_hidden_by_a_short_one(sata, |r: &mut Value| tests_of(r, &[test("Short offline", 1, 0, 8990), test("Extended offline", 2, 0x72, 8900)]), Verdict::DoNotUse, "the shorter one that passed since reads less", 39.0)]
#[case::long_failed_and_passed_since(sata, |r: &mut Value| tests_of(r, &[test("Extended offline", 2, 0, 8990), test("Extended offline", 2, 0x72, 8900)]), Verdict::Fine, "", 1.0)]
#[case::short_failed(sata, |r: &mut Value| tests_of(r, &[test("Short offline", 1, 0x72, 8990), test("Extended offline", 2, 0, 8900)]), Verdict::DoNotUse, "last short self-test failed", 39.0)]
#[case::only_short(sata, |r: &mut Value| tests_of(r, &[test("Short offline", 1, 0, 8990)]), Verdict::Watch, "only short ones", 1.0)]
#[case::broken_off(sata, |r: &mut Value| tests_of(r, &[test("Extended offline", 2, 0x19, 8990)]), Verdict::Watch, "Aborted by host", 1.0)]
#[case::none_on_record(sata, |r: &mut Value| tests_of(r, &[]), Verdict::Watch, "no self-test is on record", 1.0)]
#[case::old_test(sata, |r: &mut Value| tests_of(r, &[test("Extended offline", 2, 0, 7000)]), Verdict::Watch, "2000 hours of power old", 1.0)]
#[case::across_the_wrap(sata, |r: &mut Value| { r["power_on_time"]["hours"] = json!(65_600); tests_of(r, &[test("Extended offline", 2, 0, 65_500)]); }, Verdict::Watch, "7.5 years", 1.0)]
#[case::hot(sata, |r: &mut Value| r["temperature"]["current"] = json!(51), Verdict::Watch, "at 51 °C, the limit is 50 °C", 1.0)]
#[case::not_asked(sata, |r: &mut Value| *r = json!({ "smartctl": { "exit_status": 2, "messages": [{ "string": "Smartctl open device: /dev/sda failed: Permission denied", "severity": "error" }] }, "device": { "name": "/dev/sda" } }), Verdict::Watch, "could not be asked about itself: Smartctl open device", 1.0)]
// SSD on SATA
#[case::worn_by_attribute(ssd, |r: &mut Value| attribute(r, 177)["value"] = json!(12), Verdict::Watch, "88 % of the life", 1.0)]
#[case::worn_by_statistics(ssd, |r: &mut Value| r["ata_device_statistics"] = json!({ "pages": [{ "table": [{ "name": "Percentage Used Endurance Indicator", "value": 104, "flags": { "valid": true } }] }] }), Verdict::ReplaceSoon, "104 % of the life", 1.0)]
#[case::worn_by_endurance(ssd, |r: &mut Value| r["endurance_used"] = json!({ "current_percent": 91 }), Verdict::Watch, "91 % of the life", 1.0)]
// SAS
#[case::grown_defects(sas, |r: &mut Value| r["scsi_grown_defect_list"] = json!(7), Verdict::Watch, "7 sectors were replaced", 14.0)]
#[case::many_grown_defects(sas, |r: &mut Value| r["scsi_grown_defect_list"] = json!(320), Verdict::ReplaceSoon, "320 sectors", 14.0)]
#[case::uncorrected_reads(sas, |r: &mut Value| r["scsi_error_counter_log"]["read"]["total_uncorrected_errors"] = json!(4), Verdict::ReplaceSoon, "4 reads failed for good", 39.0)]
#[case::uncorrected_writes(sas, |r: &mut Value| r["scsi_error_counter_log"]["write"]["total_uncorrected_errors"] = json!(1), Verdict::ReplaceSoon, "1 write failed for good", 1.0)]
#[case::sas_test_failed(sas, |r: &mut Value| r["scsi_self_test_0"]["result"] = json!({ "value": 7, "string": "Failed in segment" }), Verdict::DoNotUse, "Failed in segment", 39.0)]
#[case::sas_endurance(sas, |r: &mut Value| r["scsi_percentage_used_endurance_indicator"] = json!(101), Verdict::ReplaceSoon, "101 %", 1.0)]
#[case::sas_prediction(sas, |r: &mut Value| r["smart_status"] = json!({ "passed": false, "scsi": { "asc": 93, "ascq": 16 } }), Verdict::DoNotUse, "failing", 39.0)]
#[case::sas_without_tests(sas, |r: &mut Value| r["scsi_self_test_0"] = json!(null), Verdict::Watch, "no self-test", 1.0)]
#[case::over_its_own_limit(sas, |r: &mut Value| r["temperature"]["current"] = json!(66), Verdict::Watch, "may be at 65 °C by its maker", 1.0)]
// NVMe
#[case::spare_low(nvme, |r: &mut Value| { r["smart_status"] = json!(null); r["nvme_smart_health_information_log"]["critical_warning"] = json!(1); }, Verdict::ReplaceSoon, "spare space runs out", 1.0)]
#[case::unreliable(nvme, |r: &mut Value| { r["smart_status"] = json!(null); r["nvme_smart_health_information_log"]["critical_warning"] = json!(4); }, Verdict::DoNotUse, "unreliable", 1.0)]
#[case::read_only(nvme, |r: &mut Value| r["nvme_smart_health_information_log"]["critical_warning"] = json!(8), Verdict::DoNotUse, "takes no more writes", 1.0)]
#[case::spare_at_the_limit(nvme, |r: &mut Value| r["nvme_smart_health_information_log"]["available_spare"] = json!(10), Verdict::ReplaceSoon, "10 % of its spare space", 1.0)]
#[case::worn(nvme, |r: &mut Value| r["nvme_smart_health_information_log"]["percentage_used"] = json!(103), Verdict::ReplaceSoon, "103 %", 1.0)]
#[case::media_errors(nvme, |r: &mut Value| r["nvme_smart_health_information_log"]["media_errors"] = json!(2), Verdict::ReplaceSoon, "2 reads failed for good", 39.0)]
#[case::cannot_test(nvme, |r: &mut Value| { r["nvme_optional_admin_commands"] = json!({ "self_test": false }); r["nvme_self_test_log"] = json!(null); }, Verdict::Fine, "", 1.0)]
#[case::test_failed(nvme, |r: &mut Value| r["nvme_self_test_log"]["table"][0]["self_test_result"] = json!({ "value": 7, "string": "Completed: failed segments" }), Verdict::DoNotUse, "failed segments", 39.0)]
fn each_report_of_a_known_state_has_its_verdict(
    #[case] base: fn() -> Value,
    #[case] fault: fn(&mut Value),
    #[case] verdict: Verdict,
    #[case] words: &str,
    #[case] raises: f64,
) {
    let mut document = base();
    fault(&mut document);
    let (found, reasons, raised) = judged(&document);
    assert_eq!((found, raised), (verdict, raises), "{reasons}");
    assert!(reasons.contains(words), "{reasons}");
}

#[test]
fn what_grows_is_worse_than_what_stands_still_and_that_is_forgiven_in_time() {
    let mut document = sata();
    raw(&mut document, 5, 8);
    raw(&mut document, 199, 5);
    let report = parse_smart(&document.to_string()).unwrap();
    let before = |reallocated, link_errors| Look {
        reallocated: Some(reallocated),
        link_errors: Some(link_errors),
        ..Look::default()
    };
    let grown = checks(&report, Some(&before(3, 2)), 5);
    assert_eq!((grown[0].verdict, grown[0].raises), (Verdict::ReplaceSoon, 14.0));
    assert!(grown[0].reason.contains("5 more than 5 days ago"), "{grown:?}");
    assert!(grown[1].reason.contains("broken over the cable, 3 more than 5 days ago"), "{grown:?}");

    // The cable was changed since; the sectors still foretell something.
    let still = checks(&report, Some(&before(8, 5)), 59);
    assert_eq!((still.len(), still[0].verdict, still[0].raises), (1, Verdict::Watch, 14.0), "{still:?}");
    let old = checks(&report, Some(&before(8, 5)), 61);
    assert_eq!((old[0].verdict, old[0].raises), (Verdict::Watch, 1.0), "{old:?}");
    assert!((raised_over_a_year(&still) - (14.0 * 60.0 + 305.25) / 365.25).abs() < 1e-9);
    assert!((raised_over_a_year(&old) - 1.0).abs() < 1e-12);
}

#[test]
fn a_slow_link_a_full_disk_and_a_silent_one() {
    let link = |words: &str, bits| Some(LinkSpeed { words: words.into(), bits });
    let mut report = parse_smart(&sata().to_string()).unwrap();
    report.link = DiskLink { now: link("3.0 Gb/s", 3), possible: link("6.0 Gb/s", 6) };
    assert!(checks(&report, None, 0)[0].reason.contains("linked at 3.0 Gb/s and could do 6.0 Gb/s"));
    let thresholds = Thresholds { too_full: Share::percent(40), ..Thresholds::default() };
    let about = About {
        report: None,
        link: None,
        celsius: Some(51.0),
        before: None,
        now: 0,
        full: Some(0.5),
        thresholds: &thresholds,
    };
    let found = judge(&about);
    let reasons: Vec<&str> = found.iter().map(|c| c.reason.as_str()).collect();
    assert_eq!(
        reasons,
        ["it could not be asked about itself", "it is at 51 °C, the limit is 50 °C", "it is 50 % full"]
    );
    assert!(
        (raised_over_a_year(&found) - 1.0).abs() < 1e-12,
        "a warm, full, silent disk is not likelier to fail"
    );
}
