//! Files that consist of several objects: pieces that are all needed, or copies of which one is enough.

use super::exposure::{DiskSet, Exposures, Parts, PartsKey};
use super::guard::Guard;
use super::model::{Composite, DiskIndex, LostSet, Model, ObjectState};
use super::verdict::Fate;

/// The fate of a file from those of its objects.
pub fn fate_of_composite(model: &Model, composite: &Composite, fates: &[Fate]) -> Fate {
    let copies = composite.copies.iter().map(|copy| fates[*copy as usize]).min();
    copies.into_iter().chain(fate_of_pieces(model, &composite.pieces, fates)).min().unwrap_or(Fate::Gone)
}

/// Pieces of which one comes back in the state of the last sync make the file of then only if every other piece is
/// still that of then; otherwise nothing fits together, and the file is torn.
fn fate_of_pieces(model: &Model, pieces: &[Vec<u32>], fates: &[Fate]) -> Option<Fate> {
    let of = |object: u32| fates[object as usize];
    let best = |piece: &Vec<u32>| piece.iter().map(|object| of(*object)).min().unwrap_or(Fate::Gone);
    if pieces.iter().all(|piece| best(piece).is_whole()) {
        return pieces.iter().map(best).max();
    }
    let is_of_then = |object: &u32| match of(*object) {
        Fate::Older => true,
        fate => fate.is_whole() && is_as_synced(model, &model.objects[*object as usize]),
    };
    Some(match pieces {
        pieces if pieces.iter().all(|piece| piece.iter().any(is_of_then)) => Fate::Older,
        pieces if pieces.iter().all(|piece| best(piece) == Fate::Gone) => Fate::Gone,
        _ => Fate::Torn,
    })
}

/// Whether what lies on the disk is what parity encodes.
fn is_as_synced(model: &Model, object: &ObjectState) -> bool {
    object.present().is_some_and(|version| model.versions[version as usize].is_complete())
}

/// How many disks, whichever they are, may die without losing a file's present content.
///
/// For pieces that are there once it is the least guard of any. Else the smallest set of disks that takes all copies, and all
/// that have one of the pieces, is looked for. `exposures` are those for any number of losses.
pub fn guard_of_composite(
    model: &Model,
    composite: &Composite,
    exposures: &Exposures,
    guards: &[Guard],
    missing: &LostSet,
) -> u8 {
    let key = PartsKey::new(model, composite, exposures);
    let fewest = |parts: Parts| guard_of_all(parts, exposures, missing);
    let of_piece = |(objects, parts): (&Vec<u32>, &Parts)| match (objects.as_slice(), key.copies.as_slice()) {
        ([alone], []) => guards[*alone as usize].level,
        (_, copies) => fewest(copies.iter().chain(parts).copied().collect()),
    };
    let least = composite.pieces.iter().zip(&key.pieces).map(of_piece).min();
    least.unwrap_or_else(|| if key.copies.is_empty() { 0 } else { fewest(key.copies.clone()) })
}

/// How many disks may die without losing all of these: one less than their own disks, and as few others as it needs.
fn guard_of_all(parts: Parts, exposures: &Exposures, missing: &LostSet) -> u8 {
    let own: DiskSet = parts.iter().map(|(disk, _)| *disk).filter(|disk| !missing.contains(disk)).collect();
    let others: Vec<_> = exposures
        .disks_of(parts.iter().map(|(_, exposure)| *exposure))
        .iter()
        .filter(|disk| !own.contains(*disk))
        .collect();
    let key = PartsKey { pieces: Vec::new(), copies: parts };
    let mut more = 0;
    while more < others.len() && !some_choice(&others, more, own, |lost| key.is_lost(exposures, lost)) {
        more += 1;
    }
    let taken = own.iter().count() + more;
    u8::try_from(taken.saturating_sub(1)).unwrap_or(u8::MAX)
}

/// Whether `wanted` holds for `base` with some choice of so many of `others`.
fn some_choice(
    others: &[DiskIndex],
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
