//! `status`: one glance.

mod health;
mod sentence;
mod show;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_disk::Result;
use sieve_foresight::paper;
use sieve_foresight::status::{Look, Status, Verdict, status};
use sieve_foresight::{KeptTotals, Others, Outlook, PoolOutlook};
use sieve_mount::record;
use sieve_mount::record::Answer;
use sieve_pool::member::State;

use self::health::Health;
pub(crate) use self::sentence::plain_verdict;
use crate::args::{LookArguments, PaperArguments};
use crate::commands::context::Context;
use crate::commands::watch;
use crate::exit::Outcome;
use crate::human::style;
use crate::progress::Watch;
use crate::{json, load};

json::named!("status", Whole<'_>);

pub(crate) fn run(context: &Context, look: LookArguments, on_paper: &PaperArguments) -> Result<Outcome> {
    let status = match load::spec_on_paper(&context.pool, on_paper.files.is_some())? {
        Some(spec) => {
            let pool = paper::load(&spec, on_paper.volume.volume.as_deref(), on_paper.files.as_deref())?;
            pool.status(&spec, crate::machine::real().now())?
        }
        None => {
            let look = if look.scan { Look::Always } else { Look::WhereShort };
            status(&mut load::pool_with_notes(&context.pool)?, look, &Watch::begin(false)?)?
        }
    };
    let mounts = mounts(context);
    let elsewhere = elsewhere(context)?;
    if context.json {
        json::print(&Whole {
            status: &status,
            mounts: &mounts,
            elsewhere: elsewhere.as_ref().map(|(_, totals)| totals),
        })?;
    } else {
        let thresholds = load::spec(&context.pool)?.thresholds;
        let is_on_paper = status.disks.iter().all(|disk| disk.state == State::OnPaper);
        let health = || if is_on_paper { Health::unknown() } else { Health::look(&context.pool) };
        show::show(&status, &thresholds, health);
        if let Some((others, totals)) = &elsewhere {
            crate::say!("\n{}", watch::elsewhere::sentence(totals));
            watch::elsewhere::doubts(others)
                .for_each(|doubt| crate::say!("{}", style::paint(style::WATCH, doubt)));
        }
        show_mounts(&mounts);
        show::advise(&status);
    }
    Ok(match status.verdict {
        Verdict::Well => Outcome::Fine,
        Verdict::Waits => Outcome::Waits,
        Verdict::ActNow => Outcome::NotWell,
    })
}

/// What is printed as JSON.
#[derive(Serialize, JsonSchema)]
struct Whole<'a> {
    #[serde(flatten)]
    status: &'a Status,
    /// The volumes that are mounted.
    mounts: &'a [Answer],
    /// What other machines have.
    #[serde(skip_serializing_if = "Option::is_none")]
    elsewhere: Option<&'a KeptTotals>,
}

/// What other machines have of a pool that exists; nothing where its file names none.
fn elsewhere(context: &Context) -> Result<Option<(Others, KeptTotals)>> {
    if load::spec(&context.pool)?.elsewhere.is_empty() || load::spec_on_paper(&context.pool, false)?.is_some()
    {
        return Ok(None);
    }
    let pool = load::pool_with_notes(&context.pool)?;
    let others = Others::read(&pool.spec, &pool.file, pool.machine.now());
    let mut outlook = PoolOutlook::open(&pool, Look::WhereShort, &Watch::begin(false)?)?;
    outlook.lose(&[], false)?;
    let totals = others.totals(&outlook)?;
    Ok(Some((others, totals)))
}

/// The volumes that are served as a drive. A help and no more: where it cannot be told, the rest holds.
fn mounts(context: &Context) -> Vec<Answer> {
    let home = sieve_pool::pool::home_folder(&context.pool);
    sieve_disk::RealDisk::open(home).and_then(|home| record::all(&home)).unwrap_or_default()
}

fn show_mounts(mounts: &[Answer]) {
    for answer in mounts {
        let (volume, at) = (&answer.mounted.volume, answer.mounted.at.display());
        let words = match &answer.now {
            Some(now) if now.open_files > 0 => {
                let (open, writing) = (now.open_files, now.open_for_writing);
                format!("{volume} is mounted on {at}, files open: {open} ({writing} for writing).")
            }
            Some(_) => format!("{volume} is mounted on {at}."),
            None => {
                let words = format!("{volume} was mounted on {at}, and the process that served it died:");
                style::paint(style::BAD, format!("{words} zinc-sieve mount {volume} {at}"))
            }
        };
        crate::say!("\n{words}");
    }
}
