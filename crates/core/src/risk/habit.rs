//! What comes to a volume between its syncs, over whole cycles of the past: what is unguarded at this minute tells little.

use schemars::JsonSchema;
use serde::Serialize;

use crate::fate::{Model, ObjectState, Standing};

/// Files and bytes a day.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Arrivals {
    /// Files.
    pub files: f64,
    /// Bytes.
    pub bytes: f64,
}

/// What waits on the caches at a moment anywhere in the cycle of settling.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Waiting {
    /// Files.
    pub files: f64,
    /// Bytes.
    pub bytes: f64,
    /// On how many caches each of them lies.
    pub copies: u32,
}

/// Where the figures come from.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum HabitSource {
    /// The pool file.
    Given,
    /// What came since the first sync, over so many days.
    Observed {
        /// Days.
        days: f64,
    },
    /// There was one sync at most: nothing is known, and nothing is counted.
    Unknown,
}

/// What comes to a volume.
#[derive(Clone, Debug, PartialEq)]
pub struct Habit {
    /// To each disk, in the order of the model's disks.
    pub arrivals: Vec<Arrivals>,
    /// What waits on caches on average; none where what lies there now is all that is known.
    pub waiting: Option<Waiting>,
    /// Where that comes from.
    pub source: HabitSource,
}

/// Bytes of a file where none is known.
const USUAL_FILE: f64 = 50e6;
/// The least time that a habit is taken from, in days: a busy hour is none.
const LEAST_DAYS: f64 = 1.0;

impl Habit {
    /// Nothing is known to come.
    pub fn unknown(disks: usize) -> Self {
        Self { arrivals: vec![Arrivals::default(); disks], waiting: None, source: HabitSource::Unknown }
    }

    /// From what a volume holds: everything that came, or changed, after the first sync, `days` ago.
    ///
    /// What came and went again in between is not seen.
    pub fn observed(model: &Model, names: &[u32], disks: usize, days: f64) -> Self {
        let Some(first) = first_recorded(model) else { return Self::unknown(disks) };
        let mut arrivals = vec![Arrivals::default(); disks];
        let days = days.max(LEAST_DAYS);
        let mut any = false;
        for (object, names) in model.objects.iter().zip(names) {
            if !came_after(model, object, first) {
                continue;
            }
            any = true;
            if let Some(sum) = arrivals.get_mut(usize::from(object.disk.0)) {
                sum.files += f64::from(*names) / days;
                sum.bytes += f64::from(*names) * object.size.exact() as f64 / days;
            }
        }
        let last = model.versions.iter().map(|version| version.recorded).max().unwrap_or(0);
        let source = if any || last > first { HabitSource::Observed { days } } else { HabitSource::Unknown };
        Self { arrivals, waiting: None, source }
    }

    /// So many bytes a day, to the disks in proportion to what they hold, in files as large as those are; to all data disks
    /// alike, in files of [`USUAL_FILE`], where nothing is there yet.
    pub fn given(model: &Model, names: &[u32], disks: usize, bytes_a_day: f64) -> Self {
        let mut held = vec![Arrivals::default(); disks];
        for (object, names) in model.objects.iter().zip(names) {
            if let Some(sum) = held.get_mut(usize::from(object.disk.0)) {
                sum.files += f64::from(*names);
                sum.bytes += f64::from(*names) * object.size.exact() as f64;
            }
        }
        if held.iter().all(|sum| sum.bytes <= 0.0) {
            for lane in &model.lanes {
                if let Some(sum) = held.get_mut(usize::from(lane.disk.0)) {
                    *sum = Arrivals { files: 1.0, bytes: USUAL_FILE };
                }
            }
        }
        let all: f64 = held.iter().map(|sum| sum.bytes).sum();
        let share = if all > 0.0 { bytes_a_day / all } else { 0.0 };
        let part = |sum: &Arrivals| Arrivals { files: sum.files * share, bytes: sum.bytes * share };
        Self { arrivals: held.iter().map(part).collect(), waiting: None, source: HabitSource::Given }
    }

    /// All that comes in a day.
    pub fn a_day(&self) -> Arrivals {
        self.arrivals.iter().fold(Arrivals::default(), |sum, one| Arrivals {
            files: sum.files + one.files,
            bytes: sum.bytes + one.bytes,
        })
    }

    /// The same, where what comes waits so many days on caches first, on so many of them each.
    #[must_use]
    pub fn waiting_for(mut self, days: f64, copies: u32) -> Self {
        if self.source != HabitSource::Unknown {
            let day = self.a_day();
            self.waiting = Some(Waiting { files: day.files * days, bytes: day.bytes * days, copies });
        }
        self
    }
}

/// The first checkpoint that any content is of.
pub(super) fn first_recorded(model: &Model) -> Option<u32> {
    model.versions.iter().map(|version| version.recorded).filter(|number| *number > 0).min()
}

/// Whether an object came, or changed, after that checkpoint.
pub(super) fn came_after(model: &Model, object: &ObjectState, first: u32) -> bool {
    if object.catalogued.is_some() {
        return false;
    }
    let recorded = object.version.map(|index| model.versions[index as usize].recorded);
    object.standing != Standing::Same || !recorded.is_some_and(|number| (1..=first).contains(&number))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fate::{DiskIndex, LaneState};
    use crate::units::Slot;

    #[test]
    fn what_is_said_to_come_comes_also_to_an_empty_volume() {
        let lane =
            |disk: u16| LaneState { disk: DiskIndex(disk), slot: Slot::new(disk as u8), pieces: Vec::new() };
        let model = Model { lanes: vec![lane(0), lane(1)], ..Model::default() };
        let habit = Habit::given(&model, &[], 3, 4e9);
        assert!((habit.a_day().bytes - 4e9).abs() < 1.0 && (habit.a_day().files - 80.0).abs() < 1e-9);
        assert_eq!(habit.arrivals[2], Arrivals::default(), "none of it comes to a parity drive");
    }
}
