//! Finding a bay in a case.

use super::{CaseSpec, DiskSpec};

/// Where a bay is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BayPlace {
    /// Which case.
    pub case: usize,
    /// Which row, from the top, from 0.
    pub row: usize,
    /// Which column, from the left, from 0.
    pub column: usize,
}

/// Finds a bay by its name.
pub fn find_bay(cases: &[CaseSpec], bay: &str) -> Option<BayPlace> {
    for (case, spec) in cases.iter().enumerate() {
        for (row, bays) in spec.rows.iter().enumerate() {
            if let Some(column) = bays.iter().position(|b| b.as_deref() == Some(bay)) {
                return Some(BayPlace { case, row, column });
            }
        }
    }
    None
}

/// Where a bay is, in words: "second from the top, left".
pub fn place_in_words(case: &CaseSpec, place: BayPlace) -> String {
    let columns = case.rows[place.row].len();
    let row = ordinal(place.row, case.rows.len(), "the top", "the bottom");
    let across = match (place.column, columns) {
        (_, 1) => None,
        (0, _) => Some("left".to_string()),
        (column, n) if column + 1 == n => Some("right".into()),
        (1, 3) => Some("in the middle".into()),
        (column, n) => Some(ordinal(column, n, "the left", "the right")),
    };
    match (case.rows.len(), across) {
        (1, None) => "the only bay".into(),
        (1, Some(across)) => across,
        (_, None) => row,
        (_, Some(across)) => format!("{row}, {across}"),
    }
}

/// "at the top", "second from the top", "third from the bottom".
fn ordinal(position: usize, count: usize, start: &str, end: &str) -> String {
    const WORDS: [&str; 6] = ["", "second", "third", "fourth", "fifth", "sixth"];
    let from_end = count - 1 - position;
    let word = |n: usize| WORDS.get(n).map_or_else(|| format!("{}th", n + 1), ToString::to_string);
    match (position, from_end) {
        (0, _) => format!("at {start}"),
        (_, 0) => format!("at {end}"),
        (n, m) if n <= m => format!("{} from {start}", word(n)),
        (_, m) => format!("{} from {end}", word(m)),
    }
}

/// The disks beside a bay: where they are ("above"), and who.
pub fn neighbours<'a>(
    case: &CaseSpec,
    place: BayPlace,
    disks: &'a [DiskSpec],
) -> Vec<(&'static str, &'a str)> {
    let at = |row: Option<usize>, column: Option<usize>| {
        let bay = case.rows.get(row?)?.get(column?)?.as_deref()?;
        disks.iter().find(|d| d.bay.as_deref() == Some(bay)).map(|d| d.name.as_str())
    };
    let (row, column) = (place.row, place.column);
    [
        ("above", at(row.checked_sub(1), Some(column))),
        ("below", at(row.checked_add(1), Some(column))),
        ("left of it", at(Some(row), column.checked_sub(1))),
        ("right of it", at(Some(row), column.checked_add(1))),
    ]
    .into_iter()
    .filter_map(|(side, name)| Some((side, name?)))
    .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn case(rows: &[&[&str]]) -> CaseSpec {
        let bay = |name: &&str| (*name != "-").then(|| name.to_string());
        let rows = rows.iter().map(|row| row.iter().map(bay).collect()).collect();
        CaseSpec { name: "tower".into(), rows, name_span: 0..0 }
    }

    #[rstest]
    #[case("A1", "at the top, left")]
    #[case("B2", "second from the top, right")]
    #[case("D1", "second from the bottom, left")]
    #[case("E1", "at the bottom")]
    #[case("C2", "third from the top, in the middle")]
    fn places_in_words(#[case] bay: &str, #[case] words: &str) {
        let case = case(&[&["A1", "A2"], &["-", "B2"], &["C1", "C2", "C3"], &["D1", "D2"], &["E1"]]);
        let place = find_bay(std::slice::from_ref(&case), bay).unwrap();
        assert_eq!(place_in_words(&case, place), words);
    }

    #[test]
    fn neighbours_are_named() {
        let case = case(&[&["A1", "A2"], &["B1", "-"]]);
        let disk = |name: &str, bay: &str| DiskSpec {
            name: name.into(),
            bay: Some(bay.into()),
            ..DiskSpec::default()
        };
        let disks = [disk("alder", "A1"), disk("beech", "A2"), disk("cedar", "B1")];
        let place = find_bay(std::slice::from_ref(&case), "A1").unwrap();
        assert_eq!(neighbours(&case, place, &disks), [("below", "cedar"), ("right of it", "beech")]);
        assert_eq!(find_bay(std::slice::from_ref(&case), "Z9"), None);
    }
}
