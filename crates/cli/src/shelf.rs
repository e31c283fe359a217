//! The disks of the pool file beside the disks of the machine.

use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::{Catalogue, looks};
use sieve_core::health::{About, Check, Look, judge};
use sieve_core::inventory::{SmartReport, tail};
use sieve_core::pool::{DiskSpec, PoolSpec, Temperature, Thresholds};
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_disk::inventory::{Found, Inventory, from_folder, from_system, from_system_that_is_awake};
use sieve_pool::pool::catalogue_path;

use crate::human::{Cell, style};
use crate::load;

/// What is known of the machine and the pool; there may be no pool file yet.
pub(crate) struct Shelf {
    pub(crate) spec: Option<PoolSpec>,
    pub(crate) inventory: Inventory,
    /// Where earlier looks at disks are kept; none while there is no pool.
    pub(crate) catalogue: Option<Catalogue>,
    /// When it was looked, nanoseconds since 1970.
    pub(crate) now: i64,
}

/// What is to be said of a disk.
pub(crate) struct Judgement {
    /// The reasons, the worst first.
    pub(crate) checks: Vec<Check>,
    /// The look before this one.
    pub(crate) before: Option<Look>,
}

/// One disk: of the pool, of the machine, or of both.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Item<'a> {
    /// Its name in the pool file.
    #[serde(rename = "disk")]
    pub(crate) name: Option<&'a str>,
    /// What it does: "data", "parity of scans", "spare", "system".
    pub(crate) role: String,
    /// What the pool file says.
    pub(crate) spec: Option<&'a DiskSpec>,
    /// What the machine says.
    pub(crate) found: Option<&'a Found>,
}

impl Shelf {
    /// Looks at the machine, or at documents in a folder, and at the pool file if there is one.
    ///
    /// # Errors
    /// When the pool file has mistakes, or the disks cannot be listed.
    pub(crate) fn look(pool_file: &Path, from: Option<&Path>) -> Result<Self> {
        Self::with(pool_file, from.map_or_else(from_system, from_folder)?)
    }

    /// Looks at the machine in passing: a disk that sleeps is left asleep, and tells nothing.
    ///
    /// # Errors
    /// As [`Self::look`].
    pub(crate) fn glance(pool_file: &Path) -> Result<Self> {
        Self::with(pool_file, from_system_that_is_awake()?)
    }

    fn with(pool_file: &Path, inventory: Inventory) -> Result<Self> {
        let spec = if pool_file.exists() { Some(load::spec(pool_file)?) } else { None };
        let machine = crate::machine::real();
        let now = machine.now();
        let catalogue = match catalogue_path(pool_file) {
            path if path.exists() => Some(Catalogue::open_to_read(&path, machine)?),
            _ => None,
        };
        Ok(Self { spec, inventory, catalogue, now })
    }

    /// Judges a disk by all that is known of it.
    ///
    /// # Errors
    /// What the catalogue says.
    pub(crate) fn judge(&self, item: &Item<'_>) -> Result<Judgement> {
        self.judge_against(item, None)
    }

    /// Judges a disk by what it counted so many days ago: what grew since then and was told already counts as well.
    ///
    /// # Errors
    /// As [`Self::judge`].
    pub(crate) fn judge_over(&self, item: &Item<'_>, days: f64) -> Result<Judgement> {
        self.judge_against(item, Some(self.now.saturating_sub((days * 86_400e9) as i64)))
    }

    /// Against what it counted at that moment; else against the look before this one.
    fn judge_against(&self, item: &Item<'_>, then: Option<i64>) -> Result<Judgement> {
        let report = item.report();
        let before = match (&self.catalogue, item.serial(), report, then) {
            (Some(catalogue), Some(serial), Some(_), None) => {
                looks::newest(catalogue.reading(), serial, self.now)?
            }
            (Some(catalogue), Some(serial), Some(_), Some(then)) => {
                looks::as_of(catalogue.reading(), serial, then)?
            }
            _ => None,
        };
        let thresholds = self.thresholds();
        let checks = judge(&About {
            report,
            link: item.found.map(|f| &f.link),
            celsius: item.found.and_then(|f| f.celsius),
            before: before.as_ref(),
            now: self.now,
            full: item.spec.and_then(fullness),
            thresholds: &thresholds,
        });
        Ok(Judgement { checks, before })
    }

