//! `burn-in`: a full write-and-read pass before a disk holds anything.

use std::path::{Path, PathBuf};

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::measure::burn_in::{
    Report, Request, amount as amount_of, forecast, overwrites, run as burn,
};
use sieve_core::count::so_many;
use sieve_core::forecast::{CurveSource, Forecast, default_curve};
use sieve_core::inventory::Device;
use sieve_core::units::{ByteLength, Rate};
use sieve_disk::inventory::devices_of_system;
use sieve_disk::{Filesystem, Result};
use sieve_pool::curves::{Curves, Measured};
use sieve_pool::pool::home_folder;

use crate::args::Consent;
use crate::commands::context::{Context, size_argument};
use crate::commands::protect::sync::is_over_in_a_moment;
use crate::exit::Outcome;
use crate::human::{Table, place, size, style, units};
use crate::progress::Watch;
use crate::{confirm, json, machine};

json::named!("burn-in", Report);

/// What a burn-in would do.
#[derive(Serialize, JsonSchema)]
struct Plan<'a> {
    /// The folder, image or device.
    path: &'a Path,
    /// What is there is overwritten; else free space is filled.
    overwrites: bool,
    /// How much is written, and read back.
    bytes: ByteLength,
    /// The disk that it lies on, where the machine tells.
    device: Option<&'a Device>,
    /// How long that takes.
    forecast: Forecast,
    /// Nobody has measured or said how fast the disk is: the forecast takes it for such a disk.
    assumed: Option<&'static str>,
}
json::named!("burn-in-plan", Plan<'_>);

/// What is written to.
#[derive(Args)]
pub(crate) struct BurnInArguments {
    /// A folder, whose free space is filled; or an image or a device, which is overwritten
    pub(crate) path: PathBuf,
    /// At most so much
    #[arg(long, value_name = "SIZE")]
    pub(crate) amount: Option<String>,
    /// The name of the image or device, typed out: everything on it is destroyed
    #[arg(long, value_name = "NAME")]
    pub(crate) overwrite: Option<String>,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: &BurnInArguments) -> Result<Outcome> {
    let BurnInArguments { path, amount, overwrite, consent } = arguments;
    let amount = amount.as_deref().map(size_argument).transpose()?;
    let request = &Request { path: path.clone(), amount, overwrite: overwrite.clone() };
    let overwrites = overwrites(request)?;
    let devices = devices_of_system().unwrap_or_default();
    let plan = plan(context, request, overwrites, &devices)?;
    if !context.json {
        show_plan(request, &plan);
    }
    if !confirm::go_on(*consent, "Begin?")? {
        if context.json {
            json::print(&plan)?;
        }
        return Ok(Outcome::Fine);
    }
    let machine = machine::real();
    let report = burn(request, machine.random(), &Watch::begin(false)?)?;
    if !report.interrupted && request.path.is_dir() {
        let filesystem = machine.open_disk(&request.path)?.filesystem()?;
        let points = of_the_whole(&report, &filesystem);
        let measured = Measured { filesystem: filesystem.id, at: machine.now(), points };
        Curves::keep(&*machine.open_disk(home_folder(&context.pool))?, measured)?;
    }
    if context.json {
        json::print(&report)?;
    } else {
        show(&report);
    }
    Ok(match () {
        () if report.interrupted => Outcome::Failed,
        () => Outcome::well(report.bad.is_empty()),
    })
}

fn plan<'a>(
    context: &Context,
    request: &'a Request,
    overwrites: bool,
    devices: &'a [Device],
) -> Result<Plan<'a>> {
    let bytes = amount_of(request)?;
    // A help and no more: where the machine does not tell, it is left out.
    let device = devices.iter().find(|device| is_meant(device, &request.path, overwrites));
    let machine = machine::real();
    let filesystem = match overwrites {
        true => None,
        false => Some(machine.open_disk(&request.path)?.filesystem()?),
    };
    let home = machine.open_disk(home_folder(&context.pool))?;
    let known = Curves::read(&*home)?.of(None, filesystem.as_ref().map(|filesystem| &filesystem.id));
    let curve = match known.source() {
        CurveSource::Measured { .. } => known,
        _ => default_curve(device.and_then(|device| device.media)),
    };
    let assumed = match curve.source() {
        CurveSource::Assumed { grounds } => Some(*grounds),
        _ => None,
    };
    let space = filesystem.map_or(bytes, |filesystem| filesystem.total);
    Ok(Plan {
        path: &request.path,
        overwrites,
        bytes,
        device,
        forecast: forecast(bytes, space, &curve),
        assumed,
    })
}

