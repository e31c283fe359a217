//! Guards against tests of disks that are started and not followed, taken for passed, or left running: a stand-in for
//! `smartctl` and `lsblk` answers as disks of three kinds do, and writes down what it was asked.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rstest::rstest;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::{Value, json};
use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// As long as `running` is asked for it is said that the test runs, then what came of it.
const SMARTCTL: &str = r#"#!/bin/sh
here=$(dirname "$0")
echo "$*" >> "$here/asked"
case "$*" in
*--test=*) echo 2 > "$here/left"; cat "$here/begins" ;;
*--abort*) echo '{}' ;;
*--log=selftest*)
    left=$(cat "$here/left")
    if [ "$left" -gt 0 ]; then echo $((left - 1)) > "$here/left"; cat "$here/running"; else cat "$here/ended"; fi ;;
*) echo '{"device": {"name": "/dev/sdx"}, "smart_status": {"passed": true}}' ;;
esac
"#;

struct Machine {
    lab: Lab,
}

/// A real block device over a file, until it is dropped.
struct Device {
    name: String,
}

impl Device {
    /// None where nobody may make one.
    fn over(file: &Path) -> Option<Self> {
        let made = Command::new("losetup").args(["--find", "--show"]).arg(file).output().ok()?;
        let path = String::from_utf8(made.stdout).ok()?;
        let name = path.trim().strip_prefix("/dev/")?.to_string();
        made.status.success().then_some(Self { name })
    }
}

impl Drop for Device {
    fn drop(&mut self) {
        let _ = Command::new("losetup").args(["--detach", &format!("/dev/{}", self.name)]).output();
    }
}

impl Machine {
    /// A pool whose first disk is the machine's sdx, which answers so.
    fn with(begins: &Value, running: &Value, ended: &Value) -> Self {
        Self::with_device("sdx", begins, running, ended)
    }

    fn with_device(device: &str, begins: &Value, running: &Value, ended: &Value) -> Self {
        let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
        // What an agenda wants has been due since then.
        let yesterday = (jiff::Timestamp::now().as_second() - 86_400) * 1_000_000_000;
        let mut create = lab.command(&["create", "--yes"]);
        assert!(create.env("ZINC_SIEVE_NOW", yesterday.to_string()).output().unwrap().status.success());
        let text = lab.pool_text();
        // The others are stand-ins, and have nothing to test.
        lab.write_pool_file(&text.replacen(
            "simulated = true",
            "shares_filesystem = true\nserial = \"KS-0815\"",
            1,
        ));
        let machine = Self { lab };
        let programs = machine.lab.root().join("programs");
        fs::create_dir(&programs).unwrap();
        let disks = json!({ "blockdevices": [{ "name": device, "type": "disk", "serial": "KS-0815", "size": 8_000_000_000_000_u64,
            "rota": true, "tran": "sata" }] });
        let files = [("begins", begins), ("running", running), ("ended", ended), ("disks", &disks)];
        for (name, value) in files {
            fs::write(programs.join(name), value.to_string()).unwrap();
        }
        let lsblk = "#!/bin/sh\ncat \"$(dirname \"$0\")/disks\"\n";
        for (name, script) in [("smartctl", SMARTCTL), ("lsblk", lsblk)] {
            fs::write(programs.join(name), script).unwrap();
            fs::set_permissions(programs.join(name), fs::Permissions::from_mode(0o755)).unwrap();
        }
        machine
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = self.lab.command(arguments);
        command.env("PATH", format!("{}:/usr/bin:/bin", self.lab.root().join("programs").display()));
        command
    }

    /// What a probe concludes, and its exit code.
    fn probe(&self) -> (Value, Option<i32>) {
        let output = self.command(&["health", "alder", "--probe", "--json"]).output().unwrap();
        let told = serde_json::from_slice(&output.stdout);
        (told.unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&output.stderr))), output.status.code())
    }

    fn asked(&self) -> String {
        fs::read_to_string(self.lab.root().join("programs/asked")).unwrap_or_default()
    }

    fn journal(&self) -> String {
        self.lab.run(&["journal", "--kind", "self-test"]).expect(&[0]).stdout
    }
}

fn taken() -> Value {
    json!({ "smartctl": { "exit_status": 0 } })
}

fn ata(value: u64, left: u64) -> Value {
    json!({ "ata_smart_data": { "self_test": { "status": { "value": value, "remaining_percent": left } } } })
}

fn nvme(operation: u64, result: u64) -> Value {
    json!({ "nvme_self_test_log": { "current_self_test_operation": { "value": operation },
        "current_self_test_completion_percent": 40, "table": [{ "self_test_result": { "value": result } }] } })
}

fn scsi(result: u64) -> Value {
    json!({ "scsi_self_test_0": { "result": { "value": result } } })
}

