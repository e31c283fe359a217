//! Files that consist of several objects: pieces that are all needed, or copies of which one is enough.

use super::exposure::{DiskSet, ExposureId, Exposures};
use super::guard::Guard;
use super::model::{Composite, LostSet, Model, ObjectState};
use super::verdict::Fate;

/// The fate of a file from those of its objects.
///
/// Pieces of which one comes back in the state of the last sync make the file of then only if every other piece is
/// still that of then; otherwise nothing fits together, and the file is torn.
pub fn fate_of_composite(model: &Model, composite: &Composite, fates: &[Fate]) -> Fate {
    let parts = composite.objects();
    let of = |part: &u32| fates[*part as usize];
    match composite {
        Composite::Copies(_) => parts.iter().map(of).min().unwrap_or(Fate::Gone),
        Composite::Pieces(_) if parts.iter().all(|part| of(part).is_whole()) => {
            parts.iter().map(of).max().unwrap_or(Fate::Gone)
        }
        Composite::Pieces(_) => {
            let is_of_then = |part: &u32| match of(part) {
                Fate::Older => true,
                fate => fate.is_whole() && is_as_synced(model, &model.objects[*part as usize]),
            };
            match parts {
                parts if parts.iter().all(is_of_then) => Fate::Older,
                parts if parts.iter().all(|part| of(part) == Fate::Gone) => Fate::Gone,
                _ => Fate::Torn,
            }
        }
    }
}

/// Whether what lies on the disk is what parity encodes.
fn is_as_synced(model: &Model, object: &ObjectState) -> bool {
    object.present().is_some_and(|version| model.versions[version as usize].is_complete())
}

/// Whether a file is lost with these disks: one of its pieces, or all of its copies.
pub(super) fn is_lost(
    needs_all: bool,
    parts: &[(super::DiskIndex, ExposureId)],
    exposures: &Exposures,
    lost: &DiskSet,
) -> bool {
    let part_is_lost = |(disk, exposure): &(super::DiskIndex, ExposureId)| {
        (lost.contains(*disk) || exposures.missing().contains(*disk)) && exposures.is_lost(*exposure, lost)
    };
    if needs_all { parts.iter().any(part_is_lost) } else { parts.iter().all(part_is_lost) }
}

/// How many disks, whichever they are, may die without losing a file's present content.
///
/// For pieces it is the least guard of any. For copies the smallest set of disks that takes all of them is looked for:
/// their own disks, and as few others as it needs. `exposures` are those for any number of losses.
pub fn guard_of_composite(
    model: &Model,
    composite: &Composite,
    exposures: &Exposures,
    guards: &[Guard],
    missing: &LostSet,
) -> u8 {
    let objects = composite.objects();
    if let Composite::Pieces(_) = composite {
        return objects.iter().map(|object| guards[*object as usize].level).min().unwrap_or(0);
    }
    let parts: Vec<_> = objects
        .iter()
        .map(|object| &model.objects[*object as usize])
        .map(|object| (object.disk, exposures.of(model, object)))
        .collect();
    let own: DiskSet = parts.iter().map(|(disk, _)| *disk).filter(|disk| !missing.contains(disk)).collect();
    let others: Vec<_> = exposures
        .disks_of(parts.iter().map(|(_, exposure)| *exposure))
        .iter()
        .filter(|disk| !own.contains(*disk))
        .collect();
    let mut more = 0;
    while more < others.len()
        && !some_choice(&others, more, own, |lost| is_lost(false, &parts, exposures, lost))
    {
        more += 1;
    }
    let taken = own.iter().count() + more;
    u8::try_from(taken.saturating_sub(1)).unwrap_or(u8::MAX)
}

/// Whether `wanted` holds for `base` with some choice of so many of `others`.
fn some_choice(
    others: &[super::DiskIndex],
    count: usize,
    base: DiskSet,
    wanted: impl Fn(&DiskSet) -> bool + Copy,
) -> bool {
    if count == 0 {
        return wanted(&base);
    }
    (0..others.len()).any(|position| {
        let mut with = base;
        with.insert(others[position]);
        some_choice(&others[position + 1..], count - 1, with, wanted)
    })
}
