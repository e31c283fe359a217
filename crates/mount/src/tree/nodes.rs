//! What the kernel knows of the volume by number: where it hangs in the tree.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex};

use sieve_core::path::RelPath;

use crate::guarded;
use crate::tree::number::Number;

type Name = Arc<[u8]>;

/// Folders in folders, as many as the longest path has.
const DEEPEST: usize = 4096;

/// Everything that the kernel knows a number of.
#[derive(Default)]
pub(crate) struct Nodes {
    known: Mutex<Known>,
}

#[derive(Default)]
struct Known {
    by_number: HashMap<Number, Node>,
    by_name: HashMap<(Number, Name), Number>,
    /// Files that moved to another disk while they were open: their new number, and the one that programs know.
    stand_ins: HashMap<Number, Number>,
    /// The numbers that programs know those by. The inodes that they once were may be other files by now, which are then
    /// known by numbers of their own.
    moved: HashSet<Number>,
    /// How many such files there were.
    displaced: u64,
}

struct Node {
    /// One, but for hard links; none when it was removed and is open still.
    names: Vec<(Number, Name)>,
    /// The kernel tells when it lets go of so many.
    lookups: u64,
}

impl Nodes {
    /// The kernel is told of what lies at a name.
    pub(crate) fn learn(&self, parent: Number, name: &[u8], number: Number) {
        let mut known = guarded(&self.known);
        let name: Name = name.into();
        let before = known.by_name.insert((parent, Arc::clone(&name)), number);
        if let Some(before) = before.filter(|before| *before != number) {
            known.take_name(before, parent, &name);
        }
        let node = known.by_number.entry(number).or_insert(Node { names: Vec::with_capacity(1), lookups: 0 });
        node.lookups += 1;
        if node.names.last().is_none_or(|(p, n)| *p != parent || *n != name) {
            node.names.retain(|(p, n)| *p != parent || *n != name);
            node.names.push((parent, name));
        }
    }

    /// The number that is known for a name.
    pub(crate) fn at(&self, parent: Number, name: &[u8]) -> Option<Number> {
        guarded(&self.known).by_name.get(&(parent, Name::from(name))).copied()
    }

    /// The kernel lets go.
    pub(crate) fn forget(&self, number: Number, times: u64) {
        let mut known = guarded(&self.known);
        let Some(node) = known.by_number.get_mut(&number) else { return };
        node.lookups = node.lookups.saturating_sub(times);
        if node.lookups > 0 {
            return;
        }
        let names = known.by_number.remove(&number).map(|node| node.names).unwrap_or_default();
        for name in names {
            known.by_name.remove(&name);
        }
        if known.moved.remove(&number) || number.is_made_up() {
            known.stand_ins.retain(|_, shown| *shown != number);
        }
    }

    /// The path of a node; nothing when it has no name any more, or was never told.
    pub(crate) fn path(&self, number: Number) -> Option<RelPath> {
        guarded(&self.known).path(number, DEEPEST)
    }

    /// A name is gone.
    pub(crate) fn remove(&self, parent: Number, name: &[u8]) {
        let mut known = guarded(&self.known);
        let name: Name = name.into();
        if let Some(number) = known.by_name.remove(&(parent, Arc::clone(&name))) {
            known.take_name(number, parent, &name);
        }
    }

    /// A name is another one now.
    pub(crate) fn rename(&self, from: (Number, &[u8]), to: (Number, &[u8])) {
        self.remove(to.0, to.1);
        let mut known = guarded(&self.known);
        let (old, new): (Name, Name) = (from.1.into(), to.1.into());
        if let Some(number) = known.by_name.remove(&(from.0, Arc::clone(&old))) {
            known.take_name(number, from.0, &old);
            known.by_name.insert((to.0, Arc::clone(&new)), number);
            if let Some(node) = known.by_number.get_mut(&number) {
                node.names.push((to.0, new));
            }
        }
    }

    /// Two names change places.
    pub(crate) fn exchange(&self, one: (Number, &[u8]), other: (Number, &[u8])) {
        let numbers = (self.at(one.0, one.1), self.at(other.0, other.1));
        self.remove(one.0, one.1);
        self.remove(other.0, other.1);
        let mut known = guarded(&self.known);
        for ((parent, name), number) in [(one, numbers.1), (other, numbers.0)] {
            let Some(number) = number else { continue };
            let name: Name = name.into();
            known.by_name.insert((parent, Arc::clone(&name)), number);
            if let Some(node) = known.by_number.get_mut(&number) {
                node.names.push((parent, name));
            }
        }
    }

    /// A file that programs have open lies elsewhere from now on; they go on to know it by its old number.
    pub(crate) fn stands_in(&self, now: Number, shown: Number) {
        let mut known = guarded(&self.known);
        known.stand_ins.retain(|_, before| *before != shown);
        known.stand_ins.insert(now, shown);
    }

    /// It does not lie where it was any more: that inode may become another file.
    pub(crate) fn has_moved(&self, shown: Number) {
        guarded(&self.known).moved.insert(shown);
    }

