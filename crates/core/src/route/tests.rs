//! Guards against routes that are not the cheapest, that leave files less guarded, or that break a rule on the way.

use std::collections::BTreeSet;
use std::rc::Rc;

use jiff::civil::{Date, date};
use proptest::prelude::*;
use rstest::rstest;

use super::choice::Choice;
use super::goal::Wanted;
use super::*;
use crate::forecast::default_curve;
use crate::pool::{Media, Role, VolumeKind};
use crate::units::ByteLength;

const TB: u64 = 1_000_000_000_000;

fn tb(tenths: u64) -> ByteLength {
    ByteLength::new(tenths * TB / 10)
}

fn drive(name: &str, size: ByteLength, from: Option<Date>) -> Drive {
    let curve = default_curve(Some(Media::Hdd));
    Drive { name: name.into(), size, curve, from, path: None, bay: None, serial: None }
}

/// Members as (name, role, tenths of TB, tenths of TB used), and spare disks as (tenths of TB, from).
fn ground(
    members: &[(&str, Role, u64, u64)],
    spare: &[(u64, Option<Date>)],
    free_bays: Option<usize>,
) -> Ground {
    let mut drives: Vec<Drive> =
        members.iter().map(|(name, _, size, _)| drive(name, tb(*size), None)).collect();
    drives.extend(
        spare.iter().enumerate().map(|(i, (size, from))| drive(&format!("new-{}", i + 1), tb(*size), *from)),
    );
    let seat = |(position, (name, role, _, used)): (usize, &(&str, Role, u64, u64))| Seat {
        name: Rc::from(*name),
        role: *role,
        drive: DriveId::new(position),
        used: tb(*used),
    };
    let mut start = Standing {
        seats: members.iter().enumerate().map(seat).collect(),
        synced: true,
        day: None,
        emptied: Vec::new(),
        kind: VolumeKind::Unstriped,
    };
    start.put_in_order();
    let floor = start.parities();
    Ground { drives, start, unsynced: ByteLength::ZERO, free_bays, floor, copies: 2, stay: BTreeSet::new() }
}

fn fernhollow(spare: &[(u64, Option<Date>)], free_bays: Option<usize>) -> Ground {
    let members = [
        ("alder", Role::Data, 60, 40),
        ("beech", Role::Data, 40, 20),
        ("cedar", Role::Data, 40, 30),
        ("oak", Role::Parity, 60, 0),
    ];
    ground(&members, spare, free_bays)
}

fn goals(ground: &Ground, words: &[&str]) -> Vec<Goal> {
    words.iter().map(|text| Goal::parse(text, ground).unwrap()).collect()
}

fn told(route: &Route) -> Vec<String> {
    let words = |leg: &Leg| match &leg.step {
        Step::Sync => "sync".into(),
        Step::Replace { seat, onto } => format!("replace {seat} {}", onto.index()),
        Step::Exchange { seat, onto } => format!("exchange {seat} {}", onto.index()),
        Step::Vacate { seat } => format!("vacate {seat}"),
        Step::Grow { name, role, .. } => format!("grow {name} {}", role.word()),
        Step::Convert { to } => format!("convert {}", to.word()),
    };
    route.legs.iter().map(words).collect()
}

#[rstest]
#[case(&["cedar is 14 TB"], &["replace oak 4", "replace cedar 5"])]
#[case(&["cedar is 6 TB"], &["replace oak 4", "replace cedar 3"])]
#[case(&["without beech"], &["vacate beech"])]
#[case(&["2 parities"], &["grow new-1 parity"])]
#[case(&["oak holds data"], &["replace oak 4", "grow oak-2 data"])]
#[case(&["cedar is 14 TB", "oak holds data", "without beech"], &["replace oak 4", "replace cedar 5", "vacate beech", "grow oak-2 data"])]
#[case(&["14 TB in all"], &[])]
#[case(&["10 TB more"], &["replace oak 4", "grow new-2 data"])]
fn parity_grows_first(#[case] words: &[&str], #[case] steps: &[&str]) {
    let ground = fernhollow(&[(140, None), (140, None)], None);
    let found = route(&ground, &goals(&ground, words), Ways::All).unwrap();
    let mut told = told(&found);
    let mut steps: Vec<String> = steps.iter().map(ToString::to_string).collect();
    // Steps of the same cost may come in any order that is allowed.
    if words.len() > 1 {
        told.sort();
        steps.sort();
    }
    assert_eq!(told, steps);
}

fn mirrored(parities: usize) -> Ground {
    let members = [
        ("alder", Role::Data, 60, 20),
        ("beech", Role::Data, 60, 20),
        ("cedar", Role::Data, 60, 20),
        ("oak", Role::Parity, 60, 0),
    ];
    let mut ground = ground(&members[..3 + parities], &[(60, None)], None);
    ground.start.kind = VolumeKind::Mirrored;
    ground.floor = ground.start.guard(&ground);
    ground
}

