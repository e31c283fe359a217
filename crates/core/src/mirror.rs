//! Copies of one file on the disks of a mirrored volume: which of them is the newest, and what the others lack; how much fits.

use crate::units::ByteLength;

/// One copy as it was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Copy {
    /// The disk, as a position in the caller's list.
    pub disk: usize,
    /// What it holds.
    pub content: [u8; 32],
    /// How the catalogue stands to it.
    pub knowledge: Knowledge,
}

/// What the catalogue knows of a copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Knowledge {
    /// It is unchanged since it was recorded; records are numbered in the order in which they were made.
    Recorded(i64),
    /// It was changed behind our back; before, it held this.
    ChangedFrom([u8; 32]),
    /// It came behind our back.
    New,
}

/// What is to be done about a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// Every copy is the same: only more of them may be wanted.
    InStep,
    /// One copy is newer: the disks listed hold what is outdated.
    Outdated {
        /// The disk with the newest copy.
        newest: usize,
        /// The disks that are to follow.
        behind: Vec<usize>,
    },
    /// Copies went separate ways: both stay.
    Conflict,
}

/// Decides over the copies of one file.
///
/// The copy that was recorded last is the newest. One that was changed behind our back follows on what all others still
/// hold; anything else that differs is a conflict.
pub fn judge(copies: &[Copy]) -> Verdict {
    let Some(first) = copies.first() else { return Verdict::InStep };
    if copies.iter().all(|copy| copy.content == first.content) {
        return Verdict::InStep;
    }
    let recorded = |copy: &&Copy| matches!(copy.knowledge, Knowledge::Recorded(_));
    let newest_recorded = copies.iter().filter(recorded).max_by_key(|copy| match copy.knowledge {
        Knowledge::Recorded(number) => number,
        _ => i64::MIN,
    });
    let changed: Vec<&Copy> = copies.iter().filter(|copy| !recorded(copy)).collect();
    let newest = match (changed.first(), newest_recorded) {
        (None, newest) => newest,
        (Some(changed_one), base) => {
            let is_one_change = changed.iter().all(|copy| copy.content == changed_one.content);
            let follows = |copy: &&Copy| match (copy.knowledge, base) {
                (Knowledge::ChangedFrom(before), Some(base)) => before == base.content,
                // Without another copy to follow on, what all changed copies agree on is right.
                (Knowledge::ChangedFrom(_), None) => true,
                _ => false,
            };
            let recorded_agree =
                base.is_none_or(|base| copies.iter().filter(recorded).all(|c| c.content == base.content));
            let is_successor = is_one_change && recorded_agree && changed.iter().all(follows);
            is_successor.then_some(*changed_one)
        }
    };
    match newest {
        None => Verdict::Conflict,
        Some(newest) => Verdict::Outdated {
            newest: newest.disk,
            behind: copies.iter().filter(|c| c.content != newest.content).map(|c| c.disk).collect(),
        },
    }
}

/// How much fits where every file lies on so many different disks of these sizes: the largest amount c with
/// Σ min(size, c) ≥ copies · c, since no disk holds a file twice.
///
/// Nothing fits on fewer disks than copies.
pub fn space(sizes: &[ByteLength], copies: usize) -> ByteLength {
    let mut sizes: Vec<u64> = sizes.iter().map(|size| size.exact()).collect();
    sizes.sort_unstable_by_key(|size| std::cmp::Reverse(*size));
    let copies = copies.max(1);
    // The largest disks hold a copy of everything as long as each is larger than what the others bring for one copy.
    for whole in 0..copies.min(sizes.len()) {
        let others: u128 = sizes[whole..].iter().map(|size| u128::from(*size)).sum();
        let fits = others / (copies - whole) as u128;
        if u128::from(sizes[whole]) <= fits {
            return ByteLength::new(u64::try_from(fits).unwrap_or(u64::MAX));
        }
    }
    ByteLength::ZERO
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const A: [u8; 32] = [1; 32];
    const B: [u8; 32] = [2; 32];
    const C: [u8; 32] = [3; 32];

    fn copies(list: &[([u8; 32], Knowledge)]) -> Vec<Copy> {
        let copy = |(disk, (content, knowledge)): (usize, &([u8; 32], Knowledge))| Copy {
            disk,
            content: *content,
            knowledge: *knowledge,
        };
        list.iter().enumerate().map(copy).collect()
    }

    fn follow(newest: usize, behind: &[usize]) -> Verdict {
        Verdict::Outdated { newest, behind: behind.to_vec() }
    }

    #[rstest]
    #[case::the_same(&[(A, Knowledge::Recorded(1)), (A, Knowledge::New)], Verdict::InStep)]
    #[case::one_was_away(&[(A, Knowledge::Recorded(1)), (B, Knowledge::Recorded(7))], follow(1, &[0]))]
    #[case::edited(&[(B, Knowledge::ChangedFrom(A)), (A, Knowledge::Recorded(1)), (A, Knowledge::Recorded(2))], follow(0, &[1, 2]))]
    #[case::both_edited(&[(B, Knowledge::ChangedFrom(A)), (C, Knowledge::ChangedFrom(A))], Verdict::Conflict)]
    #[case::edited_alike(&[(B, Knowledge::ChangedFrom(A)), (B, Knowledge::ChangedFrom(A)), (A, Knowledge::Recorded(1))], follow(0, &[2]))]
    #[case::edited_while_away(&[(C, Knowledge::ChangedFrom(A)), (B, Knowledge::Recorded(7))], Verdict::Conflict)]
    #[case::came_from_elsewhere(&[(B, Knowledge::New), (A, Knowledge::Recorded(1))], Verdict::Conflict)]
    #[case::both_new(&[(B, Knowledge::New), (A, Knowledge::New)], Verdict::Conflict)]
    #[case::nothing(&[], Verdict::InStep)]
    fn the_newest_copy_wins_and_what_went_apart_stays(
        #[case] list: &[([u8; 32], Knowledge)],
        #[case] expected: Verdict,
    ) {
        assert_eq!(judge(&copies(list)), expected);
    }

    #[rstest::rstest]
    #[case(&[10, 10], 2, 10)]
    #[case(&[10, 2], 2, 2)]
    #[case(&[10, 6, 4], 2, 10)]
    #[case(&[12, 6, 4], 2, 10)]
    #[case(&[9, 9, 9], 2, 13)]
    #[case(&[9, 9, 9], 3, 9)]
    #[case(&[9, 5, 4, 1], 3, 5)]
    #[case(&[9], 2, 0)]
    fn what_fits_on_several_disks_at_once(#[case] sizes: &[u64], #[case] copies: usize, #[case] fits: u64) {
        let sizes: Vec<ByteLength> = sizes.iter().map(|size| ByteLength::new(*size)).collect();
        assert_eq!(space(&sizes, copies), ByteLength::new(fits));
    }
}
