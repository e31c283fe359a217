//! `design`: the ways to lay a volume over a set of disks, compared.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::design::{
    DesignDisk, Figures, Layout, PlannedVolume, Recommendation, Speed, Wishes, figures, front,
    parse_disk_table, parse_disks, plans, recommend,
};
use sieve_core::forecast::{Forecast, Link};
use sieve_core::ingest::Network;
use sieve_core::pool::{Media, VolumeKind};
use sieve_core::suggest;
use sieve_core::units::{ByteLength, Rate};
use sieve_disk::inventory::{Found, from_folder, from_system};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::Curves;
use sieve_pool::pool::home_folder;

use crate::args::{Documents, Wish};
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, odds, size, style, units};
use crate::sheet::{self, SheetArguments};
use crate::{chart, json, load, new_file};

json::named!("design", Answer<'_>);

/// What `design` compares.
#[derive(Args)]
pub(crate) struct DesignArguments {
    /// Hard disks, such as "12TB,10TB,2x6TB,4TB"; without any of these the disks of the pool file
    #[arg(long, value_name = "SIZES")]
    pub(crate) hdd: Option<String>,
    /// SSDs beside them, such as "2x1TB"
    #[arg(long, value_name = "SIZES")]
    pub(crate) ssd: Option<String>,
    /// A table of disks, JSON or CSV: name, size, media, price
    #[arg(long, value_name = "FILE")]
    pub(crate) table: Option<PathBuf>,
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
    #[command(flatten)]
    pub(crate) from: Documents,
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
            currency: figures.price_per_tb.as_ref().map(|price| price.currency.as_str()),
        }
    }
}

