//! What is said of a disk in any state, against rules written down plainly: a state is drawn, a document is made of it as
//! the disk would report it, and the verdict on the document is held against what the state deserves.

use proptest::prelude::*;
use serde_json::{Value, json};
use sieve_core::health::{About, FOLLOWED_DAYS, Look, Verdict, judge, raised_over_a_year};
use sieve_core::inventory::parse_smart;
use sieve_core::pool::Thresholds;

#[derive(Clone, Copy, Debug, PartialEq)]
enum Kind {
    Sata,
    Ssd,
    Sas,
    Nvme,
}

/// A count, and what it was at the look before.
#[derive(Clone, Copy, Debug, Default)]
struct Count {
    now: u64,
    before: Option<u64>,
}

impl Count {
    fn grew(self) -> bool {
        self.before.is_some_and(|before| self.now > before)
    }

    fn stood(self) -> bool {
        self.before == Some(self.now)
    }
}

/// How a self-test ended.
#[derive(Clone, Copy, Debug, PartialEq)]
enum End {
    Passed,
    BrokenOff,
    Failed,
}

#[derive(Clone, Copy, Debug)]
struct Test {
    is_long: bool,
    end: End,
    /// Hours of power ago.
    ago: u64,
}

/// How an attribute stands to the limit of its maker.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Limit {
    Above,
    Once,
    Now,
}

#[derive(Clone, Debug)]
struct State {
    kind: Kind,
    is_failing: bool,
    hours: u64,
    celsius: i64,
    reallocated: Count,
    pending: Count,
    unreadable: Count,
    reported: Count,
    timeouts: Count,
    spin_retries: Count,
    broken_transfers: Count,
    failed_writes: u64,
    /// Per cent of the promised writes.
    used: u64,
    spare: u64,
    /// Bits of the critical warning.
    warnings: u64,
    /// An attribute: whether it foretells a failure, and how it stands.
    limit: (bool, Limit),
    /// The newest first.
    tests: Vec<Test>,
    /// Days since the look before.
    days: Option<u64>,
}

const OWN_LIMIT: i64 = 65;
const LEAST_SPARE: u64 = 10;

/// Mostly nothing, now and then a few, seldom many; and often what it was before.
fn count() -> impl Strategy<Value = Count> {
    let now = prop_oneof![6 => Just(0u64), 2 => 1..20u64, 1 => 90..110u64, 1 => 1..60_000u64];
    (now, 0..4u8, 0..60_000u64).prop_map(|(now, before, drawn)| {
        let before = match before {
            0 => None,
            1 => Some(drawn % (now + 1)),
            _ => Some(now),
        };
        Count { now, before }
    })
}

fn tests() -> impl Strategy<Value = Vec<Test>> {
    let end = prop_oneof![6 => Just(End::Passed), 1 => Just(End::BrokenOff), 1 => Just(End::Failed)];
    let one = (any::<bool>(), end, 1..900u64);
    prop::collection::vec(one, 0..6).prop_map(|drawn| {
        let mut ago = 0;
        let test = |(is_long, end, since)| {
            ago += since;
            Test { is_long, end, ago }
        };
        drawn.into_iter().map(test).collect()
    })
}

