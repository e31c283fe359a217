//! Guards against a house that grows together again: an arrow that runs up between crates, a circle of files within one, SQL
//! outside of the catalogue.
#![allow(clippy::unwrap_used, reason = "a test may fail")]

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs;
use std::path::{Path, PathBuf};

use rstest::rstest;

/// The floors from the ground up: each may call those before it.
const FLOORS: [&str; 11] = [
    "core",
    "disk",
    "charts",
    "catalogue",
    "rows",
    "pool",
    "actions",
    "foresight",
    "mount",
    "testkit",
    "cli",
];

fn source_of(floor: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(floor).join("src")
}

/// The modules of a crate with their text, without comments and tests.
fn modules(floor: &str) -> BTreeMap<Vec<String>, String> {
    let root = source_of(floor);
    let mut found = BTreeMap::new();
    let mut waiting = vec![root.clone()];
    while let Some(folder) = waiting.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                waiting.push(path);
            } else if path.extension().is_some_and(|extension| extension == "rs") {
                let inside = path.strip_prefix(&root).unwrap().with_extension("");
                let mut module: Vec<String> =
                    inside.iter().map(|part| part.to_str().unwrap().to_string()).collect();
                module.retain(|part| !["mod", "lib", "main"].contains(&part.as_str()));
                found.insert(module, code_of(&fs::read_to_string(path).unwrap()));
            }
        }
    }
    found
}

fn code_of(text: &str) -> String {
    let tests = text.find("#[cfg(test)]\nmod tests").unwrap_or(text.len());
    let lines = text[..tests].lines().map(|line| line.split("//").next().unwrap_or_default());
    lines.collect::<Vec<_>>().join("\n")
}

/// Every path that a tree of imports names: `a::{b, c::d}` names `a::b` and `a::c::d`.
fn paths_of(tree: &str, before: &[String], found: &mut Vec<(Vec<String>, String)>) {
    let tree = tree.trim();
    if let Some((front, inside)) = tree.strip_suffix('}').and_then(|tree| tree.split_once('{')) {
        let parts = front.split("::").map(str::trim).filter(|part| !part.is_empty());
        let before: Vec<String> = before.iter().cloned().chain(parts.map(str::to_string)).collect();
        let (mut depth, mut start) = (0, 0);
        for (position, c) in inside.char_indices() {
            match c {
                '{' => depth += 1,
                '}' => depth -= 1,
                ',' if depth == 0 => {
                    paths_of(&inside[start..position], &before, found);
                    start = position + 1;
                }
                _ => {}
            }
        }
        return paths_of(&inside[start..], &before, found);
    }
    if tree.is_empty() {
        return;
    }
    let (path, alias) = tree.split_once(" as ").map_or((tree, None), |(path, alias)| (path, Some(alias)));
    let mut segments: Vec<String> = before.to_vec();
    segments.extend(path.split("::").map(|part| part.trim().to_string()));
    if segments.last().is_some_and(|last| last == "self") {
        segments.pop();
    }
    let name =
        alias.map_or_else(|| segments.last().cloned().unwrap_or_default(), |alias| alias.trim().into());
    found.push((segments, name));
}

/// The imports of a text, each with whether it is handed on (`pub use`), and the text without them.
fn imports(code: &str) -> (Vec<Import>, String) {
    let (mut found, mut rest) = (Vec::new(), String::new());
    for statement in code.split_inclusive(';') {
        let use_at = statement.rfind("use ").filter(|at| {
            let before = statement[..*at].rsplit('\n').next().unwrap_or_default().trim();
            before.is_empty() || before.starts_with("pub")
        });
        let Some(at) = use_at.filter(|at| !statement[*at..].contains('=')) else {
            rest += statement;
            continue;
        };
        let line = statement[..at].rsplit('\n').next().unwrap_or_default();
        let mut paths = Vec::new();
        paths_of(statement[at + 4..].trim_end_matches(';'), &[], &mut paths);
        found.extend(paths.into_iter().map(|(path, name)| (path, name, line.contains("pub"))));
        rest += &statement[..at];
    }
    (found, rest)
}

