//! The rules of a verdict: what each is based on, and why its threshold is where it is.

use schemars::JsonSchema;
use serde::Serialize;

/// What a finding is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Rule {
    /// Nothing could be asked.
    Silent,
    /// The disk says that it is failing.
    OwnVerdict,
    /// A critical warning of flash on the bus.
    Warning,
    /// An attribute is at its maker's limit.
    BelowLimit,
    /// An attribute was at its maker's limit.
    WasBelowLimit,
    /// Sectors were replaced by spare ones.
    Reallocated,
    /// Sectors wait to be written, since they cannot be read.
    Pending,
    /// Reads failed for good.
    Unreadable,
    /// Errors reached who asked.
    Reported,
    /// Writes failed for good.
    FailedWrites,
    /// Commands were not answered in time.
    Timeouts,
    /// The motor had to try again.
    SpinRetries,
    /// Transfers over the cable came broken.
    LinkErrors,
    /// A self-test failed.
    FailedTest,
    /// No full self-test, or an old one.
    NoRecentTest,
    /// Flash is worn.
    Wear,
    /// Spare space runs out.
    Spare,
    /// It has run for long.
    Age,
    /// It is warm.
    Temperature,
    /// It is linked slower than it could be.
    SlowLink,
    /// It is full.
    Full,
}

/// Days for which a study followed disks after a first finding: for so long a count that stands still still counts.
pub const FOLLOWED_DAYS: f64 = 60.0;

impl Rule {
    /// How many times as likely a disk is to fail within [`FOLLOWED_DAYS`] after such a finding; 1 where nobody has
    /// shown that it is likelier at all.
    ///
    /// # Source
    /// E. Pinheiro, W.-D. Weber, L. A. Barroso, "Failure Trends in a Large Disk Drive Population" (2007): after a
    /// first scan error 39 times, after a first reallocation 14 times, after a first probational count 16 times. A
    /// disk that reports its own failure, or cannot read itself through, is taken as the worst of these: an assumption.
    pub const fn raises(self) -> f64 {
        match self {
            Self::OwnVerdict | Self::FailedTest | Self::Unreadable | Self::Reported => 39.0,
            Self::Pending => 16.0,
            Self::Reallocated => 14.0,
            _ => 1.0,
        }
    }

    /// What the rule rests on, and why its threshold is where it is.
    pub const fn why(self) -> &'static str {
        match self {
            Self::Silent => "what does not answer can be judged by nobody",
            Self::OwnVerdict => {
                "ATA Command Set 3, SCSI Primary Commands 4, NVM Express Base Specification: the disk's own prediction of its failure"
            }
            Self::Warning => {
                "NVM Express Base Specification, \"SMART / Health Information\", critical warning"
            }
            Self::BelowLimit | Self::WasBelowLimit => {
                "ATA/ATAPI-7, SMART attribute values: a value at the limit that the maker set"
            }
            Self::Reallocated => {
                "\"Failure Trends in a Large Disk Drive Population\" (2007): 14 times as many fail within 60 days of the first; from 100 on, or if they grow, it goes on"
            }
            Self::Pending => {
                "\"Failure Trends in a Large Disk Drive Population\" (2007): 16 times as many fail within 60 days of the first; each is content that cannot be read now"
            }
            Self::Unreadable | Self::Reported => {
                "\"Failure Trends in a Large Disk Drive Population\" (2007): 39 times as many fail within 60 days of the first"
            }
            Self::FailedWrites => {
                "SCSI Primary Commands 4, write error counters: a write that failed found no spare sector"
            }
            Self::Timeouts => "a power supply, a cable or a disk that hesitates: the count tells no more",
            Self::SpinRetries => {
                "ATA/ATAPI-7: the motor came up only at a further try; it is worse if it grows"
            }
            Self::LinkErrors => {
                "Serial ATA, CRC of the interface: the bytes changed between disk and port; what is on the disk is not concerned"
            }
            Self::FailedTest => {
                "ATA Command Set 3, SCSI Primary Commands 4, NVM Express Base Specification: self-test log; a full test that failed is answered only by a full one that passed"
            }
            Self::NoRecentTest => {
                "sectors rot unseen: a full test about every month of running (1,000 hours) finds them while parity can still mend"
            }
            Self::Wear => {
                "NVM Express Base Specification, \"percentage used\": at 100 the writes that the maker promised are used up; from 80 it is time to plan"
            }
            Self::Spare => {
                "NVM Express Base Specification, \"available spare threshold\": the maker's own limit"
            }
            Self::Age => "large fleets: yearly failures rise from the sixth year on",
            Self::Temperature => {
                "the limit of the pool file, 50 degrees without one, and the disk's own; by the study of 2007 heat alone foretells little"
            }
            Self::SlowLink => "disk and port agreed on less than both can: a cable, a port or a setting",
            Self::Full => {
                "the limit of the pool file: filesystems slow down and break files up when nearly full"
            }
        }
    }
}
