//! What must hold of every agenda, on random ones.

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use proptest::prelude::*;

use super::solve::Search;
use super::*;
use crate::forecast::Duration;
use crate::units::ByteLength;

fn zone() -> TimeZone {
    TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap()
}

fn at(text: &str) -> i64 {
    let civil: DateTime = text.parse().unwrap();
    zone().to_zoned(civil).unwrap().timestamp().as_second()
}

fn hours(texts: &[&str]) -> Hours {
    let mut hours = Hours::default();
    texts.iter().for_each(|text| hours.add(text).unwrap());
    hours
}

fn job(task: Task, when: &str, minutes: f64) -> Job {
    Job {
        name: format!("{} {when}", task.word()),
        task,
        volume: (task != Task::Report).then_some(0),
        when: When::parse(when).unwrap(),
        share: 1.0,
        effort: Effort {
            likely: Duration::from_seconds(minutes * 60.0),
            cautious: Duration::from_seconds(minutes * 60.0 * Effort::CAUTION),
            seconds_per_byte: if task == Task::Verify { 0.0 } else { 1e-8 },
        },
        disks: if task == Task::Report { vec![] } else { vec![0, 1, 2] },
    }
}

fn setting(jobs: Vec<Job>, awake: &[&str], quiet: &[&str], cache: bool) -> Setting {
    let volume = Inflow {
        name: "recordings".into(),
        arrives_a_day: ByteLength::new(20_000_000_000),
        cache_room: cache.then_some(ByteLength::new(500_000_000_000)),
        cache_is_guarded: false,
        unguarded_at_most: Some(2.0 * 86_400.0),
        has_guard: true,
    };
    Setting {
        jobs,
        volumes: vec![volume],
        disks: ["alder", "beech", "oak"].map(String::from).to_vec(),
        awake: hours(awake),
        quiet: hours(quiet),
        sleeps_after: 1200.0,
    }
}

fn any_when() -> impl Strategy<Value = String> {
    let clock = (0..24_u32, 0..4_u32).prop_map(|(hour, quarter)| format!("{hour:02}:{:02}", quarter * 15));
    let day = prop::sample::select(vec!["Mon", "Wed", "Sat", "Sun", "Mon-Fri"]);
    prop_oneof![
        clock.clone().prop_map(|clock| format!("daily {clock}")),
        (day.clone(), clock.clone()).prop_map(|(day, clock)| format!("{day} {clock}")),
        (prop::sample::select(vec!["first", "last"]), clock)
            .prop_map(|(nth, clock)| format!("{nth} Sun of the month {clock}")),
        Just("every 6 hours".to_string()),
        Just("20 minutes after the last arrival".to_string()),
        Just("FREQ=WEEKLY;INTERVAL=2;BYDAY=TU;BYHOUR=5".to_string()),
    ]
}

fn any_setting(most: usize) -> impl Strategy<Value = Setting> {
    let task =
        prop::sample::select(vec![Task::Settle, Task::Sync, Task::Verify, Task::LongTest, Task::Report]);
    let jobs = prop::collection::vec((task, any_when(), 5.0..900.0_f64), 1..=most);
    let awake = prop::sample::select(vec![
        vec![],
        vec!["17:00-24:00"],
        vec!["Sat-Sun 08:00-23:00", "Wed 18:00-02:00"],
    ]);
    let quiet = prop::sample::select(vec![vec![], vec!["22:00-07:00"], vec!["Mon-Fri 06:00-22:00"]]);
    (jobs, awake, quiet, any::<bool>()).prop_map(|(jobs, awake, quiet, cache)| {
        let jobs = jobs.into_iter().map(|(task, when, minutes)| job(task, &when, minutes)).collect();
        setting(jobs, &awake, &quiet, cache)
    })
}