/// A path, the name that it has in the file, and whether it is handed on (`pub use`).
type Import = (Vec<String>, String, bool);

struct House {
    imports: BTreeMap<Vec<String>, Vec<Import>>,
    texts: BTreeMap<Vec<String>, String>,
}

impl House {
    fn of(modules: BTreeMap<Vec<String>, String>) -> Self {
        let mut house = Self { imports: BTreeMap::new(), texts: BTreeMap::new() };
        for (module, code) in modules {
            let (imports, text) = imports(&code);
            house.imports.insert(module.clone(), imports);
            house.texts.insert(module, text);
        }
        house
    }

    /// A path as it is seen from the root of the crate; nothing for one of another crate.
    fn absolute(&self, module: &[String], path: &[String]) -> Option<Vec<String>> {
        match path.first().map(String::as_str) {
            Some("crate") => Some(path[1..].to_vec()),
            Some("self") => Some([module, &path[1..]].concat()),
            Some("super") => {
                let up = path.iter().take_while(|part| *part == "super").count();
                Some([module.get(..module.len().checked_sub(up)?)?, &path[up..]].concat())
            }
            Some(first) => {
                let child = [module, &[first.to_string()]].concat();
                self.texts.contains_key(&child).then(|| [module, path].concat())
            }
            None => None,
        }
    }

    /// The module that has what a path names, also where it is only handed on.
    fn owner(&self, path: &[String], depth: usize) -> Option<Vec<String>> {
        let module = (0..=path.len()).rev().map(|end| &path[..end]).find(|m| self.texts.contains_key(*m))?;
        let rest = &path[module.len()..];
        let handed_on = rest.first().filter(|_| depth < 8).and_then(|name| {
            let import =
                self.imports[module].iter().find(|(_, known, is_public)| *is_public && known == name)?;
            let target = self.absolute(module, &import.0)?;
            self.owner(&[&target[..], &rest[1..]].concat(), depth + 1)
        });
        handed_on.or_else(|| Some(module.to_vec()))
    }

    /// The modules that a module calls.
    fn calls(&self, module: &[String]) -> BTreeSet<Vec<String>> {
        let mut called: Vec<Vec<String>> = Vec::new();
        let mut names: HashMap<&str, Vec<String>> = HashMap::new();
        for (path, name, is_public) in &self.imports[module] {
            let Some(path) = self.absolute(module, path).filter(|_| !is_public) else { continue };
            if self.texts.contains_key(&path) {
                names.insert(name, path);
            } else {
                called.push(path);
            }
        }
        let is_in_path = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
        for word in self.texts[module].split(|c: char| !is_in_path(c)).filter(|word| word.contains("::")) {
            let path: Vec<String> = word.split("::").map(str::to_string).collect();
            let imported = names.get(path[0].as_str()).map(|known| [&known[..], &path[1..]].concat());
            called.extend(imported.or_else(|| self.absolute(module, &path)));
        }
        let owners = called.iter().filter_map(|path| self.owner(path, 0));
        owners.filter(|owner| owner != module && !owner.is_empty()).collect()
    }
}

/// The modules that go round. What calls nothing that is still there can be taken away; what cannot be taken away at the end
/// goes round, or calls what does.
fn round(house: &House) -> BTreeMap<Vec<String>, BTreeSet<Vec<String>>> {
    let mut left: BTreeMap<_, _> =
        house.texts.keys().filter(|m| !m.is_empty()).map(|m| (m.clone(), house.calls(m))).collect();
    loop {
        let calls_nothing = |calls: &BTreeSet<Vec<String>>| calls.iter().all(|c| !left.contains_key(c));
        let free: Vec<_> =
            left.iter().filter(|(_, calls)| calls_nothing(calls)).map(|(module, _)| module.clone()).collect();
        if free.is_empty() {
            return left;
        }
        free.iter().for_each(|module| {
            left.remove(module);
        });
    }
}