#[rstest]
#[case::guarded_by_parity_then(1, &["kind is unstriped"], &["convert unstriped"])]
#[case::parity_comes_first(0, &["kind is unstriped"], &["grow new-1 parity", "convert unstriped"])]
#[case::less_to_move_afterwards(1, &["kind is unstriped", "without beech"], &["convert unstriped", "vacate beech"])]
fn what_was_mirrored_is_guarded_by_parity(
    #[case] parities: usize,
    #[case] words: &[&str],
    #[case] steps: &[&str],
) {
    let ground = mirrored(parities);
    let found = route(&ground, &goals(&ground, words), Ways::All).unwrap();
    assert_eq!(told(&found), steps);
    assert!(found.legs.iter().all(|leg| leg.guard_during >= 1 && leg.guard_after >= 1));
}

#[test]
fn further_copies_need_room() {
    let ground = fernhollow(&[(60, None)], None);
    let found = route(&ground, &goals(&ground, &["kind is mirrored"]), Ways::All).unwrap();
    assert_eq!(told(&found), ["grow new-1 data", "convert mirrored"]);
    let last = found.legs.last().unwrap();
    assert_eq!((last.space_after, last.guard_after), (tb(100), 1));
    let used: ByteLength = last.after.of_role(Role::Data).map(|seat| seat.used).sum();
    assert!((179..=181).contains(&(used.exact() / (TB / 10))), "each file twice: {used}");
}

/// A pool that is so full that no disk can be emptied.
fn full(spare: &[(u64, Option<Date>)], free_bays: Option<usize>) -> Ground {
    let members =
        [("alder", Role::Data, 60, 55), ("beech", Role::Data, 40, 36), ("oak", Role::Parity, 60, 0)];
    ground(&members, spare, free_bays)
}

#[test]
fn without_a_free_bay_a_disk_can_only_be_pulled() {
    let no_bay = full(&[(140, None)], Some(0));
    let wanted = goals(&no_bay, &["parity is 14 TB"]);
    assert!(matches!(route(&no_bay, &wanted, Ways::All), Err(NoRoute::Unreachable { .. })));
    let weaker = Ground { floor: 0, ..no_bay };
    let found = route(&weaker, &wanted, Ways::All).unwrap();
    assert_eq!(told(&found), ["exchange oak 3"]);
    assert_eq!(Totals::of(&found.legs, 1).least_guard, 0);
    let roomy = full(&[(140, None)], Some(1));
    assert_eq!(told(&route(&roomy, &wanted, Ways::All).unwrap()), ["replace oak 3"]);
}

#[test]
fn a_disk_that_can_be_emptied_lends_its_bay() {
    let ground = fernhollow(&[(140, None)], Some(0));
    let found = route(&ground, &goals(&ground, &["parity is 14 TB"]), Ways::All).unwrap();
    assert_eq!(told(&found), ["vacate beech", "replace oak 4", "grow beech data"]);
}

#[test]
fn what_waits_for_a_disk_comes_last() {
    let members = [("alder", Role::Data, 60, 40), ("beech", Role::Data, 40, 0), ("oak", Role::Parity, 60, 0)];
    let ground = ground(&members, &[(140, Some(date(2031, 9, 1)))], None);
    let found = route(&ground, &goals(&ground, &["parity is 14 TB", "without beech"]), Ways::All).unwrap();
    assert_eq!(told(&found), ["vacate beech", "replace oak 3"]);
    assert_eq!(found.legs[0].not_before, None);
    assert_eq!(found.legs[1].not_before, Some(date(2031, 9, 1)));
}

#[test]
fn what_is_not_synced_is_synced_first() {
    let mut ground = fernhollow(&[], None);
    ground.start.synced = false;
    ground.unsynced = tb(1);
    let found = route(&ground, &goals(&ground, &["without beech"]), Ways::All).unwrap();
    assert_eq!(told(&found), ["sync", "vacate beech"]);
}

#[test]
fn what_has_no_room_has_no_route() {
    let ground = fernhollow(&[], None);
    let wanted = goals(&ground, &["without alder"]);
    let why = route(&ground, &wanted, Ways::All).unwrap_err().to_string();
    assert_eq!(why, "the files take 9.0 TB, and the disks that are left beside parity hold 8.0 TB");
}

