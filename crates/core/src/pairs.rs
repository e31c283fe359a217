//! Pairs as JSON: objects whose keys say what is what, since a list of two numbers does not.

use schemars::JsonSchema;
use serde::{Serialize, Serializer};

use crate::fate::Fate;
use crate::forecast::Duration;
use crate::units::{ByteLength, Rate};

/// A stretch of bytes, cells or rows.
#[derive(Serialize, JsonSchema)]
pub struct Stretch {
    /// The first.
    from: u64,
    /// The first that no longer belongs to it.
    to: u64,
}

/// How fast a disk is at a place.
#[derive(Serialize, JsonSchema)]
pub struct SpeedPoint {
    /// The place: a share of the disk's space, from 0 to 1.
    share: f64,
    /// How fast it is there.
    bytes_per_second: Rate,
}

/// What is left of something, and the least that may be.
#[derive(Serialize, JsonSchema)]
pub struct LeftAndLeast {
    /// What is left, in hundredths.
    left_percent: u64,
    /// The least that may be, by its maker.
    least_percent: u64,
}

/// What waits at a minute of the day.
#[derive(Serialize, JsonSchema)]
pub struct LevelPoint {
    /// Minutes since midnight.
    minute: f64,
    /// What waits then.
    bytes: ByteLength,
}

/// How far something has come.
#[derive(Serialize, JsonSchema)]
pub struct ProgressPoint {
    /// Since the start.
    seconds: Duration,
    /// What is done by then.
    bytes: ByteLength,
}

/// A stretch, from its first byte up to the one behind its last.
///
/// # Errors
/// The serializer's.
pub fn stretch<S: Serializer>(pair: &(u64, u64), serializer: S) -> Result<S::Ok, S::Error> {
    Stretch { from: pair.0, to: pair.1 }.serialize(serializer)
}

/// Several stretches.
///
/// # Errors
/// The serializer's.
pub fn stretches<S: Serializer>(pairs: &[(u64, u64)], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(pairs.iter().map(|(from, to)| Stretch { from: *from, to: *to }))
}

/// Speeds over the space of a disk.
///
/// # Errors
/// The serializer's.
pub fn speeds<S: Serializer>(pairs: &[(f64, Rate)], serializer: S) -> Result<S::Ok, S::Error> {
    serializer
        .collect_seq(pairs.iter().map(|(share, rate)| SpeedPoint { share: *share, bytes_per_second: *rate }))
}

/// How far something comes, over time.
///
/// # Errors
/// The serializer's.
pub fn progress<S: Serializer>(pairs: &[(Duration, ByteLength)], serializer: S) -> Result<S::Ok, S::Error> {
    serializer
        .collect_seq(pairs.iter().map(|(seconds, bytes)| ProgressPoint { seconds: *seconds, bytes: *bytes }))
}

/// Something of a path, and the reason.
#[derive(Serialize, JsonSchema)]
pub struct PathAndWhy<'a> {
    /// The path.
    path: &'a str,
    /// Why.
    why: &'a str,
}

/// Paths, each with a reason.
///
/// # Errors
/// The serializer's.
pub fn with_why<S: Serializer>(pairs: &[(String, String)], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(pairs.iter().map(|(path, why)| PathAndWhy { path, why }))
}

/// What becomes of a path.
#[derive(Serialize, JsonSchema)]
pub struct PathAndFate<'a> {
    /// The path.
    path: &'a str,
    /// What becomes of it.
    fate: Fate,
}

/// Paths, each with its fate.
///
/// # Errors
/// The serializer's.
pub fn with_fate<S: Serializer>(pairs: &[(String, Fate)], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(pairs.iter().map(|(path, fate)| PathAndFate { path, fate: *fate }))
}

/// Both ends of an answer that is not known better.
#[derive(Serialize, JsonSchema)]
pub struct LowHigh {
    /// The low one.
    low: f64,
    /// The high one.
    high: f64,
}

/// Both ends, the low one first.
///
/// # Errors
/// The serializer's.
pub fn low_high<S: Serializer>(ends: &[f64; 2], serializer: S) -> Result<S::Ok, S::Error> {
    LowHigh { low: ends[0], high: ends[1] }.serialize(serializer)
}

/// What is left, and the least that may be.
///
/// # Errors
/// The serializer's.
pub fn left_and_least<S: Serializer>(pair: &Option<(u64, u64)>, serializer: S) -> Result<S::Ok, S::Error> {
    pair.map(|(left_percent, least_percent)| LeftAndLeast { left_percent, least_percent })
        .serialize(serializer)
}

/// What waits through a day.
///
/// # Errors
/// The serializer's.
pub fn levels<S: Serializer>(pairs: &[(f64, ByteLength)], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(pairs.iter().map(|(minute, bytes)| LevelPoint { minute: *minute, bytes: *bytes }))
}

/// A value to each name, in the order of the list.
///
/// # Errors
/// The serializer's.
pub fn by_name<K: Serialize, V: Serialize, S: Serializer>(
    pairs: &[(K, V)],
    serializer: S,
) -> Result<S::Ok, S::Error> {
    serializer.collect_map(pairs.iter().map(|(name, value)| (name, value)))
}
