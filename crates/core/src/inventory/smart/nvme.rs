//! What flash on the bus (NVMe) tells: its health log.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

use crate::inventory::document::number;

/// What it warns of: a bit each of the field "critical warning" (NVM Express Base Specification, "SMART / Health
/// Information").
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Warning {
    /// Its spare space is below the limit.
    SpareIsLow,
    /// It is too hot, or too cold.
    Temperature,
    /// Errors have made it unreliable.
    Unreliable,
    /// It takes no more writes.
    ReadOnly,
    /// What keeps its volatile memory when the power fails has failed.
    PowerLossProtection,
    /// Its persistent memory region has become unreliable, or takes no more writes.
    MemoryRegion,
}

impl Warning {
    const ALL: [Self; 6] = [
        Self::SpareIsLow,
        Self::Temperature,
        Self::Unreliable,
        Self::ReadOnly,
        Self::PowerLossProtection,
        Self::MemoryRegion,
    ];
}

/// A count of the health log.
pub(super) fn health(value: &Value, key: &str) -> Option<u64> {
    number(value, &["nvme_smart_health_information_log", key])
}

/// What it warns of.
pub(super) fn warnings(value: &Value) -> Vec<Warning> {
    let bits = health(value, "critical_warning").unwrap_or(0);
    Warning::ALL.into_iter().zip(0..).filter(|(_, bit)| bits >> bit & 1 == 1).map(|(one, _)| one).collect()
}

/// Spare space that is left, and the limit, in per cent.
pub(super) fn spare(value: &Value) -> Option<(u64, u64)> {
    health(value, "available_spare").zip(health(value, "available_spare_threshold"))
}