fn state() -> impl Strategy<Value = State> {
    let kind = prop::sample::select(vec![Kind::Sata, Kind::Ssd, Kind::Sas, Kind::Nvme]);
    let hours = prop_oneof![3 => 6_000..50_000u64, 1 => 51_900..52_100u64, 1 => 52_000..200_000u64];
    let celsius = prop_oneof![4 => 20..49i64, 1 => 49..53i64, 1 => 60..70i64];
    let used = prop_oneof![3 => 0..70u64, 1 => 78..82u64, 1 => 98..103u64];
    let spare = prop_oneof![4 => 20..=100u64, 1 => 8..13u64];
    let limit = prop_oneof![8 => Just(Limit::Above), 1 => Just(Limit::Once), 1 => Just(Limit::Now)];
    let warnings = prop_oneof![6 => Just(0u64), 1 => 0..64u64];
    let days = prop::option::of(prop_oneof![1..50u64, 58..63u64, 100..900u64]);
    let counts = (count(), count(), count(), count(), count(), count(), count());
    let failed_writes = prop_oneof![8 => Just(0u64), 1 => 1..9u64];
    let look = (kind, prop::bool::weighted(0.05), hours, celsius);
    let wear = (failed_writes, used, spare, warnings, (any::<bool>(), limit));
    (look, counts, wear, tests(), days).prop_map(|(look, counts, wear, tests, days)| {
        let (kind, is_failing, hours, celsius) = look;
        let (failed_writes, used, spare, warnings, limit) = wear;
        let has = |kinds: &[Kind], count: Count| if kinds.contains(&kind) { count } else { Count::default() };
        let on_ata = [Kind::Sata, Kind::Ssd];
        State {
            kind,
            is_failing,
            hours,
            celsius,
            reallocated: has(&[Kind::Sata, Kind::Ssd, Kind::Sas], counts.0),
            pending: has(&[Kind::Sata, Kind::Ssd, Kind::Sas], counts.1),
            unreadable: counts.2,
            reported: has(&on_ata, counts.3),
            // A disk that counts them in sixteen bits.
            timeouts: has(&on_ata, counts.4),
            spin_retries: has(&[Kind::Sata], counts.5),
            broken_transfers: has(&on_ata, counts.6),
            failed_writes: if kind == Kind::Sas { failed_writes } else { 0 },
            used: if kind == Kind::Sata { 0 } else { used },
            spare: if kind == Kind::Nvme { spare } else { 100 },
            warnings: if kind == Kind::Nvme { warnings } else { 0 },
            limit: if on_ata.contains(&kind) { limit } else { (false, Limit::Above) },
            tests: tests.into_iter().filter(|test| test.ago < hours).collect(),
            days,
        }
    })
}

/// As the disk would report it.
fn document(state: &State) -> Value {
    let mut told = match state.kind {
        Kind::Sata | Kind::Ssd => ata(state),
        Kind::Sas => scsi(state),
        Kind::Nvme => nvme(state),
    };
    told["smart_status"] = json!({ "passed": !state.is_failing });
    told["temperature"] = json!({ "current": state.celsius, "drive_trip": OWN_LIMIT });
    if state.kind != Kind::Nvme {
        told["power_on_time"] = json!({ "hours": state.hours });
    }
    told
}

fn ata(state: &State) -> Value {
    let attribute = |id: u64, count: u64| json!({ "id": id, "value": 100, "worst": 100, "thresh": 1, "raw": { "value": count, "string": count.to_string() } });
    let (foretells, limit) = state.limit;
    let (value, worst) = match limit {
        Limit::Above => (90, 80),
        Limit::Once => (90, 50),
        Limit::Now => (40, 40),
    };
    let mut table = vec![
        attribute(5, state.reallocated.now),
        attribute(187, state.reported.now),
        attribute(188, state.timeouts.now),
        attribute(197, state.pending.now),
        attribute(198, state.unreadable.now),
        attribute(199, state.broken_transfers.now),
        json!({ "id": 3, "name": "Spin_Up_Time", "value": value, "worst": worst, "thresh": 50,
            "flags": { "prefailure": foretells }, "raw": { "value": 0, "string": "0" } }),
    ];
    if state.kind == Kind::Sata {
        table.push(attribute(10, state.spin_retries.now));
    }
    let test = |test: &Test| {
        let (value, words) = match test.end {
            End::Passed => (0, "Completed without error"),
            End::BrokenOff => (0x19, "Aborted by host"),
            End::Failed => (0x74, "Completed: read failure"),
        };
        let (code, kind) = if test.is_long { (2, "Extended offline") } else { (1, "Short offline") };
        json!({ "type": { "value": code, "string": kind }, "status": { "value": value, "string": words },
            "lifetime_hours": (state.hours - test.ago) % 65_536 })
    };
    let statistics = json!({ "name": "Percentage Used Endurance Indicator", "value": state.used, "flags": { "valid": true } });
    json!({
        "device": { "name": "/dev/sda", "protocol": "ATA" },
        "rotation_rate": if state.kind == Kind::Ssd { 0 } else { 7200 },
        "ata_smart_data": { "capabilities": { "self_tests_supported": true } },
        "ata_smart_attributes": { "table": table },
        "ata_smart_self_test_log": { "standard": { "table": state.tests.iter().map(test).collect::<Vec<_>>() } },
        "ata_device_statistics": { "pages": [{ "table": if state.kind == Kind::Ssd { vec![statistics] } else { vec![] } }] },
    })
}

