//! The page about a pool: whole, by itself, and never scripted by a name on a disk.

#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::Path;
use std::process::Command;

use super::{FRIDAY, bring, lab, run_at};

const NAMES: [&str; 6] = [
    "<script>alert(1)<script>.wav",
    "\"><img src=x onerror=alert(1)>.wav",
    "a\u{202e}gnp.wav",
    "tab\tand\u{7}bell.wav",
    "{{ pool }}.wav",
    "x.<b>y",
];

fn hostile() -> sieve_testkit::Lab {
    let lab = lab("[[agenda.job]]\ndo = \"sync\"\nwhen = \"daily 03:00\"\n");
    for (n, name) in NAMES.iter().enumerate() {
        bring(&lab, "alder", name, &[n as u8 + 1; 9000]);
        fs::create_dir_all(lab.disk("beech").join(format!("folder {name}"))).unwrap();
        bring(&lab, "beech", &format!("folder {name}/{n}.wav"), &[n as u8 + 20; 3000]);
    }
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    run_at(&lab, FRIDAY, &["sync", "--yes"]).expect(&[0]);
    for name in NAMES {
        run_at(&lab, FRIDAY, &["rm", name, "--yes"]).expect(&[0]);
    }
    lab
}

#[test]
fn names_of_files_script_nothing() {
    let lab = hostile();
    run_at(&lab, FRIDAY, &["report", "page.html"]).expect(&[0]);
    let page = fs::read_to_string(lab.root().join("page.html")).unwrap();
    for forbidden in ["<script", "<img", "\u{202e}", "\u{7}", "<b>y"] {
        assert!(!page.contains(forbidden), "{forbidden:?}");
    }
    assert!(page.contains("&lt;script&gt;"), "names are shown all the same");
    assert!(!page.contains("http://") || !page.contains("src=\"http"), "nothing is fetched");
    assert!(page.contains(".chart [fill=\"#FFFFFF\"] { fill: #20232A; }"), "charts are dark on a dark page");
}

#[test]
fn only_a_report_is_written_over() {
    let lab = hostile();
    run_at(&lab, FRIDAY, &["report", "page.html"]).expect(&[0]);
    run_at(&lab, FRIDAY, &["report", "page.html"]).expect(&[0]);
    fs::write(lab.root().join("diary.html"), "dear diary").unwrap();
    let refused = run_at(&lab, FRIDAY, &["report", "diary.html"]).expect(&[4]).stderr;
    assert!(refused.contains("is no report"), "{refused}");
    assert_eq!(fs::read_to_string(lab.root().join("diary.html")).unwrap(), "dear diary");
    std::os::unix::fs::symlink("page.html", lab.root().join("link.html")).unwrap();
    run_at(&lab, FRIDAY, &["report", "link.html"]).expect(&[4]);
}

/// By the grammar of OpenMetrics 1.0: metadata before samples, families together, labels escaped, an end.
#[test]
fn gauges_follow_the_grammar() {
    let lab = hostile();
    run_at(&lab, FRIDAY, &["report", "--openmetrics", "gauges.txt"]).expect(&[0]);
    let text = fs::read_to_string(lab.root().join("gauges.txt")).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines.last(), Some(&"# EOF"));
    assert!(text.ends_with('\n'));
    let (mut family, mut seen) = (String::new(), Vec::new());
    for line in &lines[..lines.len() - 1] {
        assert!(!line.is_empty());
        if let Some(rest) = line.strip_prefix("# ") {
            let mut words = rest.splitn(3, ' ');
            let (keyword, name, value) =
                (words.next().unwrap(), words.next().unwrap(), words.next().unwrap());
            match keyword {
                "TYPE" => {
                    assert_eq!(value, "gauge");
                    assert!(!seen.contains(&name.to_string()), "{name} comes twice");
                    seen.push(name.to_string());
                    family = name.to_string();
                }
                "UNIT" => assert!(name == family && name.ends_with(&format!("_{value}")), "{line}"),
                "HELP" => assert_eq!(name, family),
                other => panic!("{other}"),
            }
            continue;
        }
        let (name, rest) = line.split_once('{').expect("each sample has labels");
        assert_eq!(name, family);
        let (labels, value) = rest.rsplit_once("} ").unwrap();
        value.parse::<f64>().unwrap();
        for label in labels.split("\",") {
            let (name, value) = label.split_once("=\"").unwrap();
            assert!(name.bytes().all(|b| b.is_ascii_lowercase() || b == b'_'), "{name}");
            assert!(!value.trim_end_matches('"').contains('"'), "{value}");
        }
    }
    assert!(seen.iter().any(|name| name == "zinc_sieve_files"));
}

fn browser() -> Option<&'static str> {
    ["chromium", "chromium-browser"].into_iter().find(|program| {
        Command::new(program).arg("--version").output().is_ok_and(|output| output.status.success())
    })
}

