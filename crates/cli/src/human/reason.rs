//! Why a file does not come back, in words.

use std::collections::BTreeMap;

use sieve_core::count::Count;
use sieve_core::fate::Unguarded;
use sieve_pool::fate::{Reason, RowsShort, StaleLane};

use super::units::{self, count};
use super::{size, style};

/// A sentence without a full stop, about a file at a path.
pub(crate) fn sentence(reason: &Reason, path: &str) -> String {
    in_detail(reason, path, crate::output::is_verbose())
}

fn in_detail(reason: &Reason, path: &str, with_rows: bool) -> String {
    let rows_words = |rows: &RowsShort, path: &str| rows_words(rows, path, with_rows);
    match (reason.own, &reason.rows) {
        (Some(own), None) => own_words(own).into(),
        (Some(own), Some(rows)) => {
            format!("{}; of what it was then: {}", own_words(own), rows_words(rows, path))
        }
        (None, Some(rows)) => rows_words(rows, path),
        (None, None) => "its disk is lost".into(),
    }
}

/// What is the matter with the file itself.
pub(crate) const fn own_words(own: Unguarded) -> &'static str {
    match own {
        Unguarded::New => "came after the last sync",
        Unguarded::OnCache => "on the cache alone",
        Unguarded::Changed => "changed after the last sync",
        Unguarded::Doubtful => "its times or its place moved since the last sync, and it has not been read",
        Unguarded::Suspect => "damaged, or changed with its times put back",
        Unguarded::NoParity => "no valid parity covers it",
        Unguarded::StaleNeighbours => "other files that share its parity changed after the last sync",
        Unguarded::DiskMissing => "a disk is missing, and parity is needed for that one",
        Unguarded::NoReplica => "no other disk has a current catalogue",
    }
}

/// A line for each reason why files are unguarded.
pub(crate) fn show_unguarded(unguarded: &BTreeMap<Unguarded, Count>) {
    for (reason, amount) in unguarded {
        let files = units::files(amount.files);
        crate::say!(
            "    {} {files}, {}: {}",
            style::paint(style::BAD, "↳"),
            size(amount.bytes),
            why(*reason)
        );
    }
}

const fn why(reason: Unguarded) -> &'static str {
    match reason {
        Unguarded::New => "came after the last sync",
        Unguarded::OnCache => "on the cache alone",
        Unguarded::Changed => "changed after the last sync",
        Unguarded::Doubtful => "times or place moved since the last sync; to be read again",
        Unguarded::Suspect => "damaged, or changed with the times put back",
        Unguarded::NoParity => "no valid parity covers them",
        Unguarded::StaleNeighbours => "other files that share their parity changed: it is needed for those",
        Unguarded::DiskMissing => "a disk is missing: parity is needed for that one",
        Unguarded::NoReplica => "no other disk has a current catalogue",
    }
}

fn rows_words(rows: &RowsShort, path: &str, with_rows: bool) -> String {
    let lost: Vec<&str> = rows.lost.iter().chain(&rows.lost_parities).map(String::as_str).collect();
    let place = match with_rows {
        false => String::new(),
        true if rows.first == rows.last => format!("row {}", count(rows.first)),
        true => format!("rows {}–{}", count(rows.first), count(rows.last)),
    };
    // That the file itself is not what it was is said already.
    let others = rows.stale.iter().filter(|lane| lane.path.as_deref() != Some(path));
    let stale: Vec<String> = others.map(stale_words).collect();
    let stale: Vec<&str> = stale.iter().map(String::as_str).collect();
    let mut text = needs(&lost, &stale, &place);
    if !rows.invalid_parities.is_empty() {
        let invalid: Vec<&str> = rows.invalid_parities.iter().map(String::as_str).collect();
        text += &format!("; there the parity on {} is not valid", listed(&invalid));
    }
    let missing = rows.lost.len() + rows.stale.len();
    text + &match rows.parities.len() {
        0 if missing == 1 => ": no parity is left".to_string(),
        0 => format!(": no parity for {missing} missing"),
        1 => format!(": 1 parity for {missing} missing"),
        n => format!(": {n} parities for {missing} missing"),
    }
}

/// What is lost, and what besides it would have to be there.
fn needs(lost: &[&str], stale: &[&str], place: &str) -> String {
    let lost_words = match lost {
        [] => String::new(),
        [one] => format!("{one} is lost"),
        _ => format!("{} are lost", listed(lost)),
    };
    match (lost, stale, place) {
        ([], [], "") => "its parity does not help".into(),
        ([], [], place) => place.into(),
        ([], stale, "") => format!("bringing it back also takes {}", listed(stale)),
        ([], stale, place) => format!("{place} also need {}", listed(stale)),
        (_, [], "") => lost_words,
        (_, [], place) => format!("{lost_words}; {place}"),
        (_, stale, "") => format!("{lost_words}, and bringing it back also takes {}", listed(stale)),
        ([_], stale, place) => format!("{lost_words}, and {place} also need {}", listed(stale)),
        (_, stale, place) => format!("{lost_words}; {place} also need {}", listed(stale)),
    }
}

