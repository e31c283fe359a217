//! `design`: the ways to lay a volume over a set of disks, compared.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use sieve_core::design::{
    DesignDisk, Figures, Layout, Recommendation, Wishes, figures, parse_disk_table, parse_disks, plans,
    recommend,
};
use sieve_core::forecast::{Forecast, Link};
use sieve_core::ingest::Network;
use sieve_core::pool::Media;
use sieve_core::units::{ByteLength, Rate};
use sieve_store::curves::Curves;
use sieve_store::pool::home_folder;
use sieve_store::{Error, Kind, Result};

use super::Context;
use crate::args::Wish;
use crate::exit::Outcome;
use crate::human::{Table, size, style};
use crate::{chart, json, load};

/// What `design` compares.
#[derive(Args)]
pub(crate) struct DesignArguments {
    /// Hard disks, such as "12TB,10TB,2x6TB,4TB"; without any of these the disks of the pool file
    #[arg(long, value_name = "SIZES")]
    pub(crate) disks: Option<String>,
    /// SSDs beside them, such as "2x1TB"
    #[arg(long, value_name = "SIZES")]
    pub(crate) ssd: Option<String>,
    /// A table of disks, JSON or CSV: name, size, media, price
    #[arg(long, value_name = "FILE")]
    pub(crate) list: Option<PathBuf>,
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
    /// Draw usable space and losses side by side, as SVG or PNG
    #[arg(long, value_name = "FILE")]
    pub(crate) chart: Option<PathBuf>,
    /// Write the recommended plan as a new pool file, on paper
    #[arg(long, value_name = "FILE")]
    pub(crate) write: Option<PathBuf>,
}

#[derive(Serialize)]
struct Answer<'a> {
    disks: &'a [DesignDisk],
    plans: &'a [Figures],
    recommendation: Option<&'a Recommendation>,
}

pub(super) fn run(context: &Context, arguments: &DesignArguments) -> Result<Outcome> {
    let disks = disks(context, arguments)?;
    let network = Network { name: "the network".into(), rate: rate(&arguments.network)? };
    let additions = arguments.add.iter().map(|text| bytes(text)).collect::<Result<Vec<_>>>()?;
    let all: Vec<Figures> =
        plans(&disks).iter().map(|plan| figures(plan, &disks, &network, &additions)).collect();
    if all.is_empty() {
        let message = "no volume can be laid over these disks";
        return Err(Error::new(Kind::Usage, "design.no-plan", message).remedy("name at least two disks"));
    }
    let wishes = Wishes { want: arguments.want.map(Into::into), survive: arguments.survive };
    let found = recommend(&all, wishes);
    if context.json {
        json::print(&Answer { disks: &disks, plans: &all, recommendation: found.as_ref() })?;
    } else {
        show(&disks, &all, found.as_ref(), wishes.losses(&all));
    }
    if let Some(path) = &arguments.chart {
        let title = format!("{} disks, {} in all", disks.len(), size(disks.iter().map(|d| d.size).sum()));
        chart::save(path, |canvas| chart::design::draw(canvas, &title, &all))?;
    }
    if let Some(path) = &arguments.write {
        let chosen = found.as_ref().map(|r| &all[r.position]);
        write_pool(path, &disks, chosen)?;
    }
    Ok(Outcome::well(found.is_some()))
}

/// The disks that are named; else those of a table; else those of the pool file.
fn disks(context: &Context, arguments: &DesignArguments) -> Result<Vec<DesignDisk>> {
    let usage = |e: &dyn std::fmt::Display| Error::new(Kind::Usage, "design.disks", e.to_string());
    let mut disks = Vec::new();
    if let Some(text) = &arguments.disks {
        disks.extend(parse_disks(text, Media::Hdd).map_err(|e| usage(&e))?);
    }
    if let Some(text) = &arguments.ssd {
        disks.extend(parse_disks(text, Media::Ssd).map_err(|e| usage(&e))?);
    }
    if let Some(path) = &arguments.list {
        let text = std::fs::read_to_string(path).map_err(|e| Error::io("design.list", path, e))?;
        let read = parse_disk_table(&text);
        disks.extend(read.map_err(|e| usage(&format!("{}: {e}", path.display())))?);
    }
    if !disks.is_empty() {
        return Ok(disks);
    }
    let spec = load::spec(&context.pool)?;
    let machine = crate::machine::real();
    let curves = Curves::read(&*machine.open_disk(home_folder(&context.pool))?)?;
    let known = spec.disks.iter().filter_map(|disk| {
        let there = disk.path.as_ref().and_then(|path| machine.open_disk(Path::new(path)).ok());
        let filesystem = there.and_then(|d| d.filesystem().ok());
        let space = sieve_store::member::usable_bytes(Some(disk), filesystem.as_ref());
        let mut designed = DesignDisk::of_spec(disk, space)?;
        designed.curve = curves.of(Some(disk), filesystem.as_ref().map(|f| &f.id));
        let link = spec.links.iter().find(|l| Some(&l.name) == disk.link.as_ref());
        designed.link = link.map(|l| Link { name: l.name.clone(), rate: l.rate });
        Some(designed)
    });
    Ok(known.collect())
}

fn bytes(text: &str) -> Result<ByteLength> {
    ByteLength::parse(text).map_err(|e| Error::new(Kind::Usage, "design.size", e.to_string()))
}

