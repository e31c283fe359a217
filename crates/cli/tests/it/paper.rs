//! Guards against a pool on paper that promises what the real one would not keep, and against listings of any shape.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use rstest::rstest;
use sieve_testkit::{Chance, Lab, Run};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// A pool of three data and one parity disk of 40 MB, none of them there.
fn on_paper() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "40 MB");
    let text = lab.pool_text();
    let kept = text.lines().filter(|l| !l.starts_with("path") && !l.starts_with("simulated"));
    lab.write_pool_file(&kept.map(|l| format!("{l}\n")).collect::<String>());
    lab
}

#[test]
fn paper_and_the_real_pool_tell_the_same() {
    let (paper, real) = (on_paper(), Lab::new(PROGRAM, 3, 1, "40 MB"));
    let mut chance = Chance::new(31);
    let mut listing = String::from("path,size_bytes,modified\n");
    fs::create_dir_all(real.root().join("card/dawn")).unwrap();
    for number in 0..30 {
        let (name, size) = (format!("card/dawn/take-{number:02}.flac"), chance.below(1_500_000));
        fs::write(real.root().join(&name), chance.bytes(size)).unwrap();
        listing += &format!("{name},{size},2031-05-04\n");
    }
    fs::write(paper.root().join("listing.csv"), &listing).unwrap();
    real.run(&["create", "--yes"]).expect(&[0]);
    real.run(&["put", "card", ".", "--yes"]).expect(&[0]);
    real.run(&["sync", "--yes"]).expect(&[0]);
    let told = |run: &Run| {
        let mut files: Vec<(String, u64, String)> = run.json()["files"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| {
                let text = |key: &str| f[key].as_str().unwrap().to_string();
                (text("path"), f["guard"].as_u64().unwrap(), f["disks"][0].as_str().unwrap().to_string())
            })
            .collect();
        files.sort();
        files
    };
    let on_paper = paper.run(&["fate", "--lose", "alder", "--files", "listing.csv", "--json"]).expect(&[0]);
    assert_eq!(
        told(&on_paper),
        told(&real.run(&["fate", "--lose", "alder", "--json"]).expect(&[0])),
        "placed alike"
    );
    for lost in ["alder", "beech,oak", "alder,cedar", "alder,beech,cedar"] {
        let promised =
            paper.run(&["fate", "--lose", lost, "--files", "listing.csv", "--json"]).expect(&[0, 1]).json();
        let kept = real.run(&["fate", "--lose", lost, "--json"]).expect(&[0, 1]).json();
        // Torn and gone depend on which rows each file got; what survives does not.
        for fate in ["untouched", "rebuilt"] {
            assert_eq!(promised["totals"][fate], kept["totals"][fate], "{lost}: {fate}");
        }
    }
}

#[test]
fn json_lines_are_read_like_csv() {
    let lab = on_paper();
    let lines = "{\"path\": \"a/ü\", \"size_bytes\": 5000000}\n\n{\"path\": \"b\", \"size_bytes\": 1, \"modified\": 3}\n";
    fs::write(lab.root().join("listing.jsonl"), lines).unwrap();
    let status = lab.run(&["status", "--files", "listing.jsonl", "--json"]).expect(&[0]).json();
    assert_eq!(status["guard"][1]["files"], 2);
    let on_paper = status["disks"].as_array().unwrap().iter().all(|d| d["state"] == "on-paper");
    assert!(on_paper, "{status}");
    lab.run(&["status"]).expect(&[0]); // without a listing it is empty
}

