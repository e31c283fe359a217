//! `report`: one page about the pool, or gauges for scraping.

mod facts;
mod metrics;
mod past;

use schemars::JsonSchema;
use serde::Serialize;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use clap::Args;
use minijinja::{AutoEscape, Environment};
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::status::{Look, Status, status};
use sieve_pool::pool::Pool;

use self::facts::Facts;
use super::notice;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::progress::Watch;
use crate::{json, load};

/// Files that were written.
#[derive(Serialize, JsonSchema)]
struct Written<'a> {
    written: Vec<&'a Path>,
}
json::named!("report", Written<'_>);

/// By this a page of ours is known, which may be written over.
const PAGE_MARK: &str = "<meta name=\"generator\" content=\"zinc-sieve\">";
/// By this gauges of ours.
const GAUGE_MARK: &str = "# TYPE zinc_sieve_";

/// What is written.
#[derive(Args)]
pub(crate) struct ReportArguments {
    /// The page: a file of its own, which needs no network; an older report is replaced
    #[arg(value_name = "FILE", required_unless_present = "openmetrics")]
    page: Option<PathBuf>,
    /// Gauges in the text format of OpenMetrics
    #[arg(long, value_name = "FILE")]
    openmetrics: Option<PathBuf>,
}

pub(crate) fn run(context: &Context, arguments: &ReportArguments) -> Result<Outcome> {
    let mut pool = load::pool(&context.pool)?;
    let (status, conditions) = look(&mut pool)?;
    let mut written = Vec::new();
    if let Some(path) = &arguments.page {
        replace(path, &page(&pool, &status, &conditions)?, PAGE_MARK, 0o600)?;
        written.push(path);
    }
    if let Some(path) = &arguments.openmetrics {
        // It names no file, and whoever scrapes is another user.
        replace(path, &metrics::text(&pool, &status, &conditions), GAUGE_MARK, 0o644)?;
        written.push(path);
    }
    if context.json {
        json::print(&Written { written: written.iter().map(|path| path.as_path()).collect() })?;
    } else {
        written.iter().for_each(|path| crate::say!("{}", facts::told(path)));
    }
    Ok(Outcome::Fine)
}

/// Writes the page, as a job of the agenda does.
///
/// # Errors
/// What a disk or the database says; when something else has that name.
pub(crate) fn write(pool_file: &Path, page_file: &Path) -> Result<()> {
    let mut pool = load::pool(pool_file)?;
    let (status, conditions) = look(&mut pool)?;
    replace(page_file, &page(&pool, &status, &conditions)?, PAGE_MARK, 0o600)
}

fn look(pool: &mut Pool) -> Result<(Status, Vec<sieve_core::notice::Condition>)> {
    let status = status(pool, Look::WhereShort, &Watch::new(false))?;
    let conditions = notice::conditions_of(pool, &status)?;
    Ok((status, conditions))
}

fn page(pool: &Pool, status: &Status, conditions: &[sieve_core::notice::Condition]) -> Result<String> {
    let facts = Facts::gather(pool, status, conditions)?;
    let failed = |e: minijinja::Error| Error::new(Kind::Internal, "report.page", format!("the page: {e}"));
    let mut environment = Environment::new();
    // What comes from disks may be anything: all of it is text here.
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    environment.add_template("page", include_str!("page.html")).map_err(failed)?;
    let page = environment.get_template("page").and_then(|page| page.render(&facts)).map_err(failed)?;
    // Directions of writing and control characters would change how the rest is read (L6).
    Ok(page
        .chars()
        .map(|c| if sieve_core::path::disturbs(c) && c != '\n' && c != '\t' { '\u{fffd}' } else { c })
        .collect())
}

/// Writes a file in one step. Only one that is ours is replaced.
fn replace(path: &Path, text: &str, mark: &str, mode: u32) -> Result<()> {
    use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
    if path.symlink_metadata().is_ok() && !is_ours(path, mark) {
        let message = format!("{} is there, and is no report", path.display());
        return Err(Error::new(Kind::Conflict, "report.exists", message)
            .remedy("name another file, or remove that one first"));
    }
    let mode = path.metadata().map_or(mode, |metadata| metadata.permissions().mode() & 0o777);
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let new = path.with_file_name(format!(".{name}.{}", std::process::id()));
    let failed = |e: std::io::Error| Error::io("report.write", path, e);
    let made = std::fs::OpenOptions::new().write(true).create_new(true).mode(mode).open(&new);
    let mut file = made.map_err(failed)?;
    let kept = file.write_all(text.as_bytes()).and_then(|()| file.sync_all());
    let kept = kept.and_then(|()| rustix::fs::rename(&new, path).map_err(Into::into));
    kept.map_err(|e| {
        // What cannot be removed either is a file with a dot, and told with the error.
        let _ = rustix::fs::unlink(&new);
        failed(e)
    })
}

fn is_ours(path: &Path, mark: &str) -> bool {
    let mut begin = [0; 2048];
    let is_file = path.symlink_metadata().is_ok_and(|metadata| metadata.is_file());
    let read = std::fs::File::open(path).and_then(|mut file| file.read(&mut begin));
    is_file && read.is_ok_and(|length| String::from_utf8_lossy(&begin[..length]).contains(mark))
}