fn rate(text: &str) -> Result<Rate> {
    Rate::parse(text).map_err(|e| Error::new(Kind::Usage, "design.rate", e.to_string()))
}

fn show(disks: &[DesignDisk], all: &[Figures], found: Option<&Recommendation>, survive: usize) {
    let listed: Vec<String> = disks.iter().map(|d| format!("{} {}", d.name, size(d.size))).collect();
    crate::say!("{} disks: {}\n", disks.len(), listed.join(", "));
    let mut table = Table::new(&[
        "",
        "plan",
        ">usable",
        ">of raw",
        ">given up",
        ">may die",
        ">loses",
        ">worst",
        ">writes",
        ">reads",
        ">sync",
        ">rebuild",
        ">per TB",
    ]);
    for (position, f) in all.iter().enumerate() {
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
            f.disks_given_up.to_string(),
            f.survives.to_string(),
            percent(f.one_more.average),
            percent(f.one_more.worst),
            f.write.rate.to_string(),
            f.read.rate.to_string(),
            hours(f.first_sync.as_ref()),
            hours(f.rebuild.as_ref()),
            f.price_per_tb.as_ref().map_or("-".into(), |(price, currency)| format!("{price:.0} {currency}")),
        ];
        table.styled_row(cells.map(|cell| (cell, style)));
    }
    table.leave_blanks_out();
    table.print();
    crate::say!(
        "\n  Usable space, its share of all, and how many disks are given up for it; how many may\n  die with nothing lost; what is lost when one more dies, on average and at worst."
    );
    crate::say!("  † compared only: this program does not build it");
    show_bottlenecks(all);
    crate::say!("  Hours are likely ones; if the disks are busy besides, count on 40 % more.");
    show_additions(all);
    match found {
        Some(r) => {
            crate::say!("\n{}", style::paint(style::HEAD, format!("Recommended: {}", all[r.position].name)));
            r.reasons.iter().for_each(|reason| crate::say!("  - {reason}"));
        }
        None => crate::say!(
            "\n{}",
            style::paint(style::WATCH, format!("No plan survives the loss of {survive} disks."))
        ),
    }
}

/// What holds the plans up, each thing once.
fn show_bottlenecks(all: &[Figures]) {
    let mut held: BTreeMap<(&str, &str), Vec<&str>> = BTreeMap::new();
    for figures in all {
        let causes = (figures.write.bottleneck.as_str(), figures.read.bottleneck.as_str());
        held.entry(causes).or_default().push(&figures.name);
    }
    crate::say!("  Speeds are one client's, with large files. What holds them up:");
    let everything = held.len() == 1;
    for ((write, read), plans) in held {
        let who = if everything { "every plan".into() } else { plans.join(", ") };
        match write == read {
            true => crate::say!("    {write}: {who}"),
            false => crate::say!("    {write} (writes), {read} (reads): {who}"),
        }
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

fn show_additions(all: &[Figures]) {
    let Some(sizes) = all.first().map(|f| f.additions.len()).filter(|n| *n > 0) else { return };
    for number in 0..sizes {
        let added = all[0].additions[number].size;
        style::heading(&format!("One more disk of {} would bring", size(added)));
        let mut table = Table::new(&["plan", ">more space", ""]);
        for f in all.iter().filter(|f| f.plan.cache.is_empty()) {
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
    for index in chosen.plan.data.iter().chain(&chosen.plan.parity).chain(&chosen.plan.cache) {
        let disk = &disks[*index];
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
    let names =
        |of: &[usize]| of.iter().map(|i| format!("\"{}\"", disks[*i].name)).collect::<Vec<_>>().join(", ");
    let kind = match chosen.plan.layout {
        Layout::Spanned => "spanned",
        Layout::MirroredPairs => "mirrored",
        Layout::Tiered => "tiered",
        Layout::Unstriped { .. } | Layout::RotatingParity { .. } => "unstriped",
    };
    let is_fast = |index: &usize| kind == "tiered" && disks[*index].media != Media::Hdd;
    let fast: Vec<usize> = chosen.plan.data.iter().copied().filter(is_fast).collect();
    text +=
        &format!("\n[[volume]]\nname = \"main\"\nkind = \"{kind}\"\ndata = [{}]\n", names(&chosen.plan.data));
    for (key, of) in [("parity", &chosen.plan.parity), ("cache", &chosen.plan.cache), ("fast", &fast)] {
        if !of.is_empty() {
            text += &format!("{key} = [{}]\n", names(of));
        }
    }
    if chosen.plan.cache.len() > 1 {
        // What waits on the cache is to survive as much as the rest.
        text += "cache_copies = 2\n";
    }
    create_new(path, text.as_bytes())?;
    crate::say_aside!("Written: {}", path.display());
    Ok(())
}

/// Writes a file that does not exist yet: nobody's pool file is overwritten.
fn create_new(path: &Path, bytes: &[u8]) -> Result<()> {
    let made =
        std::fs::File::create_new(path).and_then(|mut file| std::io::Write::write_all(&mut file, bytes));
    made.map_err(|e| {
        let mut error = Error::io("design.write", path, e);
        error.kind = Kind::Conflict;
        error.remedy("name a file that does not exist yet")
    })
}