fn scsi(state: &State) -> Value {
    // Some were met while reading, the others while verifying.
    let reads = state.unreadable.now / 3;
    let mut told = json!({
        "device": { "name": "/dev/sdb", "protocol": "SCSI" }, "rotation_rate": 7200,
        "scsi_grown_defect_list": state.reallocated.now,
        "scsi_pending_defects": { "count": state.pending.now },
        "scsi_percentage_used_endurance_indicator": state.used,
        "scsi_error_counter_log": {
            "read": { "total_uncorrected_errors": reads },
            "verify": { "total_uncorrected_errors": state.unreadable.now - reads },
            "write": { "total_uncorrected_errors": state.failed_writes },
        },
    });
    for (place, test) in state.tests.iter().enumerate() {
        let (value, words) = match test.end {
            End::Passed => (0, "Completed"),
            End::BrokenOff => (1, "Aborted (by user command)"),
            End::Failed => (7, "Failed in segment"),
        };
        told[format!("scsi_self_test_{place}")] = json!({
            "code": { "string": if test.is_long { "Background long" } else { "Background short" } },
            "result": { "value": value, "string": words },
            "power_on_time": { "hours": (state.hours - test.ago) % 65_536 },
        });
    }
    told
}

fn nvme(state: &State) -> Value {
    let test = |test: &Test| {
        let (value, words) = match test.end {
            End::Passed => (0, "Completed without error"),
            End::BrokenOff => (1, "Aborted: Self-test command"),
            End::Failed => (7, "Completed: failed segments"),
        };
        json!({ "self_test_code": { "value": 1 + u64::from(test.is_long), "string": "as its code" },
            "self_test_result": { "value": value, "string": words }, "power_on_hours": state.hours - test.ago })
    };
    json!({
        "device": { "name": "/dev/nvme0", "protocol": "NVMe" },
        "nvme_smart_health_information_log": {
            "critical_warning": state.warnings, "available_spare": state.spare,
            "available_spare_threshold": LEAST_SPARE, "percentage_used": state.used,
            "power_on_hours": state.hours, "media_errors": state.unreadable.now,
        },
        "nvme_self_test_log": { "table": state.tests.iter().map(test).collect::<Vec<_>>() },
    })
}

