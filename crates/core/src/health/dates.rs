//! Age, warranty and batch: what the pool file knows of a disk.

use jiff::civil::Date;

use crate::pool::{DiskSpec, VolumeSpec};

/// The days of warranty that are left on a day; negative when it has ended; none where its end is not known.
pub fn warranty_left(disk: &DiskSpec, today: Date) -> Option<i64> {
    let left = today.until(disk.warranty?).ok()?;
    Some(i64::from(left.get_days()))
}

/// Hours in a year.
const HOURS: f64 = 8766.0;

/// The age of a disk on a day, in years: since it was made, else since it was bought, else its hours of power: it is at
/// least so old.
pub fn age_in_years(disk: &DiskSpec, today: Date, hours: Option<u64>) -> Option<f64> {
    let Some(since) = disk.made.or(disk.bought) else { return hours.map(|hours| hours as f64 / HOURS) };
    let days = since.until(today).ok()?.get_days();
    (days >= 0).then(|| f64::from(days) / 365.25)
}

/// The batches of which a volume has more than one disk: they are of one age and may die together.
pub fn batches<'a>(volume: &'a VolumeSpec, disks: &'a [DiskSpec]) -> Vec<(&'a str, Vec<&'a str>)> {
    let mut found: Vec<(&str, Vec<&str>)> = Vec::new();
    for disk in disks.iter().filter(|d| volume.members().any(|name| name == d.name)) {
        let Some(batch) = disk.batch.as_deref() else { continue };
        match found.iter_mut().find(|(known, _)| *known == batch) {
            Some((_, names)) => names.push(&disk.name),
            None => found.push((batch, vec![&disk.name])),
        }
    }
    found.retain(|(_, names)| names.len() > 1);
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn warranty_and_age_are_counted_in_days() {
        let disk = DiskSpec {
            warranty: Some(date(2031, 5, 14)),
            bought: Some(date(2029, 5, 4)),
            ..DiskSpec::default()
        };
        let today = date(2031, 5, 4);
        assert_eq!(warranty_left(&disk, today), Some(10));
        assert_eq!(warranty_left(&disk, date(2031, 6, 14)), Some(-31));
        assert!((age_in_years(&disk, today, Some(9_000)).unwrap() - 2.0).abs() < 0.01);
        assert_eq!(warranty_left(&DiskSpec::default(), today), None);
        assert_eq!(age_in_years(&disk, date(2020, 1, 1), None), None);
        let by_hours = age_in_years(&DiskSpec::default(), today, Some(17_532));
        assert_eq!(by_hours, Some(2.0), "where no date is known");
    }

    #[test]
    fn disks_of_one_batch_in_one_volume_are_named() {
        let text = "[pool]\nname = \"f\"\n[[disk]]\nname = \"alder\"\nbatch = \"may\"\n[[disk]]\nname = \"beech\"\nbatch = \"may\"\n[[disk]]\nname = \"oak\"\n[[volume]]\nname = \"v\"\nkind = \"unstriped\"\ndata = [\"alder\", \"oak\"]\nparity = [\"beech\"]\n";
        let spec = crate::pool::parse(text).spec.unwrap();
        assert_eq!(batches(&spec.volumes[0], &spec.disks), [("may", vec!["alder", "beech"])]);
    }
}