#[rstest]
fn no_circle_of_files(
    #[values(
        "core",
        "disk",
        "charts",
        "catalogue",
        "rows",
        "pool",
        "actions",
        "foresight",
        "mount",
        "testkit",
        "cli"
    )]
    floor: &str,
) {
    let house = House::of(modules(floor));
    assert!(house.texts.len() > 2, "the files are found");
    let round = round(&house);
    assert!(round.is_empty(), "{floor}: these go round: {round:#?}");
}

#[rstest]
#[case::an_import("use crate::b::X;", "use super::a::{Y, Z};", true)]
#[case::a_path_in_the_code("fn f() { crate::b::g(); }", "use crate::a;\nfn g() { a::f() }", true)]
#[case::what_is_handed_on("use crate::X;", "use crate::a::Y;", true)]
#[case::one_way("use crate::b::{self, X};", "use std::fmt;", false)]
fn a_circle_is_seen(#[case] a: &str, #[case] b: &str, #[case] goes_round: bool) {
    let module = |name: &str| if name.is_empty() { Vec::new() } else { vec![name.to_string()] };
    let house = [("", "mod a;\nmod b;\npub use b::X;"), ("a", a), ("b", b)];
    let house = House::of(house.map(|(name, code)| (module(name), code.to_string())).into());
    assert_eq!(!round(&house).is_empty(), goes_round);
}

#[test]
fn arrows_between_crates_run_down() {
    for (height, floor) in FLOORS.iter().enumerate() {
        let text = fs::read_to_string(source_of(floor).join("../Cargo.toml")).unwrap();
        let own = text.split("[dev-dependencies]").next().unwrap();
        for above in &FLOORS[height + 1..] {
            assert!(!own.contains(&format!("\nsieve-{above}")), "{floor} calls {above}");
        }
        assert_eq!(height > 0, own.contains("\nsieve-core"), "{floor}: the dependencies are found");
    }
}

/// Statements of a database, as they begin in a text.
const SQL: [&str; 6] = ["SELECT ", "INSERT ", "UPDATE ", "DELETE FROM", "CREATE TABLE", "PRAGMA "];

#[test]
fn all_sql_is_in_the_catalogue() {
    let has_sql = |code: &str| SQL.iter().any(|word| code.contains(&format!("\"{word}")));
    for floor in FLOORS.iter().filter(|floor| !["catalogue", "testkit"].contains(floor)) {
        let found: Vec<_> =
            modules(floor).into_iter().filter(|(_, code)| has_sql(code)).map(|(m, _)| m).collect();
        assert!(found.is_empty(), "{floor}: {found:?}");
    }
    assert!(modules("catalogue").values().any(|code| has_sql(code)), "it is found where it is");
}

/// What ARCHITECTURE.md promises, some test holds.
#[test]
fn every_invariant_is_held_by_a_test() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let text = fs::read_to_string(root.join("ARCHITECTURE.md")).unwrap();
    let promised: Vec<&str> =
        text.lines().filter_map(|line| line.strip_prefix("- **I")?.split("**").next()).collect();
    assert!(promised.len() > 8, "{promised:?}");
    let mut held = BTreeSet::new();
    for folder in ["crates/cli/tests", "crates/cli/tests/it", "crates/actions/tests/it"] {
        for entry in fs::read_dir(root.join(folder)).unwrap() {
            let text = fs::read_to_string(entry.unwrap().path()).unwrap_or_default();
            let cited = text.lines().filter_map(|line| line.strip_prefix("//! Holds "));
            held.extend(cited.flat_map(|line| {
                line.trim_end_matches('.').split(", ").map(str::to_string).collect::<Vec<_>>()
            }));
        }
    }
    for number in promised {
        assert!(held.contains(&format!("I{number}")), "no test says that it holds I{number}");
    }
}
