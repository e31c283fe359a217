//! `ingest`: how fast copies will go in, and how large the cache must be.

use std::path::PathBuf;

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::files::settle;
use sieve_actions::measure::landings as measure;
use sieve_actions::measure::landings::Ground;
use sieve_core::ingest::{
    Copy, Day, DayError, FastArea, Landing, Network, copy, fill_through_a_day, parse_arrivals, parse_settles,
    wired, wireless,
};
use sieve_core::units::{ByteLength, Rate, SizeError};
use sieve_disk::{Error, Kind, Result};

use crate::commands::context::Context;

use crate::exit::Outcome;
use crate::human::{Table, size, style, units};
use crate::{chart, json, load};

json::named!("ingest", Answer<'_>);

/// What `ingest` works out.
#[derive(Args)]
pub(crate) struct IngestArguments {
    /// The stated rate of the link
    #[arg(long, value_name = "RATE", default_value = "1 Gbit/s")]
    pub(crate) link: String,
    /// The link is wireless
    #[arg(long)]
    pub(crate) wireless: bool,
    /// How fast the source gives its files
    #[arg(long, value_name = "RATE")]
    pub(crate) source: Option<String>,
    /// How much is copied
    #[arg(long, value_name = "SIZE", default_value = "100 GB")]
    pub(crate) amount: String,
    /// How large a file is on average
    #[arg(long, value_name = "SIZE", default_value = "50 MB")]
    pub(crate) file_size: String,
    /// The size of the cache; what does not fit goes on to the disks
    #[arg(long, value_name = "SIZE")]
    pub(crate) cache: Option<String>,
    /// The rate of the cache at first
    #[arg(long, value_name = "RATE")]
    pub(crate) cache_rate: Option<String>,
    /// What the fast area of the cache takes when it is empty; it is emptied at the sustained rate, and
    /// the fuller the cache, the less of it there is
    #[arg(long, value_name = "SIZE")]
    pub(crate) fast_area: Option<String>,
    /// The rate of the cache after that
    #[arg(long, value_name = "RATE")]
    pub(crate) sustained: Option<String>,
    /// The rate of the disks
    #[arg(long, value_name = "RATE")]
    pub(crate) disk_rate: Option<String>,
    /// What arrives every day: "22:00-02:00 200GB, 07:00-07:30 20GB"
    #[arg(long, value_name = "PATTERN")]
    pub(crate) arrivals: Option<String>,
    /// When the cache is settled: "every 2h" or "03:00, 15:00"
    #[arg(long, value_name = "TIMES", default_value = "03:00")]
    pub(crate) settle: String,
    /// Draw the cache through the day, as SVG or PNG
    #[arg(long, value_name = "FILE")]
    pub(crate) chart: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) look: chart::Look,
}

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// The network.
    network: &'a Network,
    /// A copy that lands on the cache.
    with_cache: &'a Copy,
    /// One that lands on the disks.
    without_cache: &'a Copy,
    /// How full the cache is through a day.
    day: Option<&'a Day>,
}

pub(crate) fn run(context: &Context, arguments: &IngestArguments) -> Result<Outcome> {
    let network = network(arguments)?;
    let source = arguments.source.as_deref().map(rate).transpose()?;
    let (amount, file) = (bytes(&arguments.amount)?, bytes(&arguments.file_size)?);
    let known = Known::of(context)?;
    let room = arguments.cache.as_deref().map(bytes).transpose()?.or(known.room);
    let (cache, disks) = (cache(arguments, &known)?, disks(arguments, &known)?);
    let with_cache = copy(amount, file, source, &network, &cache, room, Some(&disks));
    let without_cache = copy(amount, file, source, &network, &disks, None, None);
    let day = day(arguments, &disks, room)?;
    if context.json {
        let answer = Answer {
            network: &network,
            with_cache: &with_cache,
            without_cache: &without_cache,
            day: day.as_ref(),
        };
        json::print(&answer)?;
    } else {
        known.tell(arguments);
        show(&network, amount, &with_cache, &without_cache);
        if let Some(day) = &day {
            show_day(day, room);
        }
    }
    if let Some(path) = &arguments.chart {
        let Some(day) = &day else {
            let message = "a chart shows the cache through a day";
            return Err(
                Error::new(Kind::Usage, "ingest.no-day", message).remedy("add --arrivals and --settle")
            );
        };
        chart::day(path, &arguments.look, day, room)?;
    }
    let overflows = day.as_ref().is_some_and(|d| d.grows_without_end || d.overflows_at.is_some());
    Ok(Outcome::well(!overflows))
}

/// What the pool that is here says of itself, where there is one: arguments win over it.
#[derive(Default)]
struct Known {
    /// What the cache takes beside its reserve.
    room: Option<ByteLength>,
    /// The size of the cache, and what is free on it.
    drive: Option<(ByteLength, ByteLength)>,
    onto_cache: Option<Rate>,
    onto_disks: Option<Rate>,
}

