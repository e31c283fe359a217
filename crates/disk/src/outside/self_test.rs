//! Disks that test themselves: started and followed through `smartctl`.

use std::process::Command;

use serde_json::Value;

use crate::{Error, Kind, Result};

/// How much a disk tests.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// Its mechanics and a little of its surface: some minutes.
    Short,
    /// All of its surface: hours.
    Long,
}

impl Reach {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Short => "short",
            Self::Long => "long",
        }
    }
}

/// How far a test is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Progress {
    /// So many per cent are left.
    Running(u8),
    /// It passed, or not.
    Ended(bool),
    /// The disk tells nothing of a test.
    Unknown,
}

/// Starts a test; the disk goes on with its work meanwhile.
///
/// # Errors
/// When the disk cannot be asked, or does not begin.
pub fn start(device: &str, reach: Reach) -> Result<()> {
    let answer = ask(device, &["--json", &format!("--test={}", reach.word())])?;
    match bits(&answer) {
        // Bits 0 to 2: the command line, the device, a command that the disk refused.
        0 => Ok(()),
        _ => Err(refused(device, &answer)),
    }
}

/// Ends a test before its time.
///
/// # Errors
/// As [`start`].
pub fn abort(device: &str) -> Result<()> {
    ask(device, &["--json", "--abort"]).map(|_| ())
}

/// How far the test of a disk is.
///
/// # Errors
/// When the disk cannot be asked.
pub fn progress(device: &str) -> Result<Progress> {
    Ok(of_document(&ask(device, &["--json", "--capabilities", "--log=selftest"])?))
}

fn of_document(answer: &Value) -> Progress {
    let percent = |value: &Value| value.as_u64().and_then(|percent| u8::try_from(percent.min(100)).ok());
    let ata = &answer["ata_smart_data"]["self_test"]["status"];
    if let Some(value) = ata["value"].as_u64() {
        // The upper half of the byte is 15 while it runs, and 0 when it ended well (ATA: self-test execution status).
        return match value >> 4 {
            15 => Progress::Running(percent(&ata["remaining_percent"]).unwrap_or(100)),
            0 => Progress::Ended(true),
            // Aborted by its host, or interrupted: it says nothing of the disk.
            1 | 2 => Progress::Unknown,
            _ => Progress::Ended(false),
        };
    }
    let nvme = &answer["nvme_self_test_log"];
    match nvme["current_self_test_operation"]["value"].as_u64() {
        Some(operation) if operation > 0 => {
            let done = percent(&nvme["current_self_test_completion_percent"]).unwrap_or(0);
            Progress::Running(100 - done)
        }
        Some(_) => match nvme["table"][0]["self_test_result"]["value"].as_u64() {
            Some(0) => Progress::Ended(true),
            // NVM Express, Get Log Page, device self-test: 5 to 7 are errors and failed segments; the others were ended
            // from outside, and say nothing of the disk.
            Some(5..=7) => Progress::Ended(false),
            _ => Progress::Unknown,
        },
        None => of_scsi(answer),
    }
}

/// A SCSI disk has the test that it is at as the newest of its log, and tells no share.
fn of_scsi(answer: &Value) -> Progress {
    // SCSI Primary Commands, self-test results: 15 while it runs, 1 and 2 where it was ended from outside.
    match answer["scsi_self_test_0"]["result"]["value"].as_u64() {
        Some(15) => Progress::Running(100),
        Some(0) => Progress::Ended(true),
        Some(3..=7) => Progress::Ended(false),
        _ => Progress::Unknown,
    }
}

/// Asks; a disk with something to complain about answers all the same.
fn ask(device: &str, arguments: &[&str]) -> Result<Value> {
    let unreachable = |why: String| {
        Error::new(Kind::Io, "self-test.unreachable", format!("{device} cannot be asked about itself: {why}"))
            .remedy("install smartmontools, and run this as root")
    };
    let output = Command::new("smartctl")
        .args(arguments)
        .arg(format!("/dev/{device}"))
        .output()
        .map_err(|e| unreachable(format!("smartctl: {e}")))?;
    let text = output.stdout.get(..output.stdout.len().min(16 << 20)).unwrap_or_default();
    serde_json::from_slice(text).map_err(|_| unreachable("smartctl gave no JSON".into()))
}

fn bits(answer: &Value) -> u64 {
    answer["smartctl"]["exit_status"].as_u64().unwrap_or(0) & 0b111
}

fn refused(device: &str, answer: &Value) -> Error {
    let said = answer["smartctl"]["messages"][0]["string"].as_str().unwrap_or("no reason was given");
    let said = sieve_core::path::shown(said.as_bytes());
    Error::new(Kind::Io, "self-test.refused", format!("{device} does not test itself: {said}"))
        .remedy("a test may be running already: look again when it has ended")
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_disks_say_of_their_tests() {
        let ata = |value: u64, left: u64| {
            let status = json!({ "value": value, "remaining_percent": left });
            of_document(&json!({ "ata_smart_data": { "self_test": { "status": status } } }))
        };
        assert_eq!(ata(0xf4, 40), Progress::Running(40));
        assert_eq!(ata(0, 0), Progress::Ended(true));
        assert_eq!(ata(0x10, 0), Progress::Unknown);
        assert_eq!(ata(0x79, 90), Progress::Ended(false));
        let nvme = json!({ "nvme_self_test_log": {
            "current_self_test_operation": { "value": 1 }, "current_self_test_completion_percent": 30 } });
        assert_eq!(of_document(&nvme), Progress::Running(70));
        let ended = |result: u64| {
            of_document(&json!({ "nvme_self_test_log": { "current_self_test_operation": { "value": 0 },
                "table": [{ "self_test_result": { "value": result } }] } }))
        };
        assert_eq!([ended(0), ended(7)], [Progress::Ended(true), Progress::Ended(false)]);
        assert_eq!(
            [ended(1), ended(9)],
            [Progress::Unknown; 2],
            "ended from outside, it says nothing of the disk"
        );
        let scsi =
            |result: u64| of_document(&json!({ "scsi_self_test_0": { "result": { "value": result } } }));
        assert_eq!([scsi(15), scsi(0)], [Progress::Running(100), Progress::Ended(true)]);
        assert_eq!([scsi(7), scsi(1)], [Progress::Ended(false), Progress::Unknown]);
        assert_eq!(of_document(&json!({ "nonsense": 3 })), Progress::Unknown);
    }
}
