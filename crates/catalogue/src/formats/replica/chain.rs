//! The files that a replica is made of, by their names.

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::CheckpointId;
use sieve_disk::{Disk, Result};

/// Which checkpoint a replica is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Stamp {
    /// The checkpoint's number.
    pub number: u64,
    /// The checkpoint's id.
    pub id: CheckpointId,
}

/// One file of a replica.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Part {
    /// The checkpoint that the replica is of once this file is read.
    pub(super) stamp: Stamp,
    /// The checkpoint that its changes are to be applied to; none for a whole copy.
    pub(super) after: Option<CheckpointId>,
}

impl Part {
    pub(super) const fn whole(stamp: Stamp) -> Self {
        Self { stamp, after: None }
    }

    pub(super) fn path(&self) -> RelPath {
        let Stamp { number, id } = self.stamp;
        let name = match self.after {
            None => format!("replica-{number:012}-{:016x}.sqlite", id.get()),
            Some(after) => format!("replica-{number:012}-{:016x}-after-{:016x}.pages", id.get(), after.get()),
        };
        OurPlace::Folder.with(&name)
    }

    fn of(name: &[u8]) -> Option<Self> {
        let name = std::str::from_utf8(name).ok()?.strip_prefix("replica-")?;
        let id = |text: &str| u64::from_str_radix(text, 16).ok().map(CheckpointId::new);
        let stamp = |text: &str| {
            let (number, text) = text.split_once('-')?;
            Some(Stamp { number: number.parse().ok()?, id: id(text)? })
        };
        match name.strip_suffix(".sqlite") {
            Some(name) => Some(Self::whole(stamp(name)?)),
            None => {
                let (name, after) = name.strip_suffix(".pages")?.split_once("-after-")?;
                Some(Self { stamp: stamp(name)?, after: Some(id(after)?) })
            }
        }
    }
}

/// A whole copy, and the changes that follow it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Chain(pub(super) Vec<Part>);

impl Chain {
    /// The checkpoint that it is of in the end.
    pub(super) fn stamp(&self) -> Stamp {
        self.0[self.0.len() - 1].stamp
    }

    /// The chain that ends with an earlier checkpoint, if that is one of it.
    pub(super) fn up_to(mut self, stamp: Stamp) -> Option<Self> {
        let end = self.0.iter().position(|part| part.stamp == stamp)?;
        self.0.truncate(end + 1);
        Some(self)
    }
}

/// All files of replicas on a disk.
pub(super) fn parts_on(disk: &dyn Disk) -> Result<Vec<Part>> {
    if disk.stat(&OurPlace::Folder.path())?.is_none() {
        return Ok(Vec::new());
    }
    Ok(disk.list(&OurPlace::Folder.path())?.iter().filter_map(|name| Part::of(name)).collect())
}

/// The chains that these files make, the newest last. Changes that follow no whole copy belong to none.
pub(super) fn chains(parts: &[Part]) -> Vec<Chain> {
    let follower = |of: Stamp| {
        let follows = |part: &&Part| part.after == Some(of.id) && part.stamp.number > of.number;
        parts.iter().filter(follows).max_by_key(|part| part.stamp)
    };
    let mut chains: Vec<Chain> = parts
        .iter()
        .filter(|part| part.after.is_none())
        .map(|whole| {
            Chain(std::iter::successors(Some(*whole), |part| follower(part.stamp).copied()).collect())
        })
        .collect();
    chains.sort_unstable_by_key(Chain::stamp);
    chains
}

/// The newest replica on a disk.
///
/// # Errors
/// What the disk says.
pub fn newest_on(disk: &dyn Disk) -> Result<Option<Stamp>> {
    Ok(chains(&parts_on(disk)?).pop().map(|chain| chain.stamp()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn stamp(number: u64) -> Stamp {
        Stamp { number, id: CheckpointId::new(number * 0x11) }
    }

    fn after(number: u64, before: u64) -> Part {
        Part { stamp: stamp(number), after: Some(stamp(before).id) }
    }

    #[test]
    fn names_say_what_a_file_is() {
        for part in [Part::whole(stamp(7)), after(9, 7)] {
            let path = part.path();
            assert_eq!(Part::of(path.components().last().unwrap()), Some(part));
        }
        for name in
            ["replica-1.sqlite", "replica-1-2.pages", "replica-x-2.sqlite", "replica.new", "label.toml"]
        {
            assert_eq!(Part::of(name.as_bytes()), None, "{name}");
        }
    }

    #[rstest]
    #[case(vec![Part::whole(stamp(3))], 3)]
    #[case(vec![after(5, 4), Part::whole(stamp(3)), after(4, 3)], 5)]
    #[case(vec![Part::whole(stamp(3)), after(5, 4)], 3)] // a link is missing
    #[case(vec![Part::whole(stamp(3)), after(4, 3), Part::whole(stamp(6))], 6)]
    #[case(vec![Part::whole(stamp(3)), after(3, 3)], 3)] // nothing follows itself
    fn the_newest_whole_chain_counts(#[case] parts: Vec<Part>, #[case] newest: u64) {
        assert_eq!(chains(&parts).pop().unwrap().stamp(), stamp(newest));
    }
}
