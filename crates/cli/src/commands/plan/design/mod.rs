//! `design`: the ways to lay volumes over a set of disks, compared.

mod disks;
mod save;
mod table;

use std::path::PathBuf;

use clap::Args;
use disks::ShelfArguments;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::design::{DesignDisk, Figures, Recommendation, Wishes, figures, front, plans, recommend};
use sieve_core::forecast::Forecast;
use sieve_core::ingest::Network;
use sieve_core::suggest;
use sieve_core::units::{ByteLength, Rate};
use sieve_disk::{Error, Kind, Result};

use crate::args::Wish;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::size;
use crate::sheet::{self, SheetArguments};
use crate::{chart, json};

json::named!("design", Answer<'_>);

/// What `design` compares.
#[derive(Args)]
pub(crate) struct DesignArguments {
    #[command(flatten)]
    pub(crate) shelf: ShelfArguments,
    /// The network that clients copy over
    #[arg(long, value_name = "RATE", default_value = "117 MB/s")]
    pub(crate) network: String,
    /// What one more disk of this size would bring
    #[arg(long, value_name = "SIZE", value_delimiter = ',')]
    pub(crate) add: Vec<String>,
    /// What matters most; without it space
    #[arg(long, value_name = "WISH")]
    pub(crate) want: Option<Wish>,
    /// How many disks must be allowed to die with nothing lost; without it one, from seven disks on two
    #[arg(long, value_name = "N")]
    pub(crate) survive: Option<usize>,
    /// Show every plan, also those that another one beats in everything
    #[arg(long)]
    pub(crate) all: bool,
    #[command(flatten)]
    pub(crate) sheet: SheetArguments,
    /// Draw usable space and losses side by side, as SVG or PNG
    #[arg(long, value_name = "FILE")]
    pub(crate) chart: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) look: chart::Look,
    /// Write the recommended plan, or that of --plan, as a new pool file, on paper
    #[arg(long, value_name = "FILE")]
    pub(crate) save: Option<PathBuf>,
    /// The plan to save in place of the recommended one, by its name in the table
    #[arg(long, value_name = "NAME", requires = "save")]
    pub(crate) plan: Option<String>,
}

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// The disks.
    disks: &'a [DesignDisk],
    /// All plans; their disks are positions in `disks`.
    plans: &'a [Figures],
    /// Positions of the plans that no other one beats in everything.
    front: &'a [usize],
    /// The one that is recommended.
    recommendation: Option<&'a Recommendation>,
}

/// A plan, as a line of CSV.
#[derive(Serialize)]
struct Line<'a> {
    plan: &'a str,
    recommended: bool,
    usable_bytes: ByteLength,
    share_of_raw: f64,
    survives: usize,
    loses_anything_in_a_year: f64,
    one_more_loses_share: f64,
    one_more_loses_at_worst_share: f64,
    write_bytes_per_second: f64,
    disks_write_bytes_per_second: f64,
    read_bytes_per_second: f64,
    disks_read_bytes_per_second: f64,
    first_sync_seconds: Option<f64>,
    rebuild_seconds: Option<f64>,
    price_per_tb: Option<f64>,
    price_per_saved_tb: Option<f64>,
    currency: Option<&'a str>,
}

impl<'a> Line<'a> {
    fn of(figures: &'a Figures, found: Option<&Recommendation>, position: usize) -> Self {
        let seconds = |forecast: &Option<Forecast>| forecast.as_ref().map(|found| found.likely.seconds());
        Self {
            plan: &figures.name,
            recommended: found.is_some_and(|found| found.position == position),
            usable_bytes: figures.plan.usable,
            share_of_raw: figures.share_of_raw,
            survives: figures.survives,
            loses_anything_in_a_year: figures.risk.any_in_a_year,
            one_more_loses_share: figures.one_more.average,
            one_more_loses_at_worst_share: figures.one_more.worst,
            write_bytes_per_second: figures.write.rate.per_second(),
            disks_write_bytes_per_second: figures.write.disks.per_second(),
            read_bytes_per_second: figures.read.rate.per_second(),
            disks_read_bytes_per_second: figures.read.disks.per_second(),
            first_sync_seconds: seconds(&figures.first_sync),
            rebuild_seconds: seconds(&figures.rebuild),
            price_per_tb: figures.price_per_tb.as_ref().map(sieve_core::pool::Price::amount),
            price_per_saved_tb: figures.price_per_saved_tb.as_ref().map(sieve_core::pool::Price::amount),
            currency: figures.price_per_tb.as_ref().map(|price| price.currency.as_str()),
        }
    }
}