impl Known {
    /// A pool file that was never made into a pool, or is none, has nothing to say.
    fn of(context: &Context) -> Result<Self> {
        let catalogue = sieve_pool::pool::catalogue_path(&context.pool);
        if !context.pool.exists() || !catalogue.exists() {
            return Ok(Self::default());
        }
        let pool = load::pool(&context.pool)?;
        let Ok(volume) = pool.volume(None) else { return Ok(Self::default()) };
        let measured = measure::known(&pool, &volume.name)?;
        let onto = |grounds: &[Ground]| {
            measured.iter().find(|figures| grounds.contains(&figures.landing)).map(|figures| figures.write)
        };
        let free = settle::cache_free(&pool, &volume)?;
        let room = free.minus(settle::cache_reserve(&pool, &volume)?);
        Ok(Self {
            room: volume.has_cache().then_some(room),
            drive: settle::cache_size(&pool, &volume)?.map(|size| (size, free)),
            onto_cache: onto(&[Ground::Cache, Ground::Fast]),
            onto_disks: onto(&[Ground::Disks, Ground::Slow]),
        })
    }

    /// Tells what the figures rest on.
    fn tell(&self, arguments: &IngestArguments) {
        if let Some(room) = self.room.filter(|_| arguments.cache.is_none()) {
            crate::say!("The cache of this pool takes {} beside its reserve.", size(room));
        }
        let rates = [
            (self.onto_cache, &arguments.cache_rate, "the cache"),
            (self.onto_disks, &arguments.disk_rate, "the disks"),
        ];
        for (rate, given, what) in rates {
            if let Some(rate) = rate.filter(|_| given.is_none()) {
                crate::say!("Measured here: {rate} onto {what}.");
            }
        }
    }
}

fn usage(error: &dyn std::fmt::Display) -> Error {
    Error::new(Kind::Usage, "ingest.arguments", error.to_string())
}

fn bytes(text: &str) -> Result<ByteLength> {
    ByteLength::parse(text).map_err(|e: SizeError| usage(&e))
}

fn rate(text: &str) -> Result<Rate> {
    Rate::parse(text).map_err(|e| usage(&e))
}

fn network(arguments: &IngestArguments) -> Result<Network> {
    let stated = rate(&arguments.link)?;
    Ok(if arguments.wireless { wireless(stated) } else { wired(stated) })
}

fn cache(arguments: &IngestArguments, known: &Known) -> Result<Landing> {
    let first = arguments.cache_rate.as_deref().map(rate).transpose()?.or(known.onto_cache);
    // A cache whose size is given is a new one, and empty.
    let given = arguments.cache.as_deref().map(bytes).transpose()?.map(|size| (size, size));
    let drive = given.or(known.drive);
    let fast_area = arguments.fast_area.as_deref().map(bytes).transpose()?;
    let fast_area = fast_area.map(|size| FastArea { size, drive });
    if fast_area.is_some() && arguments.sustained.is_none() {
        return Err(usage(&"a fast area says nothing without the rate of the cache once it is full")
            .remedy("add it: --sustained \"150 MB/s\""));
    }
    Ok(Landing::cache(first, fast_area, arguments.sustained.as_deref().map(rate).transpose()?))
}

fn disks(arguments: &IngestArguments, known: &Known) -> Result<Landing> {
    Ok(Landing::disks(arguments.disk_rate.as_deref().map(rate).transpose()?.or(known.onto_disks)))
}

fn day(arguments: &IngestArguments, disks: &Landing, room: Option<ByteLength>) -> Result<Option<Day>> {
    let Some(arrivals) = &arguments.arrivals else { return Ok(None) };
    let wrong = |e: DayError| usage(&e);
    let arrivals = parse_arrivals(arrivals).map_err(wrong)?;
    let settles = parse_settles(&arguments.settle).map_err(wrong)?;
    Ok(Some(fill_through_a_day(&arrivals, &settles, disks.sustained, room)))
}

fn show(network: &Network, amount: ByteLength, with: &Copy, without: &Copy) {
    crate::say!("{} over {} ({} of a file):\n", size(amount), network.name, units::rate(network.rate));
    let mut table = Table::new(&["landing", ">rate", ">time", "held up by"]);
    for (landing, copy) in [("cache", with), ("disks", without)] {
        table.row([
            landing.into(),
            units::rate(copy.rate),
            copy.duration.to_string(),
            copy.bottleneck.clone(),
        ]);
    }
    table.print();
    if with.stages.len() > 1 {
        crate::say!("\n  onto the cache, in parts:");
        for stage in &with.stages {
            crate::say!(
                "    {} at {}, held up by {}",
                size(stage.bytes),
                units::rate(stage.rate),
                stage.bottleneck
            );
        }
    }
}

fn show_day(day: &Day, room: Option<ByteLength>) {
    style::heading("The cache through a day");
    if day.grows_without_end {
        let text =
            "More arrives in a day than is settled in one: no cache is large enough. Settle more often.";
        crate::say!("  {}", style::paint(style::BAD, text));
        return;
    }
    crate::say!("  the smallest cache that does not overflow: {}", style::paint(style::HEAD, size(day.most)));
    let clock = |minute: f64| format!("{:02.0}:{:02.0}", (minute / 60.0).floor(), minute % 60.0);
    match (room, day.overflows_at) {
        (Some(room), Some(at)) => crate::say!(
            "  {}",
            style::paint(
                style::BAD,
                format!(
                    "a cache of {} is full at {}, for {} a day: what comes then goes to the disks",
                    size(room),
                    clock(at),
                    day.overflowing
                )
            )
        ),
        (Some(room), None) => {
            crate::say!("  {}", style::paint(style::WELL, format!("a cache of {} never fills", size(room))));
        }
        (None, _) => {}
    }
}