pub(crate) fn run(context: &Context, arguments: &DesignArguments) -> Result<Outcome> {
    let disks = disks(context, arguments)?;
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
        show(&disks, &all, &shown, found.as_ref(), wishes.losses(&all));
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
        write_pool(path, &disks, chosen)?;
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

/// The disks that are named; else those of a table; else those of the pool file.
fn disks(context: &Context, arguments: &DesignArguments) -> Result<Vec<DesignDisk>> {
    let usage = |e: &dyn std::fmt::Display| Error::new(Kind::Usage, "design.disks", e.to_string());
    let mut disks = Vec::new();
    if let Some(text) = &arguments.hdd {
        disks.extend(parse_disks(text, Media::Hdd).map_err(|e| usage(&e))?);
    }
    if let Some(text) = &arguments.ssd {
        disks.extend(parse_disks(text, Media::Ssd).map_err(|e| usage(&e))?);
    }
    if let Some(path) = &arguments.table {
        let text = std::fs::read_to_string(path).map_err(|e| Error::io("design.table", path, e))?;
        let read = parse_disk_table(&text);
        disks.extend(read.map_err(|e| usage(&format!("{}: {e}", path.display())))?);
    }
    if !disks.is_empty() {
        return Ok(disks);
    }
    if arguments.from.from.is_some() || !context.pool.exists() {
        return of_the_machine(arguments.from.from.as_deref());
    }
    let spec = load::spec(&context.pool)?;
    let machine = crate::machine::real();
    let curves = Curves::read(&*machine.open_disk(home_folder(&context.pool))?)?;
    let known = spec.disks.iter().filter_map(|disk| {
        let there = disk.path.as_ref().and_then(|path| machine.open_disk(Path::new(path)).ok());
        let filesystem = there.and_then(|d| d.filesystem().ok());
        let space = sieve_pool::member::usable_bytes(Some(disk), filesystem.as_ref());
        let mut designed = DesignDisk::of_spec(disk, space)?;
        designed.curve = curves.of(Some(disk), filesystem.as_ref().map(|f| &f.id));
        let link = spec.links.iter().find(|l| Some(&l.name) == disk.link.as_ref());
        designed.link = link.map(|l| Link { name: l.name.clone(), rate: l.rate });
        Some(designed)
    });
    Ok(known.collect())
}

/// The disks of this machine, but for the one that carries the system.
fn of_the_machine(from: Option<&Path>) -> Result<Vec<DesignDisk>> {
    let inventory = from.map_or_else(from_system, from_folder)?;
    let disk = |found: &Found| {
        let size = found.device.size.or(found.smart.as_ref().and_then(|s| s.size))?;
        let media = found.device.media.unwrap_or(Media::Hdd);
        Some(DesignDisk::on_paper(&found.device.name, size, media))
    };
    let disks = inventory.disks.iter().filter(|found| !found.device.carries_the_system());
    Ok(disks.filter_map(disk).collect())
}

fn bytes(text: &str) -> Result<ByteLength> {
    ByteLength::parse(text).map_err(|e| Error::new(Kind::Usage, "design.size", e.to_string()))
}

fn rate(text: &str) -> Result<Rate> {
    Rate::parse(text).map_err(|e| Error::new(Kind::Usage, "design.rate", e.to_string()))
}

fn show(
    disks: &[DesignDisk],
    all: &[Figures],
    shown: &[usize],
    found: Option<&Recommendation>,
    survive: usize,
) {
    show_choice(all, found, survive);
    let listed: Vec<String> = disks.iter().map(|d| format!("{} {}", d.name, size(d.size))).collect();
    crate::say!("\n{} disks: {}\n", disks.len(), suggest::listed(listed.iter().map(String::as_str)));
    show_table(all, shown, found);
    crate::say!(
        "\n  Usable space, and its share of all; how many disks may die with nothing lost; how likely it is to lose anything in a year by disks that fail; what is lost when one more dies, on average and at worst."
    );
    let shown: Vec<&Figures> = shown.iter().map(|position| &all[*position]).collect();
    if shown.iter().any(|f| f.is_for_comparison) {
        crate::say!("  † compared only: this program does not build it");
    }
    if shown.len() < all.len() {
        crate::say!(
            "  beaten in everything by one of these, or compared only: {} more (--all)",
            all.len() - shown.len()
        );
    }
    show_bottlenecks(&shown);
    crate::say!("  Hours are likely ones; if the disks are busy besides, count on 40 % more.");
    show_additions(&shown);
}

fn show_choice(all: &[Figures], found: Option<&Recommendation>, survive: usize) {
    match found {
        Some(r) => {
            let chosen = &all[r.position];
            crate::answer!(
                "{}: {} usable, {} may die with nothing lost",
                style::paint(style::HEAD, format!("Recommended: {}", chosen.name)),
                size(chosen.plan.usable),
                units::disks(chosen.survives as u64)
            );
            r.reasons.iter().for_each(|reason| crate::say!("  - {reason}"));
        }
        None => crate::answer!(
            "{}",
            style::paint(style::WATCH, format!("No plan survives the loss of {survive} disks."))
        ),
    }
}

/// The plans side by side.
fn show_table(all: &[Figures], shown: &[usize], found: Option<&Recommendation>) {
    let mut table = Table::new(&[
        "",
        "plan",
        ">usable",
        "???>of raw",
        ">may die",
        "?>loss a year",
        "?>loses",
        "??>worst",
        ">writes",
        "??>reads",
        ">sync",
        ">rebuild",
        "?>per TB",
    ]);
    for (position, f) in shown.iter().map(|position| (*position, &all[*position])) {
        let chosen = found.is_some_and(|r| r.position == position);
        let percent = |share: f64| format!("{:.0} %", share * 100.0);
        let style = match (chosen, f.is_for_comparison) {
            (true, _) => style::WELL,
            (false, true) => style::FAINT,
            (false, false) => anstyle::Style::new(),
        };
        let cells = [
            if chosen { "→" } else { "" }.to_string(),
            format!("{}{}", f.name, mark(f)),
            size(f.plan.usable),
            percent(f.share_of_raw),
            f.survives.to_string(),
            odds(f.risk.any_in_a_year).replace("about ", "").replace("less than", "<"),
            percent(f.one_more.average),
            percent(f.one_more.worst),
            speed(&f.write),
            speed(&f.read),
            hours(f.first_sync.as_ref()),
            hours(f.rebuild.as_ref()),
            f.price_per_tb
                .as_ref()
                .map_or("-".into(), |price| format!("{:.0} {}", price.amount(), price.currency)),
        ];
        table.styled_row(cells.map(|cell| (cell, style)));
    }
    table.leave_blanks_out();
    table.print();
}

/// What holds the plans up, each thing once.
fn show_bottlenecks(all: &[&Figures]) {
    let mut held: BTreeMap<(&str, &str), Vec<&str>> = BTreeMap::new();
    for figures in all {
        let causes = (figures.write.bottleneck.as_str(), figures.read.bottleneck.as_str());
        held.entry(causes).or_default().push(&figures.name);
    }
    crate::say!(
        "  Speeds are one client's, with large files; in brackets what the disks alone would do. What holds them up:"
    );
    let everything = held.len() == 1;
    for ((write, read), plans) in held {
        let who = if everything { "every plan".into() } else { plans.join(", ") };
        match write == read {
            true => crate::say!("    {write}: {who}"),
            false => crate::say!("    {write} (writes), {read} (reads): {who}"),
        }
    }
}

/// What arrives; where the network holds it up, in brackets what the disks alone would do, in the same unit.
fn speed(speed: &Speed) -> String {
    let told = units::rate(speed.rate);
    match (speed.rate == speed.disks, told.split_once(' ')) {
        (false, Some((_, unit))) => {
            let disks = units::rate(speed.disks);
            format!("{told} ({})", disks.strip_suffix(&format!(" {unit}")).unwrap_or(&disks))
        }
        _ => told,
    }
}

fn hours(forecast: Option<&Forecast>) -> String {
    match forecast.map(|f| f.likely) {
        None => "-".into(),
        Some(likely) if likely.hours() >= 2.0 => format!("{:.0} h", likely.hours()),
        Some(likely) => likely.to_string(),
    }
}

const fn mark(figures: &Figures) -> &'static str {
    if figures.is_for_comparison { " †" } else { "" }
}