#[test]
fn by_hand_goal_after_goal_costs_more_and_unguards() {
    let ground = fernhollow(&[(140, None), (140, None)], None);
    let wanted = goals(&ground, &["cedar is 14 TB", "without beech"]);
    let planned = Totals::of(&route(&ground, &wanted, Ways::All).unwrap().legs, 1);
    let naive = by_hand(&ground, &wanted);
    let by_hand = Totals::of(&naive.legs, 1);
    assert_eq!(naive.stuck_at, None);
    assert_eq!((planned.least_guard, by_hand.least_guard), (1, 0));
    assert!(
        by_hand.weakened_seconds > 3600.0 && by_hand.disk_seconds > planned.disk_seconds,
        "{by_hand:?} {planned:?}"
    );
}

#[rstest]
#[case(&["2 parities", "1 parity"], "\"2 parities\" and \"1 parity\" contradict each other")]
#[case(&["cedar is 14 TB", "without cedar"], "\"without cedar\" and \"cedar is 14.0 TB\" contradict each other")]
#[case(&["cedar is 14 TB"], "2 disks of at least 14.0 TB are needed, since parity has to be as large, and there are 1")]
#[case(&["oak is 20 TB"], "1 disks of at least 20.0 TB are needed, and there are 0")]
#[case(&["30 TB more"], "44.0 TB for files are wanted, and the most that the disks give beside parity is 20.0 TB")]
fn what_is_missing_is_said(#[case] words: &[&str], #[case] says: &str) {
    let ground = fernhollow(&[(140, None)], None);
    assert_eq!(route(&ground, &goals(&ground, words), Ways::All).unwrap_err().to_string(), says);
}

#[test]
fn copies_count_in_what_files_take() {
    let ground = fernhollow(&[], None);
    let wanted = goals(&ground, &["kind is mirrored"]);
    let why = route(&ground, &wanted, Ways::All).unwrap_err().to_string();
    assert_eq!(
        why,
        "the files take 18.0 TB, 2 copies of each, and the disks that are left beside parity hold 14.0 TB"
    );
}

/// A shelf of many disks: the search has to come to an end there, too.
#[rstest]
#[case(8, &["d0 is 14 TB", "without d3", "2 parities"])]
#[case(24, &["d0 is 14 TB", "without d3", "30 TB more"])]
#[case(24, &["p0 holds data", "d1 is 14 TB", "without d2", "d4 is 14 TB"])]
fn many_disks_have_a_route_too(#[case] disks: usize, #[case] words: &[&str]) {
    let names: Vec<String> = (0..disks).map(|i| format!("d{i}")).collect();
    let mut members: Vec<_> = names
        .iter()
        .enumerate()
        .map(|(i, name)| (name.as_str(), Role::Data, [40, 60, 80, 100][i % 4], 20 + (i as u64 * 7) % 20))
        .collect();
    members.push(("p0", Role::Parity, 100, 0));
    let ground = ground(&members, &[(140, None), (140, None), (140, None), (140, None)], Some(4));
    let found = route(&ground, &goals(&ground, words), Ways::All).unwrap();
    assert!(
        found.legs.len() >= words.len() && found.explored < 100_000,
        "{} {:?}",
        found.explored,
        told(&found)
    );
}

#[rstest]
#[case("cedar are 14 TB", "`cedar are 14 TB` is no goal")]
#[case("cedr is 14 TB", "there is no member `cedr`: did you mean `cedar`?")]
#[case("9 parities", "`9 parities` is no goal")]
#[case("cedar is huge", "`cedar is huge`: ")]
#[case("more", "`more` is no goal")]
fn words_that_are_no_goal(#[case] text: &str, #[case] says: &str) {
    let error = Goal::parse(text, &fernhollow(&[], None)).unwrap_err().to_string();
    assert!(error.starts_with(says), "{error}");
}

/// Every step there is, also those that serve nothing; but no disk joins that nobody asked for.
fn everything(ground: &Ground, standing: &Standing, goals: &[Goal], choice: &Choice) -> Vec<Step> {
    let seats = || standing.seats.iter().map(|seat| seat.name.clone());
    let onto = |onto: DriveId| {
        let moved = seats().flat_map(move |seat| {
            [Step::Replace { seat: seat.clone(), onto }, Step::Exchange { seat, onto }]
        });
        let mut name = ground.drive(onto).name.clone();
        if standing.seat(&name).is_some() {
            name = format!("{name}-2").into();
        }
        let joined =
            [Role::Data, Role::Parity].map(|role| Step::Grow { name: name.clone(), role, drive: onto });
        moved.chain(joined).collect::<Vec<_>>()
    };
    let left = seats().map(|seat| Step::Vacate { seat });
    let is_asked_for = |step: &Step| match step {
        Step::Grow { role: Role::Data, drive, .. } => choice.is_asked_for(ground, standing, *drive),
        _ => true,
    };
    let kinds = goals.iter().filter_map(Goal::kind).map(|to| Step::Convert { to });
    let steps = standing.spare(ground).flat_map(onto).chain(left).chain(kinds).chain([Step::Sync]);
    steps.filter(is_asked_for).collect()
}