/// What a page around the report measures of it at this width: its width, its contrast, its headings.
fn measured(program: &str, folder: &Path, width: u32) -> String {
    let page = fs::read_to_string(folder.join("page.html")).unwrap();
    // In a frame of its own: a window is not made as narrow as a telephone.
    let quoted = page.replace('&', "&amp;").replace('"', "&quot;");
    let around = format!(
        r#"<!doctype html><title>x</title><iframe id=f style="width:{width}px;height:844px;border:0" srcdoc="{quoted}"></iframe><pre id=o></pre>
<script>
const errors = [];
window.addEventListener('error', e => errors.push(e.message));
document.getElementById('f').onload = e => {{
  const d = e.target.contentDocument, root = d.documentElement;
  const lum = c => {{ const v = c.match(/[\d.]+/g).slice(0, 3).map(x => x / 255).map(x => x <= .03928 ? x / 12.92 : ((x + .055) / 1.055) ** 2.4); return .2126 * v[0] + .7152 * v[1] + .0722 * v[2]; }};
  const back = el => {{ for (; el; el = el.parentElement) {{ const c = getComputedStyle(el).backgroundColor; if (!/, 0\)$/.test(c) && c !== 'transparent') return c; }} return 'rgb(255,255,255)'; }};
  let worst = 21;
  for (const el of d.querySelectorAll('h1,h2,p,td,th,code,strong,span.soft')) {{
    if (!el.textContent.trim()) continue;
    const a = lum(getComputedStyle(el).color), b = lum(back(el));
    worst = Math.min(worst, (Math.max(a, b) + .05) / (Math.min(a, b) + .05));
  }}
  const heads = [...d.querySelectorAll('h1,h2,h3')].map(h => h.tagName).join('');
  document.getElementById('o').textContent = JSON.stringify({{ over: root.scrollWidth - root.clientWidth, worst, heads, errors, scripts: d.scripts.length }});
}};
</script>"#
    );
    let path = folder.join(format!("around-{width}.html"));
    fs::write(&path, around).unwrap();
    let profile = folder.join("profile");
    let output = Command::new(program)
        .args(["--headless=new", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=4000", "--dump-dom"])
        .arg(format!("--user-data-dir={}", profile.display()))
        .arg(format!("file://{}", path.display()))
        .env("HOME", folder)
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let begin = text.find("<pre id=\"o\">").map(|at| at + 12).unwrap_or_else(|| panic!("{text}"));
    text[begin..].split("</pre>").next().unwrap().to_string()
}

#[test]
fn a_real_browser_shows_the_page_on_a_screen_and_on_a_telephone() {
    let Some(program) = browser() else {
        eprintln!("there is no browser here: the page was not shown in one");
        return;
    };
    let lab = hostile();
    run_at(&lab, FRIDAY, &["report", "page.html"]).expect(&[0]);
    for width in [1280, 390] {
        let measured = measured(program, lab.root(), width);
        let found: serde_json::Value =
            serde_json::from_str(&measured).unwrap_or_else(|e| panic!("{e}: {measured}"));
        assert_eq!(found["over"], 0, "it is wider than {width} pixels: {measured}");
        assert!(found["worst"].as_f64().unwrap() >= 4.5, "contrast: {measured}");
        assert!(found["heads"].as_str().unwrap().starts_with("H1H2H2"), "{measured}");
        assert_eq!(
            (&found["scripts"], found["errors"].as_array().map(Vec::len)),
            (&0.into(), Some(0)),
            "{measured}"
        );
    }
}

/// What waited unguarded, day by day, is seen afterwards: whoever looks leaves a sample.
#[test]
fn a_curve_tells_what_was_unguarded_and_none_where_nothing_was() {
    use super::DAY;
    let lab = lab("");
    bring(&lab, "alder", "first.wav", &[1; 5000]);
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    run_at(&lab, FRIDAY, &["sync", "--yes"]).expect(&[0]);
    let page = |at: i64| {
        run_at(&lab, at, &["report", "page.html"]).expect(&[0]);
        fs::read_to_string(lab.root().join("page.html")).unwrap()
    };
    for day in 1..3 {
        run_at(&lab, FRIDAY + day * DAY, &["status"]).expect(&[0]);
    }
    let calm = page(FRIDAY + 3 * DAY);
    assert!(calm.contains("How full") && !calm.contains("\nUnguarded\n"), "nothing ever was: no curve");
    bring(&lab, "beech", "late.wav", &vec![2; 3_000_000]);
    run_at(&lab, FRIDAY + 4 * DAY, &["status"]).expect(&[5]);
    run_at(&lab, FRIDAY + 5 * DAY, &["sync", "--yes"]).expect(&[0]);
    run_at(&lab, FRIDAY + 6 * DAY, &["status"]).expect(&[0]);
    let after = page(FRIDAY + 7 * DAY);
    assert!(after.contains("\nUnguarded\n") && after.contains("3.0 MB"), "it was, and is not any more");
}