fn show_additions(all: &[&Figures]) {
    let Some(sizes) = all.first().map(|f| f.additions.len()).filter(|n| *n > 0) else { return };
    for number in 0..sizes {
        let added = all[0].additions[number].size;
        style::heading(&format!("One more disk of {} would bring", size(added)));
        let mut table = Table::new(&["plan", ">more space", ""]);
        for f in all.iter().filter(|f| f.plan.caches().next().is_none()) {
            let addition = &f.additions[number];
            let condition = addition.condition.clone().unwrap_or_default();
            table.row([f.name.clone(), size(addition.gain), condition]);
        }
        table.print();
    }
}

/// A pool file on paper for the chosen plan.
fn write_pool(path: &Path, disks: &[DesignDisk], chosen: Option<&Figures>) -> Result<()> {
    let Some(chosen) = chosen else {
        return Err(Error::new(Kind::Usage, "design.no-plan", "there is no plan to write"));
    };
    let mut text =
        format!("# {}: give each disk its path when it is there.\n[pool]\nname = \"pool\"\n", chosen.name);
    let media = |m: Media| match m {
        Media::Hdd => "hdd",
        Media::Ssd => "ssd",
        Media::Nvme => "nvme",
    };
    for index in chosen.plan.members().chain(chosen.plan.caches()) {
        let disk = &disks[index];
        text += &format!(
            "\n[[disk]]\nname = \"{}\"\ncapacity = \"{} B\"\nmedia = \"{}\"\n",
            disk.name,
            disk.size.exact(),
            media(disk.media)
        );
        if let Some(price) = &disk.price {
            text += &format!("price = \"{price}\"\n");
        }
    }
    for (number, volume) in chosen.plan.volumes.iter().enumerate() {
        text += &volume_text(number, volume, disks);
    }
    new_file::write(path, &text, "design.write")?;
    crate::say_aside!("Written: {}", path.display());
    Ok(())
}

/// A volume of a pool file; the first is the main one.
fn volume_text(number: usize, volume: &PlannedVolume, disks: &[DesignDisk]) -> String {
    let kind = match volume.layout {
        Layout::Spanned => VolumeKind::Spanned,
        Layout::Mirrored { .. } => VolumeKind::Mirrored,
        Layout::Tiered { .. } => VolumeKind::Tiered,
        Layout::Unstriped { .. } | Layout::RotatingParity { .. } => VolumeKind::Unstriped,
    };
    let is_fast = |index: &usize| kind == VolumeKind::Tiered && disks[*index].media != Media::Hdd;
    let fast: Vec<usize> = volume.data.iter().copied().filter(is_fast).collect();
    let name = match (number, kind) {
        (0, _) => "main",
        (_, VolumeKind::Mirrored) => "mirror",
        _ => "second",
    };
    let mut text = format!("\n[[volume]]\nname = \"{name}\"\nkind = \"{}\"\n", kind.word());
    let disks_of =
        [("data", &volume.data), ("parity", &volume.parity), ("cache", &volume.cache), ("fast", &fast)];
    for (key, of) in disks_of.into_iter().filter(|(_, of)| !of.is_empty()) {
        let names: Vec<String> = of.iter().map(|i| format!("\"{}\"", disks[*i].name)).collect();
        text += &format!("{key} = [{}]\n", names.join(", "));
    }
    if volume.cache.len() > 1 {
        // What waits on the cache is to survive as much as the rest.
        text += "cache_copies = 2\n";
    }
    text
}