#[rstest]
#[case("listing.csv", "path,size_bytes\na,many\n", "line 2: `many` is no number of bytes")]
#[case("listing.csv", "a\n", "line 1: there is no size")]
#[case("listing.csv", "../a,5\n", "line 1: `../a` is no path")]
#[case("listing.csv", "a,5\nb,50000000\n", "line 2: `b` (50.0 MB) fits on no disk")]
#[case("listing.jsonl", "{\"path\": \"a\"}\n", "line 1: there is no size")]
#[case("listing.jsonl", "{\"path\": ", "line 1")]
fn a_wrong_line_is_named(#[case] name: &str, #[case] text: &str, #[case] words: &str) {
    let lab = on_paper();
    fs::write(lab.root().join(name), text).unwrap();
    let run = lab.run(&["fate", "--lose", "alder", "--files", name]).expect(&[2]);
    assert!(run.stderr.contains(words), "{words}: {}", run.stderr);
}

#[test]
fn a_listing_is_for_pools_on_paper_only() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    fs::write(lab.root().join("listing.csv"), "a,5\n").unwrap();
    lab.run(&["create", "--yes"]).expect(&[0]);
    let run = lab.run(&["status", "--files", "listing.csv"]).expect(&[2]);
    assert!(run.stderr.contains("this pool exists"), "{}", run.stderr);
    let run = on_paper().run(&["fate", "--lose", "elm"]).expect(&[2]);
    assert!(run.stderr.contains("alder, beech, cedar, oak"), "{}", run.stderr);
}

#[test]
fn the_worked_example_is_what_the_demo_writes() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    lab.run(&["demo", "--dir", "next", "--paper"]).expect(&[0]);
    let example = concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples/on-paper/pool.toml");
    assert_eq!(
        fs::read_to_string(lab.root().join("next/pool.toml")).unwrap(),
        fs::read_to_string(example).unwrap()
    );
    let mut command = lab.command(&["status", "--files", "listing.csv", "--json"]);
    let status = Run::of(&command.current_dir(lab.root().join("next")).output().unwrap()).expect(&[0]).json();
    assert_eq!(
        (&status["guard"][2]["files"], status["guard"].as_array().unwrap().len()),
        (&serde_json::json!(40_000), 3)
    );
}

