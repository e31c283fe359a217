//! Guards against a layout that is recommended on figures that are not so, or a pool file that cannot be used.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn answer(lab: &Lab, arguments: &[&str]) -> Value {
    let run = lab.run(&[arguments, &["--json"]].concat()).expect(&[0]);
    serde_json::from_str(&run.stdout).unwrap_or_else(|e| panic!("{e}: {}", run.stdout))
}

#[test]
fn the_recommended_plan_becomes_a_pool_file_that_check_accepts() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let design =
        ["design", "--hdd", "12TB,10TB,2x6TB,4TB", "--survive", "2", "--want", "space", "--save", "new.toml"];
    let told = answer(&lab, &design);
    let chosen = &told["plans"][told["recommendation"]["position"].as_u64().unwrap() as usize];
    assert_eq!(
        (chosen["survives"].as_u64(), chosen["usable_bytes"].as_u64()),
        (Some(2), Some(16_000_000_000_000))
    );
    lab.run(&["check", "--pool", "new.toml"]).expect(&[0]);
    let text = fs::read_to_string(lab.root().join("new.toml")).unwrap();
    assert!(text.contains("parity = [\"hdd-1\", \"hdd-2\"]"), "{text}");
    let again = lab.run(&design).expect(&[4]);
    assert!(again.stderr.contains("new.toml"), "nobody's file is overwritten: {}", again.stderr);
}

#[test]
fn without_a_list_the_disks_of_the_pool_file_are_compared() {
    let lab = Lab::new(PROGRAM, 3, 1, "40 MB");
    let told = answer(&lab, &["design"]);
    let names: Vec<_> =
        told["disks"].as_array().unwrap().iter().map(|d| d["disk"].as_str().unwrap()).collect();
    assert_eq!(names, ["alder", "beech", "cedar", "oak"]);
}

/// A pool file may say anything of its disks.
#[test]
fn disks_of_a_few_bytes_are_compared_like_others() {
    let lab = Lab::of(PROGRAM, &[], "data = [\"alder\", \"beech\"]");
    let disk = |name: &str, size: &str| format!("[[disk]]\nname = \"{name}\"\ncapacity = \"{size}\"\n");
    let text = lab.pool_text().replacen(
        "\n[[volume]]",
        &format!("\n{}{}\n[[volume]]", disk("alder", "10 B"), disk("beech", "1 B")),
        1,
    );
    lab.write_pool_file(&text);
    let told = answer(&lab, &["design"]);
    assert_eq!(told["plans"][0]["volumes"][0]["usable_bytes"], 1, "{told}");
}

#[test]
fn a_table_of_disks_with_prices_tells_the_price_of_a_terabyte() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    fs::write(lab.root().join("shop.csv"), "name,size,price\nalder,4TB,100 EUR\nbeech,4TB,80 EUR\n").unwrap();
    let told = answer(&lab, &["design", "--table", "shop.csv", "--want", "cheap"]);
    let plan = told["plans"].as_array().unwrap().iter().find(|p| p["name"] == "unstriped, 1 parity").unwrap();
    assert_eq!(plan["price_per_tb"], serde_json::json!({ "hundredths": 4500, "currency": "EUR" }));
    // Half the space is given up: 4 TB at 22.50 EUR over five years, for what 4 TB lose less.
    let lost = |name: &str| {
        let plan = told["plans"].as_array().unwrap().iter().find(|p| p["name"] == name).unwrap();
        plan["risk"]["bytes_a_year"].as_f64().unwrap() / plan["usable_bytes"].as_f64().unwrap()
    };
    let saved = (lost("spanned") - lost("unstriped, 1 parity")) * 4.0;
    let price = plan["price_per_saved_tb"]["hundredths"].as_f64().unwrap() / 100.0;
    assert!((price - 4.0 * 22.5 / 5.0 / saved).abs() < 0.01, "{price}");
    let printed = lab.run(&["design", "--table", "shop.csv"]).expect(&[0]).stdout;
    assert!(printed.contains("A saved TB: what each terabyte costs"), "{printed}");
}

