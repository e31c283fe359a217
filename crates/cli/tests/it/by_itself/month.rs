//! A month in which nobody types anything but what an accident asks for: jobs at their times, nights with the machine off, a disk
//! that dies, a cache that fills, kills at any moment. No file is lost, each notice is told once, the journal is whole.

#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::time::Duration;

use sieve_testkit::Chance;
use sieve_testkit::Lab;

use super::{DAY, FRIDAY, HOUR, command_at, run_at};

const AGENDA: &str = r#"
data = ["alder", "beech", "cedar"]
parity = ["oak"]
cache = ["flint"]
unguarded_at_most = "3 days"

[agenda]
awake = ["06:00-24:00"]
quiet_hours = ["23:00-07:00"]

[[agenda.job]]
do = "settle"
when = "every 12 hours"
[[agenda.job]]
do = "sync"
when = "daily 21:00"
[[agenda.job]]
do = "verify"
share = "25 %"
when = "Sun 09:00"
[[agenda.job]]
do = "self-test"
test = "short"
when = "Sat 10:00"
[[agenda.job]]
do = "report"
file = "REPORT"
when = "Mon 08:00"

[[notices.channel]]
kind = "command"
command = ["/bin/sh", "-c", "cat >> TOLD"]
"#;

struct Month {
    lab: Lab,
    chance: Chance,
    /// What was put in, by its path in the volume.
    files: BTreeMap<String, Vec<u8>>,
}

impl Month {
    fn begin(seed: u64) -> Self {
        let disks = [("alder", 60), ("beech", 60), ("cedar", 60), ("oak", 60), ("flint", 8)];
        let lab = Lab::of(env!("CARGO_BIN_EXE_zinc-sieve"), &disks, AGENDA);
        let root = lab.root().display().to_string();
        lab.write_pool_file(
            &lab.pool_text()
                .replace("TOLD", &format!("{root}/told"))
                .replace("REPORT", &format!("{root}/report.html")),
        );
        run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
        Self { lab, chance: Chance::new(seed), files: BTreeMap::new() }
    }

    /// Somebody brings a file, as people do; where the cache is full it goes past it.
    fn bring(&mut self, at: i64, size: usize) {
        let name = format!("{at}.wav");
        let bytes = self.chance.bytes(size);
        fs::write(self.lab.root().join(&name), &bytes).unwrap();
        let put = run_at(&self.lab, at, &["put", &name, "dawn-chorus", "--yes"]);
        // With a disk away, or everything full, it says so and the file stays where it is.
        if put.code == 0 {
            self.files.insert(format!("dawn-chorus/{name}"), bytes);
        }
        fs::remove_file(self.lab.root().join(&name)).unwrap();
    }

