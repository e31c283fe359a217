//! What disks on SCSI (SAS) tell: defects and counters of errors.

use serde_json::Value;

use crate::inventory::document::number;

/// Reads that failed for good, by the counters of reads and of checks; none where there are none.
pub(super) fn failed_reads(value: &Value) -> Option<u64> {
    let counter = |of: &str| number(value, &["scsi_error_counter_log", of, "total_uncorrected_errors"]);
    match (counter("read"), counter("verify")) {
        (None, None) => None,
        (read, verify) => Some(read.unwrap_or(0).saturating_add(verify.unwrap_or(0))),
    }
}

/// Writes that failed for good.
pub(super) fn failed_writes(value: &Value) -> Option<u64> {
    number(value, &["scsi_error_counter_log", "write", "total_uncorrected_errors"])
}

/// How much of the life of its flash is used, in per cent.
pub(super) fn flash_used(value: &Value) -> Option<u64> {
    number(value, &["scsi_percentage_used_endurance_indicator"])
}
