//! How many bytes on which disk: what a plan reads and writes, what a run did, what a forecast is made of.

use std::collections::BTreeMap;
use std::collections::btree_map::{IntoIter, Iter};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::units::ByteLength;

/// Bytes by the name of a disk. A disk that is named with nothing takes part; one that is not named does not.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
#[schemars(inline)]
pub struct Amounts(BTreeMap<String, ByteLength>);

impl Amounts {
    /// On no disk.
    pub const fn new() -> Self {
        Self(BTreeMap::new())
    }

    /// So many more on a disk.
    pub fn add(&mut self, disk: &str, bytes: ByteLength) {
        match self.0.get_mut(disk) {
            Some(sum) => *sum = sum.plus(bytes),
            None => _ = self.0.insert(disk.to_string(), bytes),
        }
    }

    /// So many on a disk, whatever was there.
    pub fn set(&mut self, disk: &str, bytes: ByteLength) {
        self.0.insert(disk.to_string(), bytes);
    }

    /// These and those.
    #[must_use]
    pub fn plus(&self, other: &Self) -> Self {
        let mut sum = self.clone();
        other.iter().for_each(|(disk, bytes)| sum.add(disk, bytes));
        sum
    }

    /// How many on a disk, where it takes part.
    pub fn get(&self, disk: &str) -> Option<ByteLength> {
        self.0.get(disk).copied()
    }

    /// How many on a disk.
    pub fn of(&self, disk: &str) -> ByteLength {
        self.get(disk).unwrap_or_default()
    }

    /// How many on all of them.
    pub fn total(&self) -> ByteLength {
        self.0.values().copied().sum()
    }

    /// Whether no disk takes part.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// How many disks take part.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// The disks that take part, in the order of their names.
    pub fn disks(&self) -> impl Iterator<Item = &String> {
        self.0.keys()
    }

    /// Each disk with how many.
    pub fn iter(&self) -> impl Iterator<Item = (&String, ByteLength)> {
        self.into_iter()
    }

    /// Those of disks that `keeps` names.
    pub fn retain(&mut self, keeps: impl Fn(&str, ByteLength) -> bool) {
        self.0.retain(|disk, bytes| keeps(disk, *bytes));
    }

    /// Other amounts on the same disks.
    #[must_use]
    pub fn map(&self, to: impl Fn(ByteLength) -> ByteLength) -> Self {
        self.0.iter().map(|(disk, bytes)| (disk.clone(), to(*bytes))).collect()
    }
}

impl FromIterator<(String, ByteLength)> for Amounts {
    /// Adds up what comes of one disk more than once.
    fn from_iter<I: IntoIterator<Item = (String, ByteLength)>>(amounts: I) -> Self {
        let mut sums = Self::new();
        sums.extend(amounts);
        sums
    }
}

impl Extend<(String, ByteLength)> for Amounts {
    fn extend<I: IntoIterator<Item = (String, ByteLength)>>(&mut self, amounts: I) {
        amounts.into_iter().for_each(|(disk, bytes)| self.add(&disk, bytes));
    }
}

impl IntoIterator for Amounts {
    type Item = (String, ByteLength);
    type IntoIter = IntoIter<String, ByteLength>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.into_iter()
    }
}

type Copied<'a> = fn((&'a String, &'a ByteLength)) -> (&'a String, ByteLength);

impl<'a> IntoIterator for &'a Amounts {
    type Item = (&'a String, ByteLength);
    type IntoIter = std::iter::Map<Iter<'a, String, ByteLength>, Copied<'a>>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.iter().map(|(disk, bytes)| (disk, *bytes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_comes_twice_is_added_up_and_what_is_not_there_is_nothing() {
        let bytes = ByteLength::new;
        let mut amounts: Amounts =
            [("oak".into(), bytes(3)), ("alder".into(), bytes(0)), ("oak".into(), bytes(4))]
                .into_iter()
                .collect();
        amounts.add("beech", bytes(5));
        assert_eq!(amounts.disks().collect::<Vec<_>>(), ["alder", "beech", "oak"]);
        assert_eq!((amounts.of("oak"), amounts.get("pine"), amounts.of("pine")), (bytes(7), None, bytes(0)));
        assert_eq!(amounts.plus(&amounts).total(), bytes(24));
        amounts.set("oak", bytes(1));
        amounts.retain(|_, of| of > ByteLength::ZERO);
        assert_eq!(
            serde_json::to_string(&amounts.map(|of| of.plus(of))).ok().as_deref(),
            Some(r#"{"beech":10,"oak":2}"#)
        );
    }
}
