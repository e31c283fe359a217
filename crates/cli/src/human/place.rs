//! Which disk is meant, for a hand that reaches into a case: its bay, and the end of its serial number.

use sieve_core::inventory::{Device, tail};
use sieve_core::path::shown;
use sieve_core::pool::{DiskSpec, PoolSpec};

/// Its bay and the end of its serial number, "bay B1, serial …V7C5"; nothing where the pool file has neither.
pub(crate) fn of(spec: &DiskSpec) -> Option<String> {
    let bay = spec.bay.as_ref().map(|bay| format!("bay {bay}"));
    let place: Vec<String> = [bay, spec.serial.as_deref().map(serial)].into_iter().flatten().collect();
    (!place.is_empty()).then(|| place.join(", "))
}

/// The end of a serial number, as it is told beside a name.
fn serial(serial: &str) -> String {
    format!("serial …{}", shown(tail(serial).1.as_bytes()))
}

/// The disks of these names with their places, "cedar (bay B1, serial …V7C5), oak".
pub(crate) fn named<'n>(pool: &PoolSpec, names: impl IntoIterator<Item = &'n String>) -> String {
    let one = |name: &'n String| match pool.disk(name).and_then(of) {
        Some(place) => format!("{name} ({place})"),
        None => name.clone(),
    };
    names.into_iter().map(one).collect::<Vec<_>>().join(", ")
}

/// A device of the machine, "sdg, Kestrel Dart S1, serial …4P2W".
pub(crate) fn of_device(device: &Device) -> String {
    let model = device.model.as_deref().map(|model| shown(model.as_bytes()));
    let serial = device.serial.as_deref().map(serial);
    let parts = [Some(shown(device.name.as_bytes())), model, serial];
    parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
}
