//! What disks on ATA (SATA) tell: attributes with limits, and device statistics.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

use crate::inventory::document::{at, flag, list, number, text};

/// An attribute that is, or was, at or below the limit that its maker set.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BelowLimit {
    /// Its number.
    pub id: u64,
    /// Its name, in the report's words.
    pub name: String,
    /// It is so now; else it was once.
    pub is_now: bool,
    /// The maker takes it for a sign that the disk is about to fail; else for one of use and age.
    pub foretells_failure: bool,
}

/// The attributes at which somebody must look because of their limits.
pub(super) fn below_limits(value: &Value) -> Vec<BelowLimit> {
    let table = list(value, &["ata_smart_attributes", "table"]);
    table.filter_map(below_limit).collect()
}

fn below_limit(entry: &Value) -> Option<BelowLimit> {
    let limit = number(entry, &["thresh"]).filter(|limit| *limit > 0);
    let is_below = |key: &str| limit.zip(number(entry, &[key])).is_some_and(|(limit, value)| value <= limit);
    let told = text(entry, &["when_failed"]).unwrap_or_default().to_lowercase();
    let is_now = told.contains("now") || is_below("value");
    if !is_now && !told.contains("past") && !is_below("worst") {
        return None;
    }
    Some(BelowLimit {
        id: number(entry, &["id"])?,
        name: text(entry, &["name"]).unwrap_or_default(),
        is_now,
        foretells_failure: flag(entry, &["flags", "prefailure"]).unwrap_or(false),
    })
}

/// The count of an attribute by its number.
///
/// Some makers put several counts into the 48 bits; the report's words begin with the one that the name stands for.
pub(super) fn attribute(value: &Value, id: u64) -> Option<u64> {
    let found = entry(value, id)?;
    let raw = number(found, &["raw", "value"]);
    let packed = |raw: &u64| *raw >= 1 << 32;
    match raw {
        Some(raw) if !packed(&raw) => Some(raw),
        Some(raw) => number(found, &["raw", "string"]).filter(|n| *n < 1 << 32).or(Some(raw & 0xFFFF_FFFF)),
        None => number(found, &["raw", "string"]),
    }
}

/// Commands that were not answered in time: the lowest of three counts of 16 bits where they are packed.
pub(super) fn timeouts(value: &Value) -> Option<u64> {
    let raw = number(entry(value, 188)?, &["raw", "value"])?;
    Some(if raw > 0xFFFF { raw & 0xFFFF } else { raw })
}

fn entry(value: &Value, id: u64) -> Option<&Value> {
    let mut table = list(value, &["ata_smart_attributes", "table"]);
    table.find(|entry| number(entry, &["id"]) == Some(id))
}

/// A device statistic by its name.
pub(super) fn statistic(value: &Value, name: &str) -> Option<u64> {
    let pages = list(value, &["ata_device_statistics", "pages"]);
    let mut entries = pages.flat_map(|page| list(page, &["table"]));
    let found = entries.find(|entry| at(entry, &["name"]).and_then(Value::as_str) == Some(name))?;
    if flag(found, &["flags", "valid"]) == Some(false) {
        return None;
    }
    number(found, &["value"])
}

/// The words by which makers name the attribute that counts down from 100 as flash wears out.
const COUNTS_DOWN: [&str; 6] =
    ["wear_leveling", "wearout", "life_left", "lifetime_remain", "remaining_life", "lifetime_left"];

/// How much of the life of its flash is used, in per cent: as the statistics tell, else by the attribute for it.
pub(super) fn flash_used(value: &Value, is_flash: bool) -> Option<u64> {
    statistic(value, "Percentage Used Endurance Indicator").or_else(|| {
        let mut table = list(value, &["ata_smart_attributes", "table"]).filter(|_| is_flash);
        let counts_down = |entry: &&Value| {
            let name = text(entry, &["name"]).unwrap_or_default().to_lowercase();
            COUNTS_DOWN.iter().any(|part| name.contains(part))
        };
        let left = number(table.find(counts_down)?, &["value"])?;
        // Values of 101 to 253 are a maker's own; they tell no share.
        (left <= 100).then(|| 100 - left)
    })
}
