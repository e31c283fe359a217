//! What was meant by a name that is not there.

use std::collections::BTreeSet;

use crate::path::RelPath;

/// So many names are listed at most.
const LISTED: usize = 8;

/// How far a wrong word is from one that is known, in letters; nothing where they are not alike.
pub fn distance(wrong: &str, known: &str) -> Option<usize> {
    let distance = strsim::damerau_levenshtein(&wrong.to_lowercase(), &known.to_lowercase());
    (distance <= 1 + known.len() / 4).then_some(distance)
}

/// The known word that is most like a wrong one, if any is like it at all.
pub fn nearest<'k>(wrong: &str, known: impl IntoIterator<Item = &'k str>) -> Option<&'k str> {
    let near = known.into_iter().filter_map(|word| Some((distance(wrong, word)?, word)));
    near.min_by_key(|(distance, _)| *distance).map(|(_, word)| word)
}

/// The names, as many as people read: "alder, beech and 12 more".
pub fn listed<'k>(names: impl IntoIterator<Item = &'k str>) -> String {
    let names: Vec<&str> = names.into_iter().collect();
    if names.is_empty() {
        return "none".into();
    }
    let shown = if names.len() > LISTED + 1 { &names[..LISTED] } else { &names[..] };
    let more = names.len() - shown.len();
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    format!("{}{more}", shown.join(", "))
}

/// "there is no disk `aldr`: did you mean `alder`?", or else what there is.
pub fn unknown<'k>(what: &str, wrong: &str, known: impl IntoIterator<Item = &'k str>) -> String {
    let known: Vec<&str> = known.into_iter().collect();
    match nearest(wrong, known.iter().copied()) {
        Some(near) => format!("there is no {what} `{wrong}`: did you mean `{near}`?"),
        None => format!("there is no {what} `{wrong}`; there are {}", listed(known)),
    }
}

/// The path that was meant by one that nobody has: the same name elsewhere, or a like name in the same folder.
pub struct NearestPath<'a> {
    wanted: &'a RelPath,
    best: Option<(usize, RelPath)>,
    folders: BTreeSet<RelPath>,
}

impl<'a> NearestPath<'a> {
    /// Nothing has been looked at.
    pub const fn to(wanted: &'a RelPath) -> Self {
        Self { wanted, best: None, folders: BTreeSet::new() }
    }

    /// Looks at the path of a file, and at the folders that it lies in.
    pub fn look_at(&mut self, file: &RelPath) {
        self.weigh(file);
        let mut above = file.parent().filter(|folder| !folder.is_root());
        while let Some(folder) = above.filter(|folder| self.folders.insert(folder.clone())) {
            self.weigh(&folder);
            above = folder.parent().filter(|folder| !folder.is_root());
        }
    }

    fn weigh(&mut self, path: &RelPath) {
        let name = |path: &RelPath| String::from_utf8_lossy(path.file_name()).into_owned();
        let distance = match distance(&name(self.wanted), &name(path)) {
            Some(0) => 0,
            Some(letters) if path.parent() == self.wanted.parent() => letters,
            _ => return,
        };
        if self.best.as_ref().is_none_or(|(least, known)| (distance, path) < (*least, known)) {
            self.best = Some((distance, path.clone()));
        }
    }

    /// What to do: "did you mean notes/day.txt? All there is: zinc-sieve ls".
    pub fn advice(&self) -> String {
        match &self.best {
            Some((_, path)) => format!("did you mean {path}? All there is: zinc-sieve ls"),
            None => "zinc-sieve ls".into(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("aldr", "there is no disk `aldr`: did you mean `alder`?")]
    #[case("Alder", "there is no disk `Alder`: did you mean `alder`?")]
    #[case("ebech", "there is no disk `ebech`: did you mean `beech`?")]
    #[case("elm", "there is no disk `elm`; there are alder, beech, oak")]
    fn the_near_name_or_all_of_them(#[case] wrong: &str, #[case] words: &str) {
        assert_eq!(unknown("disk", wrong, ["alder", "beech", "oak"]), words);
    }

    #[test]
    fn long_lists_are_trimmed() {
        let names: Vec<String> = (0..30).map(|n| format!("d{n:02}")).collect();
        let all = names.iter().map(String::as_str);
        assert_eq!(listed(all.clone()), "d00, d01, d02, d03, d04, d05, d06, d07 and 22 more");
        assert_eq!(listed(all.take(9)).matches(',').count(), 8, "one more is no more than its number");
        assert_eq!(listed([]), "none");
    }

    #[rstest]
    #[case("notes/day-1.txt", "did you mean notes/day-1.txt?")]
    #[case("notes/dya-1.txt", "did you mean notes/day-1.txt?")]
    #[case("day-2.txt", "did you mean notes/day-2.txt?")]
    #[case("ntoes", "did you mean notes?")]
    #[case("Other", "zinc-sieve ls")]
    fn paths_that_were_meant(#[case] wanted: &str, #[case] words: &str) {
        let wanted = RelPath::new(wanted).unwrap();
        let mut near = NearestPath::to(&wanted);
        for path in ["notes/day-1.txt", "notes/day-2.txt", "films/long/one.mkv"] {
            near.look_at(&RelPath::new(path).unwrap());
        }
        assert!(near.advice().starts_with(words), "{}", near.advice());
    }
}
