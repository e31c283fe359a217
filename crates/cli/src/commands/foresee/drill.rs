//! `drill`: a prediction proven, without a loss.

use std::path::{Path, PathBuf};

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::guard::drill::{Report, drill, forecast as drill_forecast};
use sieve_catalogue::proofs;
use sieve_catalogue::proofs::Proof;
use sieve_disk::Result;
use sieve_foresight::paper;
use sieve_foresight::status;
use sieve_pool::pool::Pool;

use crate::args::RestraintArguments;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{size, style, time, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("drill", Answer<'_>);

/// So many surprises are listed.
const LISTED: usize = 20;

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    #[serde(flatten)]
    report: &'a Report,
    /// Everything was read, and came out as predicted.
    proven: bool,
}

/// What is taken to be lost.
#[derive(Args)]
pub(crate) struct DrillArguments {
    /// The disks that are taken to be lost
    #[arg(long, required_unless_present = "practice", value_name = "NAME", value_delimiter = ',', add = crate::complete::disks())]
    pub(crate) lose: Vec<String>,
    /// Make a small pool like yours in this new folder, with made-up files, to rehearse the failure on
    #[arg(long, value_name = "DIR", conflicts_with = "share")]
    pub(crate) practice: Option<PathBuf>,
    /// Look at this share of the files only: quick, and no proof
    #[arg(long, value_name = "SHARE")]
    pub(crate) share: Option<String>,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
}

pub(crate) fn run(context: &Context, arguments: &DrillArguments) -> Result<Outcome> {
    let DrillArguments { lose, practice, share, restraint } = arguments;
    if let Some(dir) = practice {
        return practise(context, dir, lose);
    }
    let sample = share
        .as_deref()
        .map(|text| crate::commands::context::share(text, "drill.share", "--share"))
        .transpose()?;
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(restraint, &mut pool);
    sieve_actions::begin_long(&mut pool, "drill")?;
    if !context.json {
        announce(&pool, lose)?;
    }
    let report = drill(&pool, lose, sample, &Watch::begin(restraint.events)?)?;
    if context.json {
        json::print(&Answer { report: &report, proven: report.is_proven() })?;
    } else {
        show(&report);
    }
    Ok(Outcome::well(report.is_as_predicted() && report.predicted.all_survive()))
}

/// Makes a pool to rehearse on, like the one of the pool file.
fn practise(context: &Context, dir: &Path, lose: &[String]) -> Result<Outcome> {
    let now = crate::machine::real().now();
    let (spec, disks) = match load::spec_on_paper(&context.pool, false)? {
        Some(spec) => {
            let disks = paper::load(&spec, None, None)?.status(&spec, now)?.disks;
            (spec, disks)
        }
        None => {
            let pool = load::pool(&context.pool)?;
            let disks = status::disks(&pool)?;
            (pool.spec, disks)
        }
    };
    crate::demo::practice(dir, &spec, &disks, lose, context.json)
}

/// Says how long it is likely to take, and when it was last proven.
fn announce(pool: &Pool, lose: &[String]) -> Result<()> {
    let forecast = drill_forecast(pool, lose)?;
    let read = forecast.read_bytes.total();
    crate::say!(
        "Reads up to {} from {}: likely {}, cautiously {}.",
        size(read),
        units::disks(forecast.read_bytes.len() as u64),
        forecast.duration.likely,
        forecast.duration.cautious
    );
    let proofs = proofs::all(pool.catalogue.reading())?;
    match proofs.iter().find(|proof| proof.lost == lose) {
        Some(proof) => crate::say!("{}\n", proof_words(proof, pool.machine.now())),
        None => crate::say!("{}: never proven so far\n", lose.join(" and ")),
    }
    Ok(())
}

/// "cedar: last proven 12 days ago, 41,203 files, all as predicted".
pub(crate) fn proof_words(proof: &Proof, now: i64) -> String {
    let what = match proof.files {
        0 => units::parity_cells(proof.parity_cells),
        files => units::files(files),
    };
    format!(
        "{}: last proven {}, {what}, all as predicted",
        proof.lost.join(" and "),
        time::ago(proof.at, now)
    )
}

fn show(report: &Report) {
    let read = report.read_bytes.total();
    if report.stopped {
        let text = "Stopped: nothing is proven, and nothing contradicted.";
        crate::answer!("{}", style::paint(style::WATCH, text));
        return;
    }
    crate::say!(
        "{} taken to be lost: {} reconstructed from the other disks alone.\n{} read; each cell compared with its checksum.\n",
        report.lost.join(" and "),
        units::files(report.files()),
        size(read)
    );
    crate::commands::repair::rebuild::show_comparison(&report.predicted, &report.obtained);
    for (cells, what) in [
        (report.parity_cells, "computed anew, and as on the disk"),
        (report.parity_cells_wrong, "computed anew, and not as on the disk"),
        (report.parity_cells_lost, "not to be computed, since other disks of their rows are lost as well"),
    ] {
        if cells > 0 {
            crate::say!("\n{} {what}.", units::parity_cells(cells));
        }
    }
    for surprise in report.surprises.iter().take(LISTED) {
        crate::say!(
            "{} {}:{} was to be {} and is {}",
            style::paint(style::BAD, "surprise"),
            surprise.disk,
            surprise.path,
            surprise.predicted.word(),
            surprise.obtained.word()
        );
    }
    if report.surprises.len() > LISTED {
        crate::say!("  and {} more (all with --json)", report.surprises.len() - LISTED);
    }
    for damage in report.damage.iter().take(LISTED) {
        crate::say!("{} {damage}", style::paint(style::BAD, "damage on a survivor:"));
    }
    let verdict = match () {
        () if report.has_nothing_to_prove() => {
            style::paint(style::WATCH, "Parity has nothing of what would be lost: there is nothing to prove.")
        }
        () if !report.is_as_predicted() => {
            style::paint(style::BAD, "Not as predicted. `zinc-sieve verify` names and remembers damage.")
        }
        () if report.sample.is_some() => style::paint(style::WATCH, "A sample, all as predicted: no proof."),
        () if report.is_proven() => style::paint(style::WELL, "Proven: all as predicted."),
        () => style::paint(style::WATCH, "Nothing was read, so nothing is proven."),
    };
    crate::answer!("\n{verdict}");
}
