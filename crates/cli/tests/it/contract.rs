//! Guards against JSON that scripts rely on and that changes under them: the documented keys, redeclared here.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;

use serde::Deserialize;
use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

#[derive(Deserialize, Debug, PartialEq, Clone, Copy)]
#[serde(deny_unknown_fields)]
struct Count {
    files: u64,
    bytes: u64,
}

#[derive(Deserialize, Debug, PartialEq, Clone, Copy)]
#[serde(deny_unknown_fields)]
struct Totals {
    untouched: Count,
    rebuilt: Count,
    older: Count,
    torn: Count,
    gone: Count,
}

#[derive(Deserialize, Debug)]
#[serde(deny_unknown_fields)]
struct File {
    volume: String,
    path: String,
    #[serde(default)]
    path_hex: Option<String>,
    disks: Vec<String>,
    size_bytes: u64,
    fate: String,
    guard: u8,
    #[serde(default, rename = "unguarded")]
    _unguarded: Option<String>,
    #[serde(default)]
    reason: Option<Reason>,
}

#[derive(Deserialize, Debug)]
#[serde(deny_unknown_fields)]
struct Reason {
    own: Option<String>,
    rows: Option<Rows>,
}

#[derive(Deserialize, Debug)]
#[serde(deny_unknown_fields)]
struct Rows {
    first: u64,
    last: u64,
    bytes: u64,
    lost: Vec<String>,
    stale: Vec<Stale>,
    parities: Vec<String>,
    lost_parities: Vec<String>,
    #[serde(rename = "invalid_parities")]
    _invalid_parities: Vec<String>,
}

#[derive(Deserialize, Debug)]
#[serde(deny_unknown_fields)]
struct Stale {
    #[serde(rename = "disk")]
    _disk: String,
    #[serde(default, rename = "path")]
    _path: Option<String>,
    #[serde(rename = "why")]
    _why: String,
}