    /// From when on something is worth a word.
    pub(crate) fn thresholds(&self) -> Thresholds {
        self.spec.as_ref().map(|s| s.thresholds).unwrap_or_default()
    }

    /// The disks of the pool in the order of its file, then the others.
    pub(crate) fn items(&self) -> Vec<Item<'_>> {
        let specs = self.spec.as_ref().map_or(&[][..], |s| &s.disks);
        let mut items: Vec<Item<'_>> = Vec::new();
        for spec in specs {
            let found = self.inventory.disks.iter().find(|found| is_of(spec, found));
            items.push(Item { name: Some(&spec.name), role: self.role(&spec.name), spec: Some(spec), found });
        }
        for found in &self.inventory.disks {
            if !specs.iter().any(|spec| is_of(spec, found)) {
                let role = if found.device.carries_the_system() { "system" } else { "spare" };
                items.push(Item { name: None, role: role.into(), spec: None, found: Some(found) });
            }
        }
        items
    }

    fn role(&self, name: &str) -> String {
        let Some(spec) = &self.spec else { return "spare".into() };
        let Some(volume) = spec.volume_of(name) else { return "spare".into() };
        let role = volume.roles().find(|(_, _, member)| *member == name).map(|(role, ..)| role.word());
        let role = role.unwrap_or("spare");
        // Where there is one volume only, its name would say nothing new.
        if spec.volumes.len() == 1 { role.into() } else { format!("{role} of {}", volume.name) }
    }
}

/// A disk is known by its serial number; without one, by where it is mounted.
fn is_of(spec: &DiskSpec, found: &Found) -> bool {
    match (spec.serial.as_deref(), found.serial()) {
        (Some(wanted), Some(serial)) => wanted.eq_ignore_ascii_case(serial),
        _ => spec.path.as_deref().is_some_and(|path| found.device.mount_points().any(|place| place == path)),
    }
}

impl Item<'_> {
    /// Its name, or else the kernel's.
    pub(crate) fn title(&self) -> &str {
        self.name.or(self.found.map(|f| f.device.name.as_str())).unwrap_or("?")
    }

    pub(crate) fn serial(&self) -> Option<&str> {
        self.found.and_then(Found::serial).or(self.spec.and_then(|s| s.serial.as_deref()))
    }

    pub(crate) fn model(&self) -> Option<&str> {
        self.found.and_then(Found::model).or(self.spec.and_then(|s| s.model.as_deref()))
    }

    pub(crate) fn size(&self) -> Option<ByteLength> {
        let own = |f: &Found| f.device.size.or(f.smart.as_ref().and_then(|s| s.size));
        self.found.and_then(own).or(self.spec.and_then(|s| s.capacity))
    }

    /// How warm it is, in the scale of the thresholds.
    pub(crate) fn temperature(&self, thresholds: &Thresholds) -> Option<Temperature> {
        Some(thresholds.too_hot.like(self.found?.celsius?))
    }

    /// What it says about itself.
    pub(crate) fn report(&self) -> Option<&SmartReport> {
        self.found?.smart.as_ref()
    }
}

/// How full a mounted disk is, from 0 to 1.
fn fullness(spec: &DiskSpec) -> Option<f64> {
    let path = spec.path.as_deref().filter(|_| !spec.simulated)?;
    let filesystem = crate::machine::real().open_disk(Path::new(path)).ok()?.filesystem().ok()?;
    let total = filesystem.total.exact().max(1) as f64;
    Some(1.0 - filesystem.available.exact() as f64 / total)
}

/// How warm a disk is; in colour and in words where that is over the limit.
pub(crate) fn temperature_cell(item: &Item<'_>, thresholds: &Thresholds) -> Cell {
    match (item.temperature(thresholds), item.found.and_then(|found| found.celsius)) {
        (Some(told), Some(celsius)) if celsius > thresholds.too_hot.celsius => {
            Cell::from((format!("{told}, hot"), style::WATCH))
        }
        (Some(told), _) => Cell::from(told.to_string()),
        _ => Cell::from(("-".to_string(), style::FAINT)),
    }
}

/// A serial number with the part that people read stressed.
pub(crate) fn serial_cell(serial: Option<&str>) -> Cell {
    match serial {
        None => Cell::from(("-".to_string(), style::FAINT)),
        Some(serial) => {
            let (head, end) = tail(serial);
            Cell::of([(head.to_string(), style::FAINT), (end.to_string(), style::HEAD)])
        }
    }
}