/// Whether the path is the device itself, or a folder that it is mounted at.
fn is_meant(device: &Device, path: &Path, overwrites: bool) -> bool {
    let place = path.canonicalize().unwrap_or_else(|_| path.to_path_buf());
    if overwrites {
        return place == Path::new("/dev").join(&device.name);
    }
    device.mount_points().any(|at| Path::new(at) == place)
}

fn show_plan(request: &Request, plan: &Plan<'_>) {
    crate::say!("{}", intention(request, plan.overwrites));
    if let Some(device) = plan.device {
        crate::say!("The disk: {}.", place::of_device(device));
    }
    if is_over_in_a_moment(&plan.forecast) {
        return;
    }
    let grounds = plan.assumed.map_or(String::new(), |grounds| format!(", if it is {grounds}"));
    crate::say!(
        "{} are written and read: it is likely to take {}, cautiously {}{grounds}.",
        size(plan.bytes),
        plan.forecast.likely,
        plan.forecast.cautious
    );
}

/// The curve of what was read as a part of that of the whole disk: filesystems give out their space from its start on.
fn of_the_whole(report: &Report, filesystem: &Filesystem) -> Vec<(f64, Rate)> {
    let total = filesystem.total.exact().max(1) as f64;
    let used = filesystem.total.minus(filesystem.available).exact() as f64;
    let part = report.bytes.exact() as f64;
    report.read_curve.iter().map(|(share, rate)| (((used + share * part) / total).min(1.0), *rate)).collect()
}

fn intention(request: &Request, overwrites: bool) -> String {
    let (path, amount) = (request.path.display(), request.amount.map(size));
    if overwrites {
        let what = amount.map_or_else(String::new, |amount| format!("the first {amount} of "));
        return format!("Burn-in OVERWRITES {what}{path} and reads it back. What is there now is lost.");
    }
    let what = amount.unwrap_or_else(|| "all free space".into());
    format!("Burn-in fills {what} below {path} and reads it back. Existing files are not touched.")
}

fn show(report: &Report) {
    if report.interrupted {
        crate::answer!(
            "\n{}",
            style::paint(style::WATCH, "Broken off; what was written is taken away again.")
        );
        return;
    }
    let resumed = match report.resumed.exact() {
        0 => String::new(),
        _ => format!(" ({} of it by an earlier run)", size(report.resumed)),
    };
    crate::say!("\n{} written{resumed} and read back.", size(report.bytes));
    if !report.from_the_medium {
        crate::say!(
            "{}",
            style::paint(
                style::WATCH,
                "This filesystem does not let the page cache be passed by: some reads may not have reached the medium."
            )
        );
    }
    for bad in report.bad.iter().take(20) {
        let place = bad.on_device.map_or(String::new(), |at| format!(", byte {at} of the device"));
        crate::say!(
            "{} {} from byte {} of what was written{place}: {}",
            style::paint(style::BAD, "bad"),
            size(ByteLength::new(bad.length)),
            bad.offset,
            bad.what
        );
    }
    if report.bad.len() > 20 {
        crate::say!("  and {} more (all with --json)", report.bad.len() - 20);
    }
    let mut table = Table::new(&["at", ">writes", ">reads"]);
    let rate = |curve: &[(f64, Rate)], share: f64| {
        let near = curve.iter().min_by(|a, b| (a.0 - share).abs().total_cmp(&(b.0 - share).abs()));
        near.map_or("-".into(), |(_, rate)| units::rate(*rate))
    };
    for (place, share) in [("start", 0.0), ("middle", 0.5), ("end", 1.0)] {
        table.row([place.into(), rate(&report.write_curve, share), rate(&report.read_curve, share)]);
    }
    crate::say!();
    table.print();
    if report.bad.is_empty() {
        crate::answer!("\n{}", style::paint(style::WELL, "Everything came back as it was written."));
    } else {
        let places = so_many(report.bad.len() as u64, "place");
        crate::answer!(
            "\n{}",
            style::paint(style::BAD, format!("Not what was written came back in {places}."))
        );
    }
}
