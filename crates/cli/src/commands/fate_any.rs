//! `fate --any N`: every set of so many disks, ranked by what its loss costs.

use serde::Serialize;
use sieve_core::fate::{Cost, RankedSet, rank_sets};
use sieve_core::units::{ByteLength, DiskId};
use sieve_store::fate::load as load_model;
use sieve_store::label::Role;
use sieve_store::{Error, Kind, Result, paper, scan};

use super::Context;
use crate::args::PaperArguments;
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, units};
use crate::{json, load};

/// Sets are worked out one by one: more of them are not.
const MOST_SETS: u128 = 100_000;

#[derive(Serialize)]
struct Answer<'a> {
    any: usize,
    sets: Vec<NamedSet<'a>>,
    average: Average,
}

#[derive(Serialize)]
struct NamedSet<'a> {
    lose: Vec<&'a str>,
    #[serde(flatten)]
    cost: Cost,
}

#[derive(Clone, Copy, Serialize)]
struct Average {
    files: f64,
    bytes: f64,
}

pub(super) fn run(context: &Context, any: usize, top: usize, on_paper: &PaperArguments) -> Result<Outcome> {
    let (names, ranked) = match load::spec_on_paper(&context.pool, on_paper.files.is_some())? {
        Some(spec) => {
            let pool = paper::load(&spec, on_paper.volume.volume.as_deref(), on_paper.files.as_deref())?;
            let names = pool.disk_names();
            refuse_too_many(names.len(), any)?;
            let ranked = rank_sets(names.len(), any, |set| Ok::<_, Error>(pool.cost(set)))?;
            (names, ranked)
        }
        None => real(context, any)?,
    };
    let average = average(&ranked);
    if context.json {
        let name = |p: &usize| names[*p].as_str();
        let sets =
            ranked.iter().map(|s| NamedSet { lose: s.members.iter().map(name).collect(), cost: s.cost });
        json::print(&Answer { any, sets: sets.collect(), average })?;
    } else {
        show(&names, &ranked, average, any, top);
    }
    Ok(Outcome::well(ranked.first().is_none_or(|worst| worst.cost.files == 0)))
}

fn real(context: &Context, any: usize) -> Result<(Vec<String>, Vec<RankedSet>)> {
    let pool = load::pool(&context.pool)?;
    for member in pool.members.iter().filter(|m| m.row.role == Role::Data && m.state.is_usable()) {
        scan::scan(&pool, member)?;
    }
    let mut volumes = Vec::new();
    for volume in pool.volumes() {
        let model = load_model(&pool, &volume.name)?;
        let counts = model.name_counts(&pool)?;
        volumes.push((model, counts));
    }
    // What is missing already is lost in any case, and is chosen no more.
    let there: Vec<(String, DiskId)> =
        pool.members.iter().filter(|m| m.state.is_usable()).map(|m| (m.row.name.clone(), m.row.id)).collect();
    refuse_too_many(there.len(), any)?;
    let ranked = rank_sets(there.len(), any, |set| {
        let lost: Vec<DiskId> = set.iter().map(|p| there[*p].1).collect();
        let costs = volumes.iter().map(|(model, counts)| model.cost(&pool, counts, &lost));
        Ok::<_, Error>(costs.fold(Cost::default(), Cost::plus))
    })?;
    Ok((there.into_iter().map(|(name, _)| name).collect(), ranked))
}

fn refuse_too_many(disks: usize, any: usize) -> Result<()> {
    let usage = |message: String| Error::new(Kind::Usage, "fate.any", message);
    if any == 0 || any > disks {
        return Err(usage(format!("--any {any}: there are {disks} disks")).remedy("name a number from 1 on"));
    }
    let mut sets: u128 = 1;
    for step in 0..any as u128 {
        sets = sets * (disks as u128 - step) / (step + 1);
        if sets > MOST_SETS {
            return Err(usage(format!("there are more than {MOST_SETS} sets of {any} out of {disks} disks"))
                .remedy("name a smaller number, or the disks themselves with --lose"));
        }
    }
    Ok(())
}

fn average(ranked: &[RankedSet]) -> Average {
    let sets = ranked.len().max(1) as f64;
    let sum = ranked.iter().fold(Cost::default(), |sum, set| sum.plus(set.cost));
    Average { files: sum.files as f64 / sets, bytes: sum.bytes.exact() as f64 / sets }
}

fn show(names: &[String], ranked: &[RankedSet], average: Average, any: usize, top: usize) {
    let plural = |n: u64| if n == 1 { "set" } else { "sets" };
    let what = if any == 1 { "any 1 disk is lost".to_string() } else { format!("any {any} disks are lost") };
    anstream::println!(
        "{}\n",
        style::paint(
            style::HEAD,
            format!("If {what}: {} {}", count(ranked.len() as u64), plural(ranked.len() as u64))
        )
    );
    let told = |set: &RankedSet| {
        let lost: Vec<&str> = set.members.iter().map(|p| names[*p].as_str()).collect();
        format!("{} ({}, {})", lost.join(" and "), size(set.cost.bytes), units::files(set.cost.files))
    };
    if let (Some(worst), Some(best)) = (ranked.first(), ranked.last()) {
        anstream::println!("  worst    {}", told(worst));
        anstream::println!("  best     {}", told(best));
        anstream::println!(
            "  average  {}, {:.1} files",
            size(ByteLength::new(average.bytes as u64)),
            average.files
        );
    }
    style::heading("What does not come back as it is, the costliest first");
    let mut table = Table::new(&["lost", ">files", ">size"]);
    for set in ranked.iter().take(top) {
        let lost: Vec<&str> = set.members.iter().map(|p| names[*p].as_str()).collect();
        let style = if set.cost.files == 0 { style::WELL } else { style::BAD };
        table.styled_row([
            (lost.join(", "), style),
            (count(set.cost.files), style),
            (size(set.cost.bytes), style),
        ]);
    }
    table.print();
    if ranked.len() > top {
        anstream::println!("  and {} more (--top N, all with --json)", count((ranked.len() - top) as u64));
    }
}
