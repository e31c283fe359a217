//! The way as it is told.

use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::route::Totals;
use sieve_core::units::ByteLength;

/// The way, and what it would be without a plan.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Answer {
    /// The volume.
    pub volume: String,
    /// What kind it is now.
    pub kind: &'static str,
    /// The goals; those that were relative are not so any more.
    pub goals: Vec<String>,
    /// The steps, in order.
    pub steps: Vec<StepLine>,
    /// What they come to.
    #[serde(flatten)]
    pub totals: Totals,
    /// How many disks may die now without losing a file.
    pub guard_now: usize,
    /// Space for files now.
    pub space_now_bytes: ByteLength,
    /// What has to be bought.
    pub to_buy: Vec<DriveLine>,
    /// Nobody said what is bought: it was taken from the goals.
    pub buying_is_assumed: bool,
    /// What the goals cost one after the other, with every disk pulled and its successor computed.
    pub by_hand: ByHandLine,
    /// So many possibilities were looked at.
    pub explored: usize,
    /// What should be known beside it.
    pub notes: Vec<String>,
}

/// A disk that comes or goes.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct DriveLine {
    /// What it is called.
    #[serde(rename = "disk")]
    pub name: String,
    /// Its space.
    pub size_bytes: ByteLength,
    /// Where it is mounted, or is taken to be.
    pub path: String,
    /// Its bay.
    pub bay: Option<String>,
    /// The end of its serial number.
    pub serial_tail: Option<String>,
    /// It is there only from then on.
    pub from: Option<Date>,
}

/// One step.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct StepLine {
    /// Its number, from 1.
    pub number: usize,
    /// The word of the command that takes it.
    pub does: &'static str,
    /// The member.
    pub member: String,
    /// What the member does.
    pub role: &'static str,
    /// The kind that the volume becomes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<&'static str>,
    /// The disk that the member is on when it is done, where another one comes.
    pub onto: Option<DriveLine>,
    /// What is done with the hands before it.
    pub before: Vec<String>,
    /// The commands, as arguments.
    pub commands: Vec<Vec<String>>,
    /// What is done with the hands after it.
    pub afterwards: Vec<String>,
    /// Likely seconds.
    pub likely_seconds: f64,
    /// Cautious ones.
    pub cautious_seconds: f64,
    /// Seconds that disks are busy, all of them added up.
    pub disk_seconds: f64,
    /// How many disks may die meanwhile without losing a file.
    pub guard_during: usize,
    /// And then.
    pub guard_after: usize,
    /// Space for files then.
    pub space_after_bytes: ByteLength,
    /// It cannot be taken before that day.
    pub not_before: Option<Date>,
}

/// What it would cost without a plan.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ByHandLine {
    /// The steps, in words.
    pub steps: Vec<String>,
    /// What they come to.
    #[serde(flatten)]
    pub totals: Totals,
    /// The first goal that cannot be reached any more then.
    pub stuck_at: Option<String>,
}