/// What a state deserves, and how many times as likely it makes a failure within the days that studies followed disks.
fn deserved(state: &State) -> (Verdict, f64) {
    use Verdict::{DoNotUse, Fine, ReplaceSoon, Watch};
    let mut found = vec![(Fine, 1.0)];
    let mut add_if = |holds: bool, verdict: Verdict, raises: f64| {
        if holds {
            found.push((verdict, raises));
        }
    };
    add_if(state.is_failing, DoNotUse, 39.0);
    for (bit, verdict) in [ReplaceSoon, Watch, DoNotUse, DoNotUse, ReplaceSoon, Watch].into_iter().enumerate()
    {
        add_if(state.warnings >> bit & 1 == 1, verdict, 1.0);
    }
    let (foretells, limit) = state.limit;
    let signs = usize::from(foretells) + usize::from(limit == Limit::Now);
    add_if(limit != Limit::Above, [Watch, ReplaceSoon, DoNotUse][signs], 1.0);

    // A count that stands still for the days that studies followed disks foretells nothing any more.
    let followed = state.days.is_some_and(|days| days as f64 >= FOLLOWED_DAYS);
    let is_old = |count: Count| followed && count.stood();
    let unless_old = |count: Count, raises: f64| if is_old(count) { 1.0 } else { raises };
    let Count { now: reallocated, .. } = state.reallocated;
    let many = reallocated >= 100 || state.reallocated.grew();
    let raises = unless_old(state.reallocated, 14.0);
    add_if(reallocated > 0, if many { ReplaceSoon } else { Watch }, raises);
    add_if(state.pending.now > 0, ReplaceSoon, 16.0);
    for count in [state.unreadable, state.reported] {
        let verdict = if is_old(count) { Watch } else { ReplaceSoon };
        add_if(count.now > 0, verdict, unless_old(count, 39.0));
    }
    add_if(state.failed_writes > 0, ReplaceSoon, 1.0);
    let retries = state.spin_retries;
    add_if(retries.now > 0, if retries.grew() { ReplaceSoon } else { Watch }, 1.0);
    for count in [state.timeouts, state.broken_transfers] {
        add_if(count.now > 0 && !count.stood(), Watch, 1.0);
    }

    // Each failure is answered by a newer test that read as much and passed.
    let answered = |place: usize| {
        let passed =
            |newer: &&Test| newer.end == End::Passed && (newer.is_long || !state.tests[place].is_long);
        state.tests[..place].iter().any(|newer| passed(&newer))
    };
    let fails = (0..state.tests.len()).any(|place| state.tests[place].end == End::Failed && !answered(place));
    add_if(fails, DoNotUse, 39.0);
    let full = state.tests.iter().find(|test| test.is_long && test.end == End::Passed);
    add_if(full.is_none_or(|test| test.ago > 1000), Watch, 1.0);

    add_if(state.used >= 80, Watch, 1.0);
    add_if(state.used >= 100, ReplaceSoon, 1.0);
    add_if(state.spare <= LEAST_SPARE, ReplaceSoon, 1.0);
    add_if(state.hours >= 52_000, Watch, 1.0);
    add_if(state.celsius > 50, Watch, 1.0);
    let worst = found.iter().map(|(verdict, _)| *verdict).max().unwrap();
    (worst, found.iter().map(|(_, raises)| *raises).fold(1.0, f64::max))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: crate::cases(500), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn every_disk_gets_the_verdict_that_its_state_deserves(state in state()) {
        const DAY: i64 = 86_400_000_000_000;
        let now = 20_000 * DAY;
        let before = state.days.map(|days| Look {
            at: now - days as i64 * DAY,
            reallocated: state.reallocated.before,
            pending: state.pending.before,
            uncorrectable: state.unreadable.before,
            reported: state.reported.before,
            timeouts: state.timeouts.before,
            spin_retries: state.spin_retries.before,
            link_errors: state.broken_transfers.before,
        });
        // Without a look before nothing is known of then.
        let forget = |mut count: Count| { count.before = count.before.filter(|_| state.days.is_some()); count };
        let known = State {
            reallocated: forget(state.reallocated), pending: forget(state.pending), unreadable: forget(state.unreadable),
            reported: forget(state.reported), timeouts: forget(state.timeouts), spin_retries: forget(state.spin_retries),
            broken_transfers: forget(state.broken_transfers), ..state.clone()
        };
        let report = parse_smart(&document(&state).to_string()).unwrap();
        let thresholds = Thresholds::default();
        let checks = judge(&About {
            report: Some(&report), link: Some(&report.link), celsius: report.celsius, before: before.as_ref(), now,
            full: None, thresholds: &thresholds,
        });
        let (verdict, raises) = deserved(&known);
        prop_assert_eq!(checks.first().map_or(Verdict::Fine, |check| check.verdict), verdict, "{:?}", checks);
        let over_a_year = (raises * 60.0 + 305.25) / 365.25;
        prop_assert!((raised_over_a_year(&checks) - over_a_year).abs() < 1e-9, "{:?}", checks);
    }
}