/// Beginnings around everything that is odd about calendars.
fn any_begin() -> impl Strategy<Value = i64> {
    prop::sample::select(vec!["2031-05-01", "2031-03-20", "2031-10-20", "2032-02-15", "2031-12-20"])
        .prop_map(at)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(160))]

    #[test]
    fn one_at_a_time_in_usable_hours_and_nothing_is_forgotten(setting in any_setting(6), from in any_begin()) {
        let within = Span { from, until: from + FOUR_WEEKS };
        let hall = Hall::of(&setting, within, &zone());
        let wanted = wanted(&setting, &hall, &zone());
        let played = play(&setting, &hall, &wanted);
        let task = |run: &Run| setting.jobs[run.job].task;
        let long: Vec<&Run> = played.runs.iter().filter(|run| task(run).is_long()).collect();
        for pair in long.windows(2) {
            prop_assert!(pair[0].end <= pair[1].begin, "{pair:?}");
        }
        for run in &long {
            let inside = |span: &Span| span.from <= run.begin && run.end <= span.until;
            prop_assert!(hall.usable.iter().any(inside), "{run:?}");
            prop_assert!(run.begin >= run.wanted);
        }
        for run in played.runs.iter().filter(|run| task(run).is_heard()) {
            prop_assert!(hall.usable.iter().any(|span| (span.from..span.until).contains(&run.begin)));
        }
        for (job, starts) in wanted.iter().enumerate() {
            for start in starts {
                let done = played.runs.iter().any(|run| run.job == job && run.begin >= *start);
                prop_assert!(done || played.left.iter().any(|(left, _)| *left == job), "{} at {start}", setting.jobs[job].name);
            }
        }
    }
}

/// As good but for a minute, and for what the beginning and the end of the weeks make of the hours.
fn is_as_good(found: Cost, other: Cost) -> bool {
    let (found, other) = (found.matters(), other.matters());
    (found.0, found.1) < (other.0, other.1)
        || (found.0, found.1) == (other.0, other.1)
            && (found.2 < other.2 - 1 || found.2 <= other.2 + 1 && found.3 as f64 <= other.3 as f64 * 1.01)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(if cfg!(debug_assertions) { 12 } else { 40 }))]

    #[test]
    fn solving_never_makes_it_worse_and_solving_again_changes_nothing(setting in any_setting(4), from in any_begin()) {
        let solved = solve(&setting, from, &zone());
        let after = Setting { jobs: solved.jobs.clone(), ..setting.clone() };
        prop_assert!(cost(&after, from, &zone()) <= cost(&setting, from, &zone()));
        prop_assert_eq!(&solve(&after, from, &zone()).jobs, &solved.jobs);
        for (job, wished) in solved.jobs.iter().zip(&setting.jobs) {
            prop_assert_eq!(job.task, wished.task);
            let (coverage, wished) = (job.share / job.when.period(), wished.share / wished.when.period());
            prop_assert!(coverage >= wished * 0.95, "as much is verified in the same time");
        }
    }

    #[test]
    fn no_plan_on_the_hour_is_better_than_the_solved_one(
        minutes in prop::collection::vec(20.0..200.0_f64, 2..=2),
        begin in prop::collection::vec(0..24_i32, 2..=2),
        cache in any::<bool>(),
        quiet in prop::sample::select(vec![vec![], vec!["06:00-23:00"]]),
    ) {
        let tasks = if cache { [Task::Settle, Task::Sync] } else { [Task::Sync, Task::Verify] };
        let jobs = (0..2).map(|n| job(tasks[n], &format!("daily {:02}:00", begin[n]), minutes[n])).collect();
        let setting = setting(jobs, &[], &quiet, cache);
        let from = at("2031-05-01");
        let solved = Setting { jobs: solve(&setting, from, &zone()).jobs, ..setting.clone() };
        let zone = zone();
        let mut search = Search::new(&setting, from, &zone);
        let best = search.cost(&solved.jobs);
        for hours in 0..24 * 24 {
            let mut other = setting.clone();
            for (job, hour) in other.jobs.iter_mut().zip([hours % 24, hours / 24]) {
                job.when = job.when.at(Clock::of_minutes(hour * 60));
            }
            let cost = search.cost(&other.jobs);
            prop_assert!(is_as_good(best, cost), "{best:?} for {:?}, {cost:?} for {:?}", solved.jobs, other.jobs);
        }
    }
}

