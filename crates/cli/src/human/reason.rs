//! Why a file does not come back, in words.

use sieve_core::fate::Unguarded;
use sieve_store::fate::{Reason, RowsShort, StaleLane};

use super::units::count;

/// A sentence without a full stop.
pub(crate) fn sentence(reason: &Reason) -> String {
    match (reason.own, &reason.rows) {
        (Some(own), None) => own_words(own).into(),
        (Some(own), Some(rows)) => format!("{}, and of the last sync: {}", own_words(own), rows_words(rows)),
        (None, Some(rows)) => rows_words(rows),
        (None, None) => "its disk is lost".into(),
    }
}

/// What is the matter with the file itself.
pub(crate) const fn own_words(own: Unguarded) -> &'static str {
    match own {
        Unguarded::New => "came after the last sync",
        Unguarded::Changed => "changed after the last sync",
        Unguarded::Doubtful => "its times or its place moved since the last sync, and it has not been read",
        Unguarded::Suspect => "damaged, or changed with its times put back",
        Unguarded::NoParity => "its rows have no valid parity",
        Unguarded::StaleNeighbours => "other files in its rows changed after the last sync",
        Unguarded::DiskMissing => "a disk is missing, and parity is needed for that one",
        Unguarded::NoReplica => "no other disk has a current catalogue",
    }
}

fn rows_words(rows: &RowsShort) -> String {
    let lost: Vec<&str> = rows.lost.iter().chain(&rows.lost_parities).map(String::as_str).collect();
    let place = if rows.first == rows.last {
        format!("row {}", count(rows.first))
    } else {
        format!("rows {}–{}", count(rows.first), count(rows.last))
    };
    let mut text = String::new();
    if !lost.is_empty() {
        text += &format!("{} {} lost", listed(&lost), if lost.len() == 1 { "is" } else { "are" });
    }
    if rows.stale.is_empty() {
        text += &format!("; {place}");
    } else {
        let stale: Vec<String> = rows.stale.iter().map(stale_words).collect();
        let stale: Vec<&str> = stale.iter().map(String::as_str).collect();
        text += &format!(", and {place} also need {}", listed(&stale));
    }
    if !rows.invalid_parities.is_empty() {
        let invalid: Vec<&str> = rows.invalid_parities.iter().map(String::as_str).collect();
        text += &format!("; there the parity on {} is not valid", listed(&invalid));
    }
    let missing = rows.lost.len() + rows.stale.len();
    let parities = rows.parities.len();
    text += &match parities {
        0 if missing == 1 => ": no parity is left".to_string(),
        0 => format!(": no parity for {missing} missing"),
        1 => format!(": 1 parity for {missing} missing"),
        n => format!(": {n} parities for {missing} missing"),
    };
    text.trim_start_matches("; ").trim_start_matches(", and ").to_string()
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
