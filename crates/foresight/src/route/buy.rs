//! Disks that are not members yet: "14 TB", "2 x 14 TB by 2031-06 at /mnt/new".

use std::rc::Rc;

use jiff::civil::Date;
use sieve_core::forecast::default_curve;
use sieve_core::pool::{Media, Role, VolumeKind};
use sieve_core::route::{Drive, Goal, Ground};
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};

/// What is bought.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Purchase {
    /// How many.
    pub count: usize,
    /// The space of each.
    pub size: ByteLength,
    /// They are there from then on.
    pub from: Option<Date>,
    /// Where it is mounted.
    pub path: Option<String>,
}

/// At most so many are bought at once.
const MOST: usize = 32;

impl Purchase {
    /// Reads "14 TB", "2 x 14 TB", "14TB by 2031-06", "14 TB at /mnt/new".
    ///
    /// # Errors
    /// When it is nothing of that.
    pub fn parse(text: &str) -> Result<Self> {
        let wrong = |why: String| {
            Error::new(Kind::Usage, "route.buy", format!("`{text}`: {why}")).remedy(
                "a purchase is said like \"14 TB\", \"2 x 14 TB\", \"14 TB by 2031-06\", \"14 TB at /mnt/new\"",
            )
        };
        let (rest, path) = match text.split_once(" at ") {
            Some((rest, path)) => (rest, Some(path.trim().to_string())),
            None => (text, None),
        };
        let (rest, from) = match rest.split_once(" by ") {
            Some((rest, day)) => {
                (rest, Some(parse_day(day.trim()).ok_or_else(|| wrong(format!("`{day}` is no day")))?))
            }
            None => (rest, None),
        };
        let (count, size) = match rest.split_once(['x', '×']) {
            Some((count, size)) => {
                let count = count.trim().parse().ok().filter(|count| (1..=MOST).contains(count));
                (count.ok_or_else(|| wrong("the count is none, or too large".into()))?, size)
            }
            None => (1, rest),
        };
        if path.is_some() && count > 1 {
            return Err(wrong("one folder is one disk".into()));
        }
        let size = ByteLength::parse(size.trim()).map_err(|why| wrong(why.to_string()))?;
        Ok(Self { count, size, from, path })
    }
}

/// A day, or the first of a month.
fn parse_day(text: &str) -> Option<Date> {
    text.parse().ok().or_else(|| format!("{text}-01").parse().ok())
}

/// What the goals need, where nobody said what is bought: as few and as small as can be.
pub(super) fn assumed(ground: &Ground, goals: &[Goal]) -> Vec<Purchase> {
    let start = &ground.start;
    let size_of =
        |name: &str| start.seat(name).map_or(ByteLength::ZERO, |seat| ground.size(&start.seats[seat]));
    let is_data = |name: &str| start.of_role(Role::Data).any(|seat| &*seat.name == name);
    let grows = |goal: &Goal| match goal {
        Goal::Size { name, size } if size_of(name) < *size => Some((*size, is_data(name))),
        _ => None,
    };
    let parity = goals.iter().filter_map(|goal| match goal {
        Goal::ParitySize(size) => Some(*size),
        other => grows(other).filter(|(_, is_data)| *is_data).map(|(size, _)| size),
    });
    let parity = parity.max().unwrap_or(ByteLength::ZERO);
    let mut sizes: Vec<ByteLength> = goals.iter().filter_map(grows).map(|(size, _)| size).collect();
    // A parity drive that grows is free for something else.
    sizes.extend(goals.iter().filter_map(|goal| match goal {
        Goal::Holds { drive, .. } => Some(ground.drive(*drive).size).filter(|size| *size >= parity),
        _ => None,
    }));
    let named = |seat: &str| goals.iter().any(|g| matches!(g, Goal::Size { name, .. } if name == seat));
    let small = start.of_role(Role::Parity).filter(|seat| ground.size(seat) < parity && !named(&seat.name));
    sizes.extend(small.map(|_| parity));
    let largest = ground.drives.iter().map(|drive| drive.size).max().unwrap_or_default().max(parity);
    let raw: u64 = start.of_role(Role::Data).map(|seat| ground.size(seat).exact()).sum();
    let used: u64 = start.of_role(Role::Data).map(|seat| seat.used.exact()).sum();
    let is_mirrored = |goal: &Goal| matches!(goal, Goal::Kind(VolumeKind::Mirrored));
    let copies = if goals.iter().any(is_mirrored) { ground.copies } else { start.copies(ground) } as u64;
    for goal in goals {
        match goal {
            Goal::Parities(count) => {
                sizes.extend((start.parities()..*count).map(|_| largest));
            }
            Goal::Space(space) => {
                let missing = space.exact().saturating_mul(copies).saturating_sub(raw);
                let count = missing.div_ceil(largest.exact().max(1)).min(MOST as u64);
                sizes.extend((0..count).map(|_| largest));
            }
            Goal::Kind(VolumeKind::Mirrored) if start.kind != VolumeKind::Mirrored => {
                let missing = (used.saturating_mul(copies) / 99 * 100).saturating_sub(raw);
                let count = missing.div_ceil(largest.exact().max(1)).min(MOST as u64);
                let few = copies.saturating_sub(start.of_role(Role::Data).count() as u64);
                sizes.extend((0..count.max(few)).map(|_| largest));
            }
            // What copies guarded has to be guarded by parity.
            Goal::Kind(kind) if *kind != VolumeKind::Mirrored => {
                sizes.extend((start.parities()..start.guard(ground)).map(|_| largest));
            }
            _ => {}
        }
    }
    sizes.into_iter().map(|size| Purchase { count: 1, size, from: None, path: None }).collect()
}

/// Puts them beside the members, with names that nobody has.
pub(super) fn add(ground: &mut Ground, purchases: &[Purchase]) {
    let mut number = 0;
    for purchase in purchases {
        for _ in 0..purchase.count {
            let name = loop {
                number += 1;
                let name: Rc<str> = format!("new-{number}").into();
                if ground.drives.iter().all(|drive| drive.name != name) {
                    break name;
                }
            };
            ground.drives.push(Drive {
                name,
                size: purchase.size,
                curve: default_curve(Some(Media::Hdd)),
                from: purchase.from,
                path: purchase.path.clone(),
                bay: None,
                serial: None,
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use rstest::rstest;

    #[rstest]
    #[case("14 TB", 1, 14_000_000_000_000, None, None)]
    #[case("2 x 14 TB", 2, 14_000_000_000_000, None, None)]
    #[case("2×6TB by 2031-06", 2, 6_000_000_000_000, Some(date(2031, 6, 1)), None)]
    #[case(
        "6TB by 2031-06-15 at /mnt/by the sea",
        1,
        6_000_000_000_000,
        Some(date(2031, 6, 15)),
        Some("/mnt/by the sea")
    )]
    fn purchases_are_read(
        #[case] text: &str,
        #[case] count: usize,
        #[case] size: u64,
        #[case] from: Option<Date>,
        #[case] path: Option<&str>,
    ) {
        let read = Purchase::parse(text).unwrap();
        let path = path.map(String::from);
        assert_eq!(read, Purchase { count, size: ByteLength::new(size), from, path });
    }

    #[rstest]
    #[case("")]
    #[case("0 x 4 TB")]
    #[case("99 x 4 TB")]
    #[case("2 x 4 TB at /mnt/new")]
    #[case("4 TB by soon")]
    #[case("many")]
    fn what_is_no_purchase(#[case] text: &str) {
        assert_eq!(Purchase::parse(text).unwrap_err().kind, Kind::Usage);
    }
}