/// A random volume: its disks with their megabytes, the text of its section, and the folder that files lie in.
fn random_volume(chance: &mut Chance) -> (Vec<(&'static str, u64)>, String) {
    let count = chance.below(3) + 2;
    let data = &["alder", "beech", "cedar", "elm"][..count];
    let mut disks: Vec<(&str, u64)> =
        data.iter().map(|name| (*name, (chance.below(12) + 12) as u64)).collect();
    let mut text = format!("data = {data:?}\n");
    match chance.below(4) {
        0 => text += "kind = \"unstriped\"\n",
        1 => text += "kind = \"spanned\"\n",
        2 => text += &format!("kind = \"mirrored\"\ncopies = {}\n", 2.min(count)),
        _ => text += "kind = \"tiered\"\nfast = [\"alder\"]\n",
    }
    if !text.contains("spanned") && chance.once_in(2) {
        text += ["placement = \"in-order\"\n", "placement = \"keep-together\"\n"][chance.below(2)];
    }
    let parity = &["oak", "pine"][..chance.below(3)];
    if !parity.is_empty() {
        text += &format!("parity = {parity:?}\n");
        disks.extend(parity.iter().map(|name| (*name, 30)));
    }
    if chance.once_in(2) {
        let caches = &["flint", "jasper"][..chance.below(2) + 1];
        text += &format!("cache = {caches:?}\ncache_copies = {}\nreserve = \"1 MB\"\n", caches.len());
        disks.extend(caches.iter().map(|name| (*name, 20)));
        text += "[[volume.folder]]\npath = \"notes\"\nlanding = \"stay\"\n";
        text += "[[volume.folder]]\npath = \"takes\"\nlanding = \"disks\"\n";
    }
    (disks, text)
}

/// Every file with where it lies and what it survives, as `fate` tells.
fn files_of(run: &Run) -> Vec<String> {
    let answer = run.json();
    let line = |f: &serde_json::Value| {
        format!("{} {} {} {} {}", f["path"], f["fate"], f["guard"], f["size_bytes"], f["disks"])
    };
    let mut files: Vec<String> = answer["files"].as_array().unwrap().iter().map(line).collect();
    files.sort();
    files
}

/// One random pool, built and on paper, with the same files. PAPER_SEEDS=FROM..TO runs others.
fn compare_on_paper_and_for_real(seed: u64) {
    let mut chance = Chance::new(seed);
    let (disks, volume) = random_volume(&mut chance);
    let (real, paper) = (Lab::of(PROGRAM, &disks, &volume), Lab::of(PROGRAM, &disks, &volume));
    let text = paper.pool_text();
    let kept = text.lines().filter(|l| !l.starts_with("path = \"/") && !l.starts_with("simulated"));
    paper.write_pool_file(&kept.map(|l| format!("{l}\n")).collect::<String>());
    let mut listing = String::from("path,size_bytes,modified\n");
    for number in 0..chance.below(25) + 3 {
        let folder = ["notes", "takes"][chance.below(2)];
        let size = chance.below(1_200_000);
        let name = format!("{folder}/take{number:02}");
        fs::create_dir_all(real.root().join("card").join(folder)).unwrap();
        fs::write(real.root().join("card").join(&name), chance.bytes(size)).unwrap();
        listing += &format!("{name},{size},2031-05-04\n");
    }
    let mut lines: Vec<&str> = listing.lines().collect();
    lines[1..].sort_unstable();
    fs::write(paper.root().join("listing.csv"), lines.join("\n")).unwrap();
    real.run(&["create", "--yes"]).expect(&[0]);
    let folders = ["notes", "takes"].map(|folder| format!("card/{folder}"));
    let folders = folders.iter().filter(|folder| real.root().join(folder).exists());
    let put = [vec!["put"], folders.map(String::as_str).collect(), vec![".", "--yes"]].concat();
    if real.run(&put).expect(&[0, 4]).code == 4 {
        let refused = paper.run(&["status", "--files", "listing.csv"]).expect(&[2]);
        assert!(refused.stderr.contains("fits on no disk"), "seed {seed}: {}", refused.stderr);
        return;
    }
    real.run(&["sync", "--yes"]).expect(&[0]);
    let names: Vec<&str> = disks.iter().map(|(name, _)| *name).collect();
    let pairs = names.iter().flat_map(|one| names.iter().map(move |other| format!("{one},{other}")));
    let on_paper = ["--files", "listing.csv"];
    for lost in pairs {
        let lost = lost.split(',').collect::<std::collections::BTreeSet<_>>();
        let lost = lost.into_iter().collect::<Vec<_>>().join(",");
        let asked = ["fate", "--lose", &lost, "--json"];
        let promised = paper.run(&[&asked[..], &on_paper[..]].concat()).expect(&[0, 1]);
        let found = real.run(&asked).expect(&[0, 1]);
        assert_eq!(files_of(&promised), files_of(&found), "seed {seed}: {lost} of\n{volume}{listing}");
    }
    for asked in [&["status", "--json"][..], &["fate", "--any", "2", "--json"]] {
        let promised = paper.run(&[asked, &on_paper[..]].concat()).expect(&[0, 1, 5]).json();
        let found = real.run(asked).expect(&[0, 1, 5]).json();
        for key in ["guard", "unguarded", "stakes", "verdict", "worst", "singles", "pairs"] {
            assert_eq!(promised[key], found[key], "seed {seed}: {key} of {asked:?} of\n{volume}{listing}");
        }
    }
}

#[test]
fn a_pool_of_any_kind_on_paper_answers_as_the_real_one() {
    let wanted = std::env::var("PAPER_SEEDS").unwrap_or_default();
    let (from, to) =
        wanted.split_once("..").map_or((365, 377), |(a, b)| (a.parse().unwrap(), b.parse().unwrap()));
    (from..to).for_each(compare_on_paper_and_for_real);
}