#[test]
fn a_job_that_meets_the_end_of_the_hours_goes_on_in_the_next_ones() {
    let setting = setting(vec![job(Task::Verify, "Mon 04:00", 600.0)], &[], &["07:00-23:00"], false);
    let judged = judge(&setting, at("2031-05-05"), &zone());
    let first: Vec<(bool, bool)> =
        judged.played.runs.iter().take(2).map(|run| (run.stopped, run.goes_on)).collect();
    assert_eq!(first, [(true, false), (false, true)]);
    assert!(judged.clashes.iter().any(|clash| matches!(clash, Clash::DoesNotFit { job: 0, off: false, .. })));
}

#[test]
fn a_verify_that_fits_nowhere_is_cut_into_shares() {
    let jobs =
        vec![job(Task::Verify, "first Sun of the month 02:00", 900.0), job(Task::Sync, "daily 03:00", 20.0)];
    let setting = setting(jobs, &[], &["07:00-23:00"], false);
    let solved = solve(&setting, at("2031-05-01"), &zone());
    assert_eq!(solved.jobs[0].share, 0.25);
    assert!(solved.jobs[0].when.to_string().len() == "Sun 02:00".len());
    assert!(solved.clashes.is_empty(), "{:?}", solved.clashes);
}

#[test]
fn a_sync_goes_behind_the_settle_before_it() {
    let jobs = vec![job(Task::Sync, "daily 01:00", 30.0), job(Task::Settle, "daily 04:00", 60.0)];
    let wished = setting(jobs, &[], &[], true);
    let from = at("2031-05-01");
    let (before, after) = (judge(&wished, from, &zone()), solve(&wished, from, &zone()));
    let [sync, settle] = [0, 1].map(|job| after.jobs[job].when.clock().unwrap().minutes());
    let behind = (sync - settle).rem_euclid(1440);
    assert!((60..=180).contains(&behind), "{behind} minutes behind");
    assert!(after.played.exposure[0].mean < before.played.exposure[0].mean * 0.7);
}

#[test]
fn the_mean_wait_is_half_a_day_and_the_sync_for_a_sync_once_a_day() {
    let mut sync = job(Task::Sync, "daily 00:00", 60.0);
    sync.effort.seconds_per_byte = 0.0;
    let judged = judge(&setting(vec![sync], &[], &[], false), at("2031-05-01"), &zone());
    let hours = judged.played.exposure[0].mean / 3600.0;
    assert!((hours - 13.0).abs() < 0.5, "{hours}");
    assert!((judged.played.exposure[0].longest / 3600.0 - 25.0).abs() < 0.1);
}

#[test]
fn the_agenda_of_a_usual_pool_is_solved_while_one_waits() {
    let jobs = vec![
        job(Task::Settle, "daily 23:00", 90.0),
        job(Task::Sync, "daily 23:30", 60.0),
        job(Task::Verify, "Sun 00:00", 500.0),
        job(Task::LongTest, "first Sat of the month 00:00", 120.0),
        job(Task::Report, "Mon 08:00", 1.0),
    ];
    let setting = setting(jobs, &[], &["08:00-22:00"], true);
    let solved = solve(&setting, at("2031-05-01"), &zone());
    assert!(solved.clashes.is_empty(), "{:?}", solved.clashes);
}

#[test]
fn a_cache_that_overflows_is_told() {
    let mut setting = setting(vec![job(Task::Settle, "Sun 02:00", 60.0)], &[], &[], true);
    setting.volumes[0].cache_room = Some(ByteLength::new(100_000_000_000));
    let judged = judge(&setting, at("2031-05-01"), &zone());
    assert!(judged.clashes.iter().any(|clash| matches!(clash, Clash::CacheOverflows { volume: 0, .. })));
}