#[rstest]
#[case::sata_well(ata(0xf9, 50), ata(0, 0), "passed", 0)]
#[case::sata_unwell(ata(0xf9, 50), ata(0x79, 40), "not-passed", 1)]
#[case::sata_broken_off(ata(0xf9, 50), ata(0x19, 40), "stopped", 1)]
#[case::nvme_well(nvme(1, 0), nvme(0, 0), "passed", 0)]
#[case::nvme_unwell(nvme(1, 0), nvme(0, 7), "not-passed", 1)]
#[case::nvme_broken_off(nvme(1, 0), nvme(0, 1), "stopped", 1)]
#[case::sas_well(scsi(15), scsi(0), "passed", 0)]
#[case::sas_unwell(scsi(15), scsi(7), "not-passed", 1)]
fn a_test_is_started_followed_and_told_as_it_ended(
    #[case] running: Value,
    #[case] ended: Value,
    #[case] came: &str,
    #[case] code: i32,
) {
    let machine = Machine::with(&taken(), &running, &ended);
    let output = machine.command(&["health", "alder", "--self-test", "long", "--json"]).output().unwrap();
    let error = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(code), "{error}");
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(told["results"], json!([{ "disk": "alder", "came": came }]));
    let asked = machine.asked();
    assert!(asked.contains("--test=long /dev/sdx") && !asked.contains("--abort"), "{asked}");
    assert_eq!(asked.matches("--log=selftest").count(), 3, "until it ended: {asked}");
    let words = match came {
        "passed" => "long test: passed",
        "stopped" => "long test: stopped",
        _ => "long test: did not pass",
    };
    assert!(machine.journal().contains(words), "{}", machine.journal());
}

#[test]
fn a_disk_that_does_not_begin_says_why() {
    let refused =
        json!({ "smartctl": { "exit_status": 4, "messages": [{ "string": "a test is running" }] } });
    let machine = Machine::with(&refused, &ata(0, 0), &ata(0, 0));
    let output = machine.command(&["health", "alder", "--self-test", "short"]).output().unwrap();
    let error = String::from_utf8_lossy(&output.stderr);
    assert!(
        error.contains("sdx does not test itself: a test is running") && error.contains("next: "),
        "{error}"
    );
    assert_eq!(output.status.code(), Some(3), "{error}");
}

#[test]
fn who_is_asked_to_stop_ends_the_test_of_the_disk_too() {
    let running = ata(0xf9, 50);
    let machine = Machine::with(&taken(), &running, &running);
    let mut command = machine.command(&["health", "--self-test", "short", "--json"]);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let begun = Instant::now();
    while !machine.asked().contains("--log=selftest") {
        assert!(begun.elapsed() < Duration::from_secs(60), "it never looked how far the test is");
        std::thread::sleep(Duration::from_millis(50));
    }
    kill_process(Pid::from_child(&child), Signal::TERM).unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    // The disks after it are not begun.
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(told["results"], json!([{ "disk": "alder", "came": "stopped" }]));
    assert!(machine.asked().contains("--abort /dev/sdx"), "{}", machine.asked());
}

/// The usable hours of the machine end: the agenda does not let a disk test itself into the night.
#[test]
fn the_end_of_the_usable_hours_ends_a_test() {
    let running = ata(0xf9, 50);
    let machine = Machine::with(&taken(), &running, &running);
    let agenda = "[agenda]\nawake = [\"08:00-12:00\"]\n\n[[agenda.job]]\ndo = \"self-test\"\ntest = \"short\"\n\
        disks = [\"alder\"]\nwhen = \"daily 11:58\"\n";
    machine.lab.write_pool_file(&format!("{}\n{agenda}", machine.lab.pool_text()));
    let mut command = machine.command(&["agenda", "--due", "--json"]);
    command.env("TZ", where_it_is_shortly_before_noon());
    let output = command.output().unwrap();
    let told = String::from_utf8_lossy(&output.stdout);
    assert!(told.contains("stopped"), "{told} {}", String::from_utf8_lossy(&output.stderr));
    assert!(machine.asked().contains("--abort /dev/sdx"), "{}", machine.asked());
}

/// A device whose second half is gone, as the kernel meets it: it says that all is well, and every read there fails.
#[test]
fn a_probe_of_a_real_device_finds_what_it_does_not_say_of_itself() {
    let folder = sieve_testkit::scratch();
    let file = folder.path().join("medium");
    let medium = fs::File::create(&file).unwrap();
    medium.set_len(64_000_000).unwrap();
    let Some(device) = Device::over(&file) else {
        eprintln!("skipped: no block device can be made here");
        return;
    };
    let machine = Machine::with_device(&device.name, &taken(), &ata(0, 0), &ata(0, 0));
    let (told, code) = machine.probe();
    assert_eq!((told["cause"].as_str(), code), (Some("false-alarm"), Some(0)), "{told}");
    assert!(told["read"]["taken"].as_u64().unwrap() > 10, "{told}");
    medium.set_len(32_000_000).unwrap();
    let (told, code) = machine.probe();
    assert_eq!((told["cause"].as_str(), code), (Some("dying"), Some(1)), "{told}");
    assert!(told["next"].to_string().contains("zinc-sieve replace alder --onto DIR"), "{told}");
    let bad = told["read"]["unreadable"].as_array().unwrap();
    let taken = told["read"]["taken"].as_u64().unwrap() as usize;
    assert!(bad.len() * 3 > taken && bad.len() < taken, "about half of {taken}: {told}");
}

/// A time zone, as POSIX has it, in which it is seven seconds before noon.
fn where_it_is_shortly_before_noon() -> String {
    const NOON: i64 = 12 * 3600;
    let west = (jiff::Timestamp::now().as_second() - (NOON - 7)).rem_euclid(86_400);
    format!("<here>{}:{:02}:{:02}", west / 3600, west / 60 % 60, west % 60)
}