fn stale_words(lane: &StaleLane) -> String {
    let why = match lane.why {
        Unguarded::Doubtful => "moved or was touched after the last sync",
        Unguarded::Suspect => "is damaged",
        _ => "changed after the last sync",
    };
    match &lane.path {
        Some(path) => format!("{}, where {path} {why}", lane.disk),
        None => format!("{}, where a file is no longer what it was at the last sync", lane.disk),
    }
}

/// "a", "a and b", "a, b and c".
pub(crate) fn listed(words: &[&str]) -> String {
    match words {
        [] => String::new(),
        [one] => (*one).into(),
        [start @ .., last] => format!("{} and {last}", start.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn rows(
        lost: &[&str],
        stale: &[(&str, Option<&str>)],
        parities: usize,
        gone: &[&str],
        bad: &[&str],
    ) -> Reason {
        let names = |list: &[&str]| list.iter().map(ToString::to_string).collect();
        let lane = |(disk, path): &(&str, Option<&str>)| StaleLane {
            disk: (*disk).into(),
            path: path.map(Into::into),
            why: Unguarded::Changed,
        };
        let short = RowsShort {
            first: 1204,
            last: 1377,
            bytes: sieve_core::units::ByteLength::new(4096),
            lost: names(lost),
            stale: stale.iter().map(lane).collect(),
            parities: vec!["oak".into(); parities],
            lost_parities: names(gone),
            invalid_parities: names(bad),
        };
        Reason { own: None, rows: Some(short) }
    }

    #[rstest]
    #[case(
        rows(&["cedar"], &[("beech", Some("nest-cams/box7.mkv"))], 1, &[], &[]),
        "cedar is lost, and rows 1,204–1,377 also need beech, where nest-cams/box7.mkv changed after the last sync: 1 parity for 2 missing"
    )]
    #[case(
        rows(&["cedar"], &[("beech", None)], 1, &[], &[]),
        "cedar is lost, and rows 1,204–1,377 also need beech, where a file is no longer what it was at the last sync: 1 parity for 2 missing"
    )]
    #[case(rows(&["cedar"], &[], 0, &["oak"], &[]), "cedar and oak are lost; rows 1,204–1,377: no parity is left")]
    #[case(
        rows(&["alder", "cedar"], &[], 1, &[], &[]),
        "alder and cedar are lost; rows 1,204–1,377: 1 parity for 2 missing"
    )]
    #[case(
        rows(&["cedar"], &[], 0, &[], &["oak"]),
        "cedar is lost; rows 1,204–1,377; there the parity on oak is not valid: no parity is left"
    )]
    #[case(rows(&["alder", "beech", "cedar"], &[], 2, &[], &[]), "alder, beech and cedar are lost; rows 1,204–1,377: 2 parities for 3 missing")]
    fn rows_are_told_with_what_they_need(#[case] reason: Reason, #[case] words: &str) {
        assert_eq!(in_detail(&reason, "mine", true), words);
    }

    #[rstest]
    #[case(
        rows(&["cedar"], &[("beech", Some("nest-cams/box7.mkv"))], 1, &[], &[]),
        "cedar is lost, and bringing it back also takes beech, where nest-cams/box7.mkv changed after the last sync: 1 parity for 2 missing"
    )]
    #[case(rows(&["cedar"], &[], 0, &["oak"], &[]), "cedar and oak are lost: no parity is left")]
    #[case(
        rows(&["cedar"], &[], 0, &[], &["oak"]),
        "cedar is lost; there the parity on oak is not valid: no parity is left"
    )]
    fn rows_are_not_told_unasked(#[case] reason: Reason, #[case] words: &str) {
        assert_eq!(in_detail(&reason, "mine", false), words);
    }

    #[test]
    fn the_files_own_change_is_said_once() {
        let both = [("cedar", Some("mine")), ("beech", Some("other"))];
        let reason = Reason { own: Some(Unguarded::Changed), ..rows(&[], &both, 1, &[], &[]) };
        assert_eq!(
            in_detail(&reason, "mine", true),
            "changed after the last sync; of what it was then: rows 1,204–1,377 also need beech, where other changed after the last sync: 1 parity for 2 missing"
        );
        let new = Reason { own: Some(Unguarded::New), rows: None };
        assert_eq!(sentence(&new, "mine"), "came after the last sync");
    }
}