#[derive(Deserialize)]
struct Fate {
    totals: Totals,
    files: Vec<File>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Level {
    level: u8,
    files: u64,
    bytes: u64,
}

#[derive(Deserialize)]
struct Status {
    guard: Vec<Level>,
}

#[derive(Deserialize)]
struct Sync {
    read_bytes: BTreeMap<String, u64>,
    written_bytes: BTreeMap<String, u64>,
}

#[derive(Deserialize)]
struct Rebuild {
    predicted: Totals,
    obtained: Totals,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Grown {
    volume: String,
    disk: String,
    role: String,
    files: u64,
    parity_cells: u64,
    parity_cells_left: u64,
    stopped: bool,
}

#[derive(Deserialize)]
struct Member {
    disk: String,
    volume: String,
    role: String,
    path: Option<String>,
    checkpoint: Option<u64>,
}

#[derive(Deserialize)]
struct Adopt {
    pool: String,
    members: Vec<Member>,
    checkpoint: u64,
}

#[derive(Deserialize)]
struct Dissolve {
    volume: String,
    disks: Vec<Value>,
    is_last: bool,
}

fn answer<T: serde::de::DeserializeOwned>(lab: &Lab, arguments: &[&str], codes: &[i32]) -> T {
    let run = lab.run(arguments).expect(codes);
    let mut result = run.json();
    let object = result.as_object_mut().unwrap();
    let format = object.remove("format").unwrap();
    assert!(format.as_str().unwrap().starts_with("zinc-sieve/"), "{arguments:?}: {format}");
    assert_eq!(object.remove("version"), Some(1.into()), "{arguments:?}");
    assert_exact(&result, arguments);
    T::deserialize(&result).unwrap_or_else(|e| panic!("{arguments:?}: {e}\n{}", run.stdout))
}

/// Numbers that a reader with floating point would round are not there.
fn assert_exact(value: &Value, arguments: &[&str]) {
    match value {
        Value::Number(number) => {
            let is_exact = number.as_f64().unwrap().abs() <= 2f64.powi(53);
            assert!(is_exact, "{arguments:?}: {number}");
        }
        Value::Array(list) => list.iter().for_each(|value| assert_exact(value, arguments)),
        Value::Object(map) => map.values().for_each(|value| assert_exact(value, arguments)),
        _ => {}
    }
}

#[test]
fn the_documented_keys_are_there_and_agree_with_each_other() {
    let lab = Lab::new(PROGRAM, 3, 2, "60 MB");
    let mut chance = Chance::new(1);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (disk, size) in [("alder", 700_000), ("beech", 400_000), ("cedar", 100_000)] {
        fs::write(lab.disk(disk).join(format!("{disk}.dat")), chance.bytes(size)).unwrap();
    }
    let odd = std::ffi::OsString::from_vec(b"odd-\xff".to_vec());
    fs::write(lab.disk("alder").join(&odd), b"odd").unwrap();
    let planned: Sync = answer(&lab, &["sync", "--dry-run", "--json"], &[0]);
    let synced: Sync = answer(&lab, &["sync", "--yes", "--json"], &[0]);
    for disk in ["alder", "beech", "cedar"] {
        assert_eq!(planned.read_bytes[disk], synced.read_bytes[disk], "the plan was right about {disk}");
    }
    assert!(synced.written_bytes["oak"] >= 700_000 && synced.written_bytes["pine"] >= 700_000);
    fs::write(lab.disk("beech").join("late.dat"), b"late").unwrap();

    let fate: Fate = answer(&lab, &["fate", "--lose", "alder,beech", "--json"], &[1]);
    let mut sums: BTreeMap<&str, Count> = BTreeMap::new();
    for file in &fate.files {
        assert_eq!((file.volume.as_str(), file.disks.len()), ("recordings", 1));
        assert_eq!(
            file.reason.is_some(),
            !["untouched", "rebuilt"].contains(&file.fate.as_str()),
            "{file:?}"
        );
        if let Some(rows) = file.reason.as_ref().and_then(|r| r.rows.as_ref()) {
            assert!(rows.first <= rows.last && rows.bytes > 0, "{file:?}");
            assert!(rows.lost.len() + rows.stale.len() > rows.parities.len(), "the count decides: {file:?}");
            assert!(rows.lost_parities.is_empty(), "no parity was lost: {file:?}");
        } else if let Some(reason) = &file.reason {
            assert!(reason.own.is_some(), "{file:?}");
        }
        let sum = sums.entry(file.fate.as_str()).or_insert(Count { files: 0, bytes: 0 });
        *sum = Count { files: sum.files + 1, bytes: sum.bytes + file.size_bytes };
    }
    assert_eq!(fate.totals.rebuilt, sums["rebuilt"]);
    assert_eq!(fate.totals.untouched, sums["untouched"]);
    assert_eq!(fate.totals.gone, sums["gone"]);
    assert_eq!(fate.totals.gone, Count { files: 1, bytes: 4 });
    let odd = fate.files.iter().find(|f| f.path_hex.is_some()).unwrap();
    assert_eq!((odd.path.as_str(), odd.path_hex.as_deref()), ("odd-\\xff", Some("6f64642dff")));

    let status: Status = answer(&lab, &["status", "--json"], &[5]);
    for (index, level) in status.guard.iter().enumerate() {
        assert_eq!(usize::from(level.level), index, "levels come in order");
        let of_level: Vec<_> = fate.files.iter().filter(|f| f.guard == level.level).collect();
        assert_eq!(level.files, of_level.len() as u64);
        assert_eq!(level.bytes, of_level.iter().map(|f| f.size_bytes).sum::<u64>());
    }

    fs::remove_dir_all(lab.disk("beech")).unwrap();
    fs::create_dir(lab.disk("new")).unwrap();
    let promised: Fate = answer(&lab, &["fate", "--lose", "beech", "--json"], &[1]);
    let rebuilt: Rebuild = answer(&lab, &["rebuild", "beech", "--onto", "new", "--yes", "--json"], &[1]);
    assert_eq!(rebuilt.predicted, promised.totals);
    assert_eq!(rebuilt.obtained, rebuilt.predicted);
    assert!(
        lab.pool_text().contains(&lab.disk("new").display().to_string()),
        "the pool file names the new disk"
    );
}

#[test]
fn errors_are_json_too() {
    let lab = Lab::new(PROGRAM, 1, 1, "60 MB");
    let run = lab.run(&["status", "--json"]).expect(&[2]);
    let value: serde_json::Value = serde_json::from_str(&run.stdout).unwrap();
    assert_eq!(value["error"]["code"], "pool.not-created");
}

use std::os::unix::ffi::OsStringExt;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Figure {
    events_a_year: f64,
    bytes_a_year: f64,
    files_a_year: f64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Odds {
    causes: BTreeMap<String, Figure>,
    any_a_year: f64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FolderRisk {
    folder: String,
    bytes_a_year: f64,
    files_a_year: f64,
}

#[derive(Deserialize)]
struct Volume {
    volume: String,
    any_in_a_year: f64,
    total: Figure,
    odds: Odds,
    folders: Vec<FolderRisk>,
    disks: Vec<Value>,
    comparison: Vec<Value>,
    advice: Vec<Advice>,
}

#[derive(Deserialize)]
struct Advice {
    action: String,
    saves_bytes_a_year: f64,
    saves_chance_a_year: f64,
    disk_hours: f64,
    price: Option<Value>,
}

#[derive(Deserialize)]
struct Risk {
    volumes: Vec<Volume>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Map {
    disks: Vec<String>,
    costs: Vec<Vec<Count>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Loss {
    lose: Vec<String>,
    fate: String,
    #[serde(default)]
    reason: Option<Reason>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Stretch {
    first: u64,
    last: u64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Story {
    volume: String,
    path: String,
    disk: String,
    disks: Vec<String>,
    size_bytes: u64,
    guard: u8,
    #[serde(default)]
    unguarded: Option<String>,
    rows: Vec<Stretch>,
    losses: Vec<Loss>,
}

#[test]
fn the_keys_of_foresight_are_there_and_agree() {
    let lab = Lab::new(PROGRAM, 3, 1, "60 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::create_dir(lab.disk("alder").join("dawn")).unwrap();
    fs::write(lab.disk("alder").join("dawn/take.flac"), vec![1; 900_000]).unwrap();
    fs::write(lab.disk("beech").join("take.flac"), vec![2; 500_000]).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(lab.disk("beech").join("late.flac"), vec![3; 9_000]).unwrap();

    let risk: Risk = answer(&lab, &["risk", "--simulate", "1000", "--advise", "--json"], &[0, 1]);
    let [volume] = risk.volumes.as_slice() else { panic!("one volume") };
    assert_eq!((volume.volume.as_str(), volume.disks.len()), ("recordings", 4));
    let names: Vec<&str> = volume.odds.causes.keys().map(String::as_str).collect();
    assert_eq!(names, ["cache", "further", "second", "single", "unreadable"]);
    let sum = |of: fn(&Figure) -> f64| volume.odds.causes.values().map(of).sum::<f64>();
    for (total, sum) in [
        (volume.total.events_a_year, sum(|f| f.events_a_year)),
        (volume.total.bytes_a_year, sum(|f| f.bytes_a_year)),
        (volume.total.files_a_year, sum(|f| f.files_a_year)),
    ] {
        assert!((total - sum).abs() <= sum * 1e-9, "{total} {sum}");
    }
    assert!((volume.any_in_a_year - (1.0 - (-volume.odds.any_a_year).exp())).abs() < 1e-9);
    assert!(
        volume.folders.iter().any(|f| f.folder == "dawn" && f.bytes_a_year > 0.0 && f.files_a_year > 0.0)
    );
    assert!(!volume.comparison.is_empty());
    for advice in &volume.advice {
        assert!(!advice.action.is_empty() && advice.disk_hours > 0.0 && advice.price.is_none());
        assert!(advice.saves_bytes_a_year >= 0.0 && advice.saves_chance_a_year <= 1.0);
    }

    let map: Map = answer(&lab, &["fate", "--map", "--json"], &[1]);
    assert_eq!(map.disks, ["alder", "beech", "cedar", "oak"]);
    assert!(map.costs.len() == 4 && map.costs.iter().all(|row| row.len() == 4));
    assert_eq!(map.costs[1][1], Count { files: 1, bytes: 9_000 });

    let told = lab.run(&["fate", "--explain", "dawn/take.flac", "--json"]).expect(&[0]).list();
    let stories = Vec::<Story>::deserialize(&told).unwrap();
    let [story] = stories.as_slice() else { panic!("one file") };
    let told =
        (story.volume.as_str(), story.path.as_str(), story.disk.as_str(), story.size_bytes, story.guard);
    assert_eq!(told, ("recordings", "dawn/take.flac", "alder", 900_000, 1));
    assert_eq!(story.disks, ["alder"]);
    assert!(story.unguarded.is_none() && story.rows.iter().all(|rows| rows.first <= rows.last));
    assert_eq!(story.losses.len(), 4, "alone, and with each other disk");
    for loss in &story.losses {
        assert_eq!(loss.reason.is_some(), loss.fate != "rebuilt", "{:?}", loss.lose);
    }
}

#[test]
fn changes_of_disks_tell_what_is_documented() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    fs::create_dir(lab.disk("rowan")).unwrap();
    let at = lab.disk("rowan").display().to_string();
    fs::write(lab.disk("alder").join("wren.flac"), Chance::new(3).bytes(500_000)).unwrap();
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let more = format!("\n[[disk]]\nname = \"rowan\"\npath = \"{at}\"\nshares_filesystem = true\n");
    lab.write_pool_file(&(lab.pool_text() + &more));
    let grown: Grown =
        answer(&lab, &["grow", "rowan", "--as", "parity", "--at", &at, "--yes", "--json"], &[0]);
    assert_eq!(
        (grown.volume.as_str(), grown.disk.as_str(), grown.role.as_str()),
        ("recordings", "rowan", "parity")
    );
    assert_eq!((grown.files, grown.parity_cells, grown.parity_cells_left, grown.stopped), (0, 1, 0, false));
    let adopt: Adopt = answer(&lab, &["adopt", "alder", "oak", "--dry-run", "--json"], &[1]);
    assert_eq!((adopt.pool.as_str(), adopt.members.len()), ("fernhollow", 4));
    let there = adopt.members.iter().filter(|member| member.path.is_some());
    assert!(
        there
            .clone()
            .all(|member| member.checkpoint == Some(adopt.checkpoint) && member.volume == "recordings")
    );
    let roles: Vec<(&str, &str)> = there.map(|member| (member.disk.as_str(), member.role.as_str())).collect();
    assert_eq!(roles, [("alder", "data"), ("oak", "parity")]);
    let end: Dissolve = answer(&lab, &["dissolve", "recordings", "--dry-run", "--json"], &[0]);
    assert_eq!((end.volume.as_str(), end.disks.len(), end.is_last), ("recordings", 4, true));
}

#[derive(Deserialize)]
struct PlannedMove {
    path: String,
    size_bytes: u64,
    from: Vec<String>,
    to: Vec<String>,
    why: String,
    since: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CacheSpace {
    disk: String,
    free_bytes: u64,
    free_after_bytes: u64,
    free_after_sync_bytes: u64,
    reserve_bytes: u64,
}

#[derive(Deserialize)]
struct SettlePlan {
    files: Vec<PlannedMove>,
    by_disk: BTreeMap<String, Count>,
    left_alone: Vec<Value>,
    holds: bool,
    given_up: Count,
    caches: Vec<CacheSpace>,
}

#[derive(Deserialize)]
struct Settle {
    by_disk: BTreeMap<String, Count>,
    held: u64,
    stopped: bool,
}

#[derive(Deserialize)]
struct Settled {
    settle: Settle,
    sync: Option<Sync>,
}

#[derive(Deserialize)]
struct Cache {
    volume: String,
    waits: Count,
    stays: Count,
    one_disk_takes: Count,
    held: Count,
    since: Option<String>,
    reserve_bytes: u64,
    free_bytes: u64,
}

#[derive(Deserialize)]
struct Caches {
    caches: Vec<Cache>,
}

#[test]
fn settling_and_the_cache_tell_what_is_documented() {
    let disks = [("alder", 40), ("oak", 50), ("flint", 20)];
    let volume = "data = [\"alder\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\nreserve = \"2 MB\"";
    let lab = Lab::of(PROGRAM, &disks, volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::write(lab.root().join("take.flac"), Chance::new(9).bytes(500_000)).unwrap();
    lab.run(&["put", "take.flac", "dawn", "--yes"]).expect(&[0]);
    let status: Caches = answer(&lab, &["status", "--json"], &[5]);
    let [cache] = status.caches.as_slice() else { panic!("one cache") };
    let one = Count { files: 1, bytes: 500_000 };
    let none = Count { files: 0, bytes: 0 };
    assert_eq!(
        (cache.volume.as_str(), cache.waits, cache.stays, cache.held),
        ("recordings", one, none, none)
    );
    assert_eq!((cache.one_disk_takes, cache.reserve_bytes), (one, 2_000_000));
    assert!(cache.since.is_some() && cache.free_bytes < 20_000_000);
    let plan: SettlePlan = answer(&lab, &["settle", "--dry-run", "--json"], &[0]);
    let [planned] = plan.files.as_slice() else { panic!("one file") };
    assert_eq!(
        (planned.path.as_str(), planned.size_bytes, planned.why.as_str()),
        ("dawn/take.flac", 500_000, "waits")
    );
    assert_eq!(
        (planned.from.as_slice(), planned.to.as_slice()),
        (["flint".to_string()].as_slice(), ["alder".to_string()].as_slice())
    );
    assert!(planned.since.starts_with("20") && plan.holds && plan.left_alone.is_empty());
    assert_eq!((plan.by_disk["alder"], plan.given_up), (one, none));
    let [space] = plan.caches.as_slice() else { panic!("one cache") };
    assert_eq!(
        (space.disk.as_str(), space.free_after_bytes, space.reserve_bytes),
        ("flint", space.free_bytes, 2_000_000)
    );
    assert_eq!(space.free_after_sync_bytes, space.free_bytes + 500_000);
    let done: Settled = answer(&lab, &["settle", "--then-sync", "--yes", "--json"], &[0]);
    assert_eq!((done.settle.by_disk["alder"], done.settle.held, done.settle.stopped), (one, 1, false));
    assert!(done.sync.is_some_and(|sync| sync.written_bytes["oak"] > 500_000));
}
