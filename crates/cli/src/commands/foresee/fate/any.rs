//! `fate --any N`: every set of so many disks, ranked by what its loss costs.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::fate::{Cost, RankedSet, rank_sets};
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::Outlook;

use super::question::Question;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, units};
use crate::json;
use crate::progress::thinking;
use crate::sheet;

json::named!("fate-any", Answer<'_>);

/// Sets are worked out one by one: more of them are not.
const MOST_SETS: u128 = 100_000;
/// So many sets are listed without being asked.
const LISTED: usize = 12;

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// How many disks are lost together.
    any: usize,
    /// When the files on the disks were last looked at, where that was not now.
    #[serde(skip_serializing_if = "Option::is_none", with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    as_of: Option<i64>,
    /// What was done first.
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    after: &'a [String],
    /// What has to be known about that.
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    notes: &'a [String],
    /// All sets of so many disks, the costliest first.
    sets: Vec<NamedSet<'a>>,
    /// Over all sets.
    average: Average,
    /// The same without what was done first.
    #[serde(skip_serializing_if = "Option::is_none")]
    now: Option<Extremes<'a>>,
}

#[derive(Serialize, JsonSchema)]
struct NamedSet<'a> {
    /// The disks that are lost together.
    lose: Vec<&'a str>,
    #[serde(flatten)]
    cost: Cost,
}

/// The best, the worst and the average, without the sets between.
#[derive(Serialize, JsonSchema)]
struct Extremes<'a> {
    /// The set that costs most.
    worst: Option<NamedSet<'a>>,
    /// The set that costs least.
    best: Option<NamedSet<'a>>,
    /// Over all sets.
    average: Average,
}

#[derive(Clone, Copy, Serialize, JsonSchema)]
struct Average {
    /// Files that do not come back as they are, over all sets.
    files: f64,
    /// Their bytes.
    bytes: f64,
}

/// All sets of a size, the costliest first.
struct Ranking {
    names: Vec<String>,
    sets: Vec<RankedSet>,
}

pub(crate) fn run(
    context: &Context,
    outlook: &mut dyn Outlook,
    question: &Question<'_>,
    any: usize,
) -> Result<Outcome> {
    refuse_too_many(outlook.disk_names().len(), any)?;
    let mut ranking = Ranking::of(outlook, any)?;
    let mut now = None;
    let mut notes = Vec::new();
    if !question.steps.is_empty() {
        notes = question.do_first(outlook)?;
        now = Some(std::mem::replace(&mut ranking, Ranking::of(outlook, any)?));
    }
    let is_well = ranking.sets.first().is_none_or(|worst| worst.cost.files == 0);
    if context.json {
        json::print(&Answer {
            any,
            as_of: outlook.as_of(),
            after: &question.asked.after,
            notes: &notes,
            sets: ranking.sets.iter().map(|set| ranking.named(set)).collect(),
            average: ranking.average(),
            now: now.as_ref().map(Ranking::extremes),
        })?;
    } else if question.asked.sheet.csv {
        ranking.print_csv()?;
    } else {
        show(question, &ranking, now.as_ref(), &notes, any);
    }
    Ok(Outcome::well(is_well))
}

impl Ranking {
    fn of(outlook: &dyn Outlook, any: usize) -> Result<Self> {
        let _thinking = thinking("losing each set");
        let costs = outlook.costs(any)?;
        let sets = rank_sets(costs.names.len(), any, |set| Ok::<_, Error>(costs.of(set)))?;
        Ok(Self { names: costs.names, sets })
    }

    fn named(&self, set: &RankedSet) -> NamedSet<'_> {
        NamedSet { lose: set.members.iter().map(|p| self.names[*p].as_str()).collect(), cost: set.cost }
    }

    fn average(&self) -> Average {
        let sets = self.sets.len().max(1) as f64;
        let sum = self.sets.iter().fold(Cost::default(), |sum, set| sum.plus(set.cost));
        Average { files: sum.files as f64 / sets, bytes: sum.bytes.exact() as f64 / sets }
    }

    fn extremes(&self) -> Extremes<'_> {
        let named = |set: Option<&RankedSet>| set.map(|set| self.named(set));
        Extremes { worst: named(self.sets.first()), best: named(self.sets.last()), average: self.average() }
    }

    fn print_csv(&self) -> Result<()> {
        let mut out = sheet::writer();
        out.write_record(["lost", "files", "bytes"]).map_err(|e| sheet::failed(&e))?;
        for set in &self.sets {
            let NamedSet { lose, cost } = self.named(set);
            let record = [lose.join(" "), cost.files.to_string(), cost.bytes.exact().to_string()];
            out.write_record(record).map_err(|e| sheet::failed(&e))?;
        }
        out.flush().map_err(|e| sheet::failed(&e))
    }

    fn show_extremes(&self) {
        let told = |set: &RankedSet| {
            let NamedSet { lose, cost } = self.named(set);
            format!("{} ({}, {})", lose.join(" and "), size(cost.bytes), units::files(cost.files))
        };
        if let (Some(worst), Some(best)) = (self.sets.first(), self.sets.last()) {
            crate::say!("  worst    {}", told(worst));
            crate::say!("  best     {}", told(best));
            let average = self.average();
            crate::say!(
                "  average  {}, {:.1} files",
                size(ByteLength::new(average.bytes as u64)),
                average.files
            );
        }
    }
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

fn show(question: &Question<'_>, ranking: &Ranking, now: Option<&Ranking>, notes: &[String], any: usize) {
    let top = question.asked.top.unwrap_or(LISTED);
    let sets = ranking.sets.len() as u64;
    let plural = if sets == 1 { "set" } else { "sets" };
    let what = if any == 1 { "any 1 disk is lost".to_string() } else { format!("any {any} disks are lost") };
    crate::answer!("{}\n", style::paint(style::HEAD, format!("If {what}: {} {plural}", count(sets))));
    if let Some(now) = now {
        crate::say!("now");
        now.show_extremes();
        crate::say!("\n{}", question.first());
    }
    ranking.show_extremes();
    for note in notes {
        crate::say!("  note: {note}");
    }
    style::heading("What does not come back as it is, the costliest first");
    let mut table = Table::new(&["lost", ">files", ">size"]);
    for set in ranking.sets.iter().take(top) {
        let style = if set.cost.files == 0 { style::WELL } else { style::BAD };
        table.styled_row([
            (ranking.named(set).lose.join(", "), style),
            (count(set.cost.files), style),
            (size(set.cost.bytes), style),
        ]);
    }
    table.print();
    if ranking.sets.len() > top {
        let more = count((ranking.sets.len() - top) as u64);
        crate::say!("  and {more} more (--top N, all with --csv or --json)");
    }
}