/// The cheapest of all sequences of so many steps, tried one by one: no memory, no bound, no disk taken for another.
fn exhaustive(
    ground: &Ground,
    standing: &Standing,
    goals: &[Goal],
    left: usize,
    spent: u64,
    best: &mut Option<u64>,
) {
    if Wanted::of(ground, goals).is_reached(ground, standing) {
        *best = Some(best.map_or(spent, |known| known.min(spent)));
        return;
    }
    if left == 0 {
        return;
    }
    let choice = Choice::of(ground, goals, Ways::All);
    for step in everything(ground, standing, goals, &choice) {
        if let Some(after) = standing.after(ground, &step) {
            let spent = spent + step.disk_milliseconds(ground, standing, &after);
            exhaustive(ground, &after, goals, left - 1, spent, best);
        }
    }
}

fn grounds() -> impl Strategy<Value = (Ground, Vec<Goal>)> {
    let members = (prop::collection::vec((4_u64..9, 0_u64..=10), 1..=3), 0_usize..=2, 4_u64..14);
    let around = (
        prop::collection::vec(4_u64..14, 0..=2),
        prop::option::of(0_usize..=2),
        any::<bool>(),
        any::<bool>(),
        prop::bool::weighted(0.3),
    );
    let words = prop::sample::subsequence(
        vec![
            "d0 is 8 TB",
            "parity is 10 TB",
            "p0 holds data",
            "without d1",
            "2 parities",
            "3 TB more",
            "1 parity",
            "kind is mirrored",
            "kind is spanned",
        ],
        1..=2,
    );
    (members, around, words).prop_map(
        |((data, parities, parity), (spare, bays, synced, weaker, mirrored), words)| {
            const DATA: [&str; 3] = ["d0", "d1", "d2"];
            const PARITY: [&str; 2] = ["p0", "p1"];
            let largest = data.iter().map(|(size, _)| *size).max().unwrap_or_default();
            let mut members: Vec<_> = data
                .iter()
                .zip(DATA)
                .map(|((size, full), name)| (name, Role::Data, size * 10, size * full))
                .collect();
            members.extend(
                PARITY[..parities].iter().map(|name| (*name, Role::Parity, parity.max(largest) * 10, 0)),
            );
            let spare: Vec<_> = spare.into_iter().map(|size| (size * 10, None)).collect();
            let mut ground = ground(&members, &spare, bays);
            ground.start.synced = synced;
            ground.unsynced = tb(2);
            if mirrored && data.len() > 1 {
                ground.start.kind = VolumeKind::Mirrored;
                ground.floor = ground.start.guard(&ground);
            }
            if weaker {
                ground.floor = ground.floor.saturating_sub(1);
            }
            let goals = words.iter().filter_map(|text| Goal::parse(text, &ground).ok()).collect();
            (ground, goals)
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn nothing_is_cheaper_than_a_route((ground, goals) in grounds()) {
        const STEPS: usize = 3;
        /// Milliseconds by which sums of parts differ.
        const ROUNDED: u64 = 50;
        let mut best = None;
        exhaustive(&ground, &ground.start, &goals, STEPS, 0, &mut best);
        let seats: Vec<_> = ground.start.seats.iter().map(|s| format!("{} {} {}", s.name, ground.size(s), s.used)).collect();
        let told_all = format!("{seats:?} {:?} floor {} bays {:?} {:?}", ground.drives.iter().map(|d| d.size.to_string()).collect::<Vec<_>>(), ground.floor, ground.free_bays, goals.iter().map(ToString::to_string).collect::<Vec<_>>());
        match route(&ground, &goals, Ways::All) {
            Ok(found) => {
                let mut spent = 0;
                let mut here = ground.start.clone();
                for leg in &found.legs {
                    let after = here.after(&ground, &leg.step).expect("every step is allowed");
                    spent += leg.step.disk_milliseconds(&ground, &here, &after);
                    prop_assert!(leg.guard_during >= ground.floor && leg.guard_after >= ground.floor);
                    here = after;
                }
                prop_assert!(Wanted::of(&ground, &goals).is_reached(&ground, &here));
                prop_assert!(best.is_none_or(|best| spent <= best + ROUNDED), "{spent} {best:?} {:?} {told_all}", told(&found));
                prop_assert!(found.legs.len() > STEPS || best.is_some_and(|best| spent + ROUNDED >= best), "{spent} {best:?} {:?}", told(&found));
            }
            Err(no @ (NoRoute::Unreachable { .. } | NoRoute::Missing(_))) => prop_assert!(best.is_none(), "{no} {best:?} {told_all}"),
            Err(NoRoute::TooMany(_)) => prop_assert_eq!(best, None),
        }
    }
}