/// Whatever kind is recommended is written as what it is, and can be checked and asked about on paper.
#[rstest]
#[case(&["--hdd", "12TB,10TB,2x6TB,4TB", "--ssd", "2x1TB"], &["kind = \"tiered\"", "parity = [\"hdd-1\"]", "fast = [\"ssd-1\", \"ssd-2\"]"])]
#[case(&["--hdd", "12TB,10TB", "--ssd", "2x1TB", "--plan", "unstriped, 1 parity + cache on 2"], &["kind = \"unstriped\"", "cache = [\"ssd-1\", \"ssd-2\"]", "cache_copies = 2"])]
#[case(&["--hdd", "4TB,4TB", "--ssd", "2x5TB"], &["name = \"main\"\nkind = \"mirrored\"\ndata = [\"ssd-1\", \"ssd-2\"]", "name = \"second\"\nkind = \"unstriped\""])]
#[case(&["--hdd", "12TB,10TB,2x6TB,4TB", "--plan", "3 unstriped, 1 parity; 2 mirrored"], &["name = \"mirror\"\nkind = \"mirrored\"\ndata = [\"hdd-4\", \"hdd-5\"]", "parity = [\"hdd-1\"]"])]
#[case(&["--hdd", "3x4TB", "--plan", "mirrored"], &["kind = \"mirrored\"\ndata = [\"hdd-1\", \"hdd-2\", \"hdd-3\"]"])]
#[case(&["--hdd", "4TB,4TB", "--ssd", "1TB", "--survive", "0"], &["kind = \"tiered\"", "fast = [\"ssd-1\"]"])]
#[case(&["--hdd", "4TB,6TB", "--survive", "0"], &["kind = \"spanned\""])]
fn any_kind_that_is_recommended_becomes_a_pool_file(#[case] asked: &[&str], #[case] lines: &[&str]) {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    lab.run(&[&["design", "--save", "new.toml"], asked].concat()).expect(&[0]);
    let text = fs::read_to_string(lab.root().join("new.toml")).unwrap();
    assert!(lines.iter().all(|line| text.contains(line)), "{text}");
    lab.run(&["check", "--pool", "new.toml"]).expect(&[0]);
    let volume = if text.matches("[[volume]]").count() > 1 { &["--volume", "main"][..] } else { &[] };
    lab.run(&[&["status", "--pool", "new.toml"], volume].concat()).expect(&[0]);
}

#[rstest]
#[case(&["--hdd", "12,4TB"], "has no unit")]
#[case(&["--hdd", "big"], "is not a size")]
#[case(&["--hdd", "99999x1TB"], "at most 256")]
#[case(&["--hdd", "4TB,4TB", "--save", "p.toml", "--plan", "mirored"], "mirrored")]
#[case(&["--hdd", "4TB,4TB", "--network", "fast"], "is not a rate")]
#[case(&["--hdd", "4TB,4TB", "--add", "x"], "is not a size")]
#[case(&["--hdd", "4TB,4TB", "--chart", "c.gif"], ".svg or a .png")]
#[case(&["--table", "missing.csv"], "missing.csv")]
fn wrong_wishes_end_with_words(#[case] arguments: &[&str], #[case] words: &str) {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let run = lab.run(&[&["design"], arguments].concat());
    assert!([2, 3].contains(&run.code) && run.stderr.contains(words), "{}: {}", run.code, run.stderr);
}

#[test]
fn charts_are_drawn_as_svg_and_png() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    for name in ["chart.svg", "chart.png"] {
        lab.run(&["design", "--hdd", "4TB,4TB,2TB", "--chart", name]).expect(&[0]);
        let bytes = fs::read(lab.root().join(name)).unwrap();
        let starts = if name.ends_with("png") { &b"\x89PNG"[..] } else { b"<svg" };
        assert!(bytes.starts_with(starts) && bytes.len() > 2_000, "{name}");
    }
}

#[test]
fn only_what_is_worth_a_look_is_shown_and_all_on_request() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let asked = ["design", "--hdd", "4x4TB"];
    let short = lab.run(&asked).expect(&[0]).stdout;
    assert!(!short.contains("rotating") && short.contains("--all"), "{short}");
    let all = lab.run(&[&asked[..], &["--all"]].concat()).expect(&[0]).stdout;
    assert!(all.contains("rotating") && all.contains("mirrored") && !all.contains("beaten"), "{all}");
    let json = answer(&lab, &asked);
    let plans = json["plans"].as_array().unwrap();
    for position in json["front"].as_array().unwrap() {
        let plan = &plans[position.as_u64().unwrap() as usize];
        assert!(
            plan["is_for_comparison"] == false && plan["risk"]["any_in_a_year"].as_f64().unwrap() > 0.0,
            "{plan}"
        );
    }
    let risk = |parities: u64| {
        let name = format!("unstriped, {parities} parity");
        let plan = plans.iter().find(|plan| plan["name"] == name.as_str()).unwrap();
        plan["risk"]["any_in_a_year"].as_f64().unwrap()
    };
    assert!(risk(1) > 100.0 * risk(2), "people choose by that");
}

#[test]
fn without_a_pool_the_disks_of_the_machine_are_compared() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    lab.run(&["demo", "--dir", "world", "--set-up-only"]).expect(&[0]);
    fs::create_dir(lab.root().join("elsewhere")).unwrap();
    let output = lab
        .command(&["design", "--from", "../world/machine", "--json"])
        .current_dir(lab.root().join("elsewhere"))
        .output()
        .unwrap();
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    let names: Vec<&str> =
        told["disks"].as_array().unwrap().iter().map(|d| d["disk"].as_str().unwrap()).collect();
    assert!(names.contains(&"sda") && names.contains(&"sdg"), "{names:?}");
    assert!(!names.contains(&"nvme0n1"), "the disk with the system is not given away: {names:?}");
    assert!(told["recommendation"]["position"].is_u64(), "{told}");
}