pub(crate) fn run(context: &Context, arguments: &DesignArguments) -> Result<Outcome> {
    let disks = disks::named(context, &arguments.shelf)?;
    let network = Network { name: "the network".into(), rate: rate(&arguments.network)? };
    let additions = arguments.add.iter().map(|text| bytes(text)).collect::<Result<Vec<_>>>()?;
    let all = figures(&plans(&disks), &disks, &network, &additions);
    if all.is_empty() {
        let message = "no volume can be laid over these disks";
        return Err(Error::new(Kind::Usage, "design.no-plan", message).remedy("name at least two disks"));
    }
    let named = arguments.plan.as_deref().map(|name| plan_named(&all, name)).transpose()?;
    let wishes = Wishes { want: arguments.want.map(Into::into), survive: arguments.survive };
    let found = recommend(&all, wishes);
    let mut front = front(&all);
    // What is recommended is shown, also if another plan is as good.
    if let Some(chosen) = found.as_ref().filter(|r| !front.contains(&r.position)) {
        front.push(chosen.position);
        front.sort_unstable();
    }
    let mut shown: Vec<usize> = if arguments.all { (0..all.len()).collect() } else { front.clone() };
    shown.sort_by_key(|position| std::cmp::Reverse(all[*position].plan.usable));
    if arguments.sheet.csv {
        sheet::print(shown.iter().map(|position| Line::of(&all[*position], found.as_ref(), *position)))?;
    } else if context.json {
        json::print(&Answer { disks: &disks, plans: &all, front: &front, recommendation: found.as_ref() })?;
    } else {
        table::show(&disks, &all, &shown, found.as_ref(), wishes.losses(&all));
    }
    if let Some(path) = &arguments.chart {
        let title = format!("{} disks, {} in all", disks.len(), size(disks.iter().map(|d| d.size).sum()));
        let chosen = found.as_ref().map(|r| r.position);
        let positions = without_doubles(&all, &shown, chosen);
        let drawn: Vec<Figures> = positions.iter().map(|position| all[*position].clone()).collect();
        let recommended = positions.iter().position(|position| Some(*position) == chosen);
        chart::plans(path, &arguments.look, &title, &drawn, recommended)?;
    }
    if let Some(path) = &arguments.save {
        let chosen = named.or(found.as_ref().map(|r| &all[r.position]));
        save::write_pool(path, &disks, chosen)?;
    }
    Ok(Outcome::well(found.is_some()))
}

fn plan_named<'a>(all: &'a [Figures], name: &str) -> Result<&'a Figures> {
    let mut to_build = all.iter().filter(|figures| !figures.is_for_comparison);
    to_build.clone().find(|figures| figures.name == name).ok_or_else(|| {
        let names: Vec<&str> = to_build.by_ref().map(|figures| figures.name.as_str()).collect();
        Error::new(Kind::Usage, "design.plan", suggest::unknown("plan", name, names))
            .remedy("zinc-sieve design --all names every plan of these disks")
    })
}

/// The plans to draw: of those that store and lose the same, one, and the one that is recommended before the others.
fn without_doubles(all: &[Figures], shown: &[usize], chosen: Option<usize>) -> Vec<usize> {
    let look = |position: usize| {
        let figures = &all[position];
        let losses = (figures.one_more.average.to_bits(), figures.one_more.worst.to_bits());
        (figures.plan.usable, figures.survives, losses)
    };
    let is_double = |place: usize| {
        let position = shown[place];
        let is_same = |other: &usize| *other != position && look(*other) == look(position);
        chosen != Some(position)
            && (chosen.is_some_and(|chosen| is_same(&chosen)) || shown[..place].iter().any(is_same))
    };
    (0..shown.len()).filter(|place| !is_double(*place)).map(|place| shown[place]).collect()
}

fn bytes(text: &str) -> Result<ByteLength> {
    ByteLength::parse(text).map_err(|e| Error::new(Kind::Usage, "design.size", e.to_string()))
}

fn rate(text: &str) -> Result<Rate> {
    Rate::parse(text).map_err(|e| Error::new(Kind::Usage, "design.rate", e.to_string()))
}