    /// A timer calls, or somebody runs it for a while; perhaps the power goes in the middle.
    fn call(&mut self, at: i64) {
        if self.chance.below(6) == 0 {
            return self.run_for_a_while(at);
        }
        let mut command = command_at(&self.lab, at, &["agenda", "--due"]);
        if self.chance.below(5) > 0 {
            let output = command.output().unwrap();
            assert!(
                matches!(output.status.code(), Some(0 | 1)),
                "{}",
                String::from_utf8_lossy(&output.stderr)
            );
            return;
        }
        let mut child =
            command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(self.chance.below(60) as u64));
        // One that has ended by now was not killed.
        let _ = child.kill();
        child.wait().unwrap();
    }

    /// It stays, does what is due, and ends well when it is asked to.
    fn run_for_a_while(&mut self, at: i64) {
        let mut command = command_at(&self.lab, at, &["agenda", "--run"]);
        let (out, said) = (std::process::Stdio::null(), std::process::Stdio::piped());
        let mut child = command.stdout(out).stderr(said).spawn().unwrap();
        let pid = rustix::process::Pid::from_child(&child);
        // It has done what was due when it needs the processor no more.
        let needed = || {
            let stat = fs::read_to_string(format!("/proc/{}/stat", pid.as_raw_nonzero())).unwrap();
            let behind_name = stat.rsplit_once(')').unwrap().1.to_string();
            let field = |n: usize| behind_name.split_whitespace().nth(n).unwrap().parse::<u64>().unwrap();
            // User, system, and those of children that have ended: fields 14 to 17 of proc(5).
            (11..15).map(field).sum::<u64>()
        };
        let (mut before, mut still) = (u64::MAX, 0);
        while still < 8 {
            std::thread::sleep(Duration::from_millis(100));
            let now = needed();
            still = if now == before { still + 1 } else { 0 };
            before = now;
        }
        assert!(child.try_wait().unwrap().is_none(), "it stays");
        rustix::process::kill_process(pid, rustix::process::Signal::TERM).unwrap();
        let output = child.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stderr));
    }

    fn told(&self) -> Vec<serde_json::Value> {
        let text = fs::read_to_string(self.lab.root().join("told")).unwrap_or_default();
        text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
    }

    fn expect_all_files(&self, at: i64) {
        let to = self.lab.root().join("out");
        fs::create_dir(&to).unwrap();
        run_at(&self.lab, at, &["get", "dawn-chorus", "out"]).expect(&[0]);
        for (path, bytes) in &self.files {
            let name = path.rsplit('/').next().unwrap();
            let got = fs::read(to.join("dawn-chorus").join(name)).unwrap_or_else(|e| panic!("{path}: {e}"));
            assert!(got == *bytes, "{path} is another content");
        }
    }
}

#[test]
fn nothing_is_lost_in_a_month_that_runs_by_itself() {
    let mut month = Month::begin(11);
    for day in 0..30 {
        let midnight = FRIDAY + day * DAY;
        if day == 12 {
            fs::rename(month.lab.disk("cedar"), month.lab.root().join("dead")).unwrap();
        }
        if day == 14 {
            fs::create_dir(month.lab.root().join("new")).unwrap();
            let onto = month.lab.root().join("new").display().to_string();
            run_at(&month.lab, midnight + 8 * HOUR, &["rebuild", "cedar", "--onto", &onto, "--yes"])
                .expect(&[0, 1]);
        }
        // On day 17 more comes in an hour than the cache takes.
        let files = if day == 17 { 12 } else { 2 };
        (0..files).for_each(|n| month.bring(midnight + 9 * HOUR + n * 60, 700_000));
        // On some nights the machine is off.
        let hours: &[i64] = if day % 5 == 3 { &[7, 12] } else { &[7, 9, 12, 19, 21, 22] };
        hours.iter().for_each(|hour| month.call(midnight + hour * HOUR + 300));
    }
    let end = FRIDAY + 30 * DAY;
    run_at(&month.lab, end + 12 * HOUR, &["agenda", "--due"]).expect(&[0, 1]);
    run_at(&month.lab, end + 21 * HOUR + 300, &["agenda", "--due"]).expect(&[0, 1]);
    month.expect_all_files(end + DAY);
    let of_cedar: Vec<String> = month
        .told()
        .iter()
        .filter(|event| event["code"] == "disk-missing:cedar" && event["moment"] != "goes-on")
        .map(|event| event["moment"].as_str().unwrap().to_string())
        .collect();
    assert_eq!(of_cedar, ["begins", "ends"], "each is told once");
    for kind in ["settle", "sync", "verify", "self-test", "report"] {
        let lines =
            run_at(&month.lab, end + DAY, &["journal", "--kind", kind, "--since", "40 days", "--json"]);
        let done = lines.list().as_array().unwrap().iter().filter(|line| line["ended"] == "done").count();
        assert!(done >= 3, "{kind} was done {done} times");
    }
    let status = run_at(&month.lab, end + DAY, &["status", "--json"]).json();
    assert_eq!(status["stakes"]["lost"]["files"], 0, "{status}");
    assert!(month.lab.root().join("report.html").exists());
}