    /// It stayed where it was after all.
    pub(crate) fn stands_no_more(&self, shown: Number) {
        let mut known = guarded(&self.known);
        known.stand_ins.retain(|_, before| *before != shown);
        known.moved.remove(&shown);
    }

    /// The number that programs know something by.
    pub(crate) fn shown(&self, number: Number) -> Number {
        let mut known = guarded(&self.known);
        if known.moved.is_empty() && known.stand_ins.is_empty() {
            return number;
        }
        if let Some(shown) = known.stand_ins.get(&number) {
            return *shown;
        }
        if !known.moved.contains(&number) {
            return number;
        }
        known.displaced += 1;
        let shown = Number::made_up(known.displaced);
        known.stand_ins.insert(number, shown);
        shown
    }

    /// How many are known.
    pub(crate) fn count(&self) -> usize {
        guarded(&self.known).by_number.len()
    }
}

impl Known {
    /// By the name that was told last. A folder may have been forgotten and be known by another of its numbers now: a name in
    /// what it was is none.
    fn path(&self, number: Number, depth: usize) -> Option<RelPath> {
        if number == Number::ROOT {
            return Some(RelPath::ROOT);
        }
        let depth = depth.checked_sub(1)?;
        let names = &self.by_number.get(&number)?.names;
        names.iter().rev().find_map(|(parent, name)| self.path(*parent, depth)?.join(name).ok())
    }

    fn take_name(&mut self, number: Number, parent: Number, name: &Name) {
        if let Some(node) = self.by_number.get_mut(&number) {
            node.names.retain(|(p, n)| *p != parent || n != name);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FOLDER: Number = Number(10);
    const FILE: Number = Number(11);

    fn tree() -> Nodes {
        let nodes = Nodes::default();
        nodes.learn(Number::ROOT, b"dawn", FOLDER);
        nodes.learn(FOLDER, b"wren.flac", FILE);
        nodes
    }

    fn path(nodes: &Nodes, number: Number) -> Option<String> {
        nodes.path(number).map(|path| path.to_string())
    }

    #[test]
    fn a_renamed_folder_takes_along_what_lies_in_it() {
        let nodes = tree();
        nodes.rename((Number::ROOT, b"dawn"), (Number::ROOT, b"dusk"));
        assert_eq!(path(&nodes, FILE), Some("dusk/wren.flac".into()));
        assert_eq!(nodes.at(Number::ROOT, b"dawn"), None);
    }

    #[test]
    fn a_name_in_a_folder_that_is_known_by_another_number_now_is_none() {
        let nodes = tree();
        nodes.learn(FOLDER, b"wren.flac", FILE);
        nodes.forget(FOLDER, 1);
        assert_eq!(path(&nodes, FILE), None);
        let again = Number(20);
        nodes.learn(Number::ROOT, b"dawn", again);
        nodes.learn(again, b"wren.flac", FILE);
        assert_eq!(path(&nodes, FILE), Some("dawn/wren.flac".into()));
    }

    #[test]
    fn of_two_names_one_may_go() {
        let nodes = tree();
        nodes.learn(Number::ROOT, b"second", FILE);
        nodes.remove(FOLDER, b"wren.flac");
        assert_eq!(path(&nodes, FILE), Some("second".into()));
        nodes.remove(Number::ROOT, b"second");
        assert_eq!(path(&nodes, FILE), None, "it is open at most");
    }

    #[test]
    fn what_the_kernel_lets_go_of_is_forgotten() {
        let nodes = tree();
        nodes.learn(FOLDER, b"wren.flac", FILE);
        nodes.forget(FILE, 1);
        assert_eq!(nodes.count(), 2);
        nodes.forget(FILE, 1);
        assert_eq!((nodes.count(), nodes.at(FOLDER, b"wren.flac")), (1, None));
    }

    #[test]
    fn a_moved_file_keeps_its_number_and_who_gets_its_inode_another() {
        let nodes = tree();
        let elsewhere = Number(99);
        nodes.stands_in(elsewhere, FILE);
        assert_eq!((nodes.shown(elsewhere), nodes.shown(FILE)), (FILE, FILE), "while it lies at both");
        nodes.has_moved(FILE);
        assert_eq!(nodes.shown(elsewhere), FILE);
        let other = nodes.shown(FILE);
        assert!(other != FILE && other == nodes.shown(FILE));
        nodes.forget(FILE, 1);
        assert_eq!(nodes.shown(elsewhere), elsewhere, "nobody knows it by its old number any more");
    }

    #[test]
    fn names_change_places() {
        let nodes = tree();
        nodes.learn(Number::ROOT, b"other", Number(12));
        nodes.exchange((FOLDER, b"wren.flac"), (Number::ROOT, b"other"));
        assert_eq!(path(&nodes, FILE), Some("other".into()));
        assert_eq!(path(&nodes, Number(12)), Some("dawn/wren.flac".into()));
    }
}
