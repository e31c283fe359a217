//! Reading the pool file, and showing what is wrong with it.

use std::path::{Path, PathBuf};

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use sieve_core::pool::{Mistake, PoolSpec, parse};
use sieve_disk::machine::Machine;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::check::{Looked, look};
use sieve_pool::pool::Pool;

/// The pool file that is named; else the one in this folder; else the one of the environment.
pub(crate) fn pool_file(named: Option<PathBuf>) -> PathBuf {
    let here = PathBuf::from("pool.toml");
    let from_environment = || std::env::var_os("ZINC_SIEVE_POOL").filter(|_| !here.exists());
    named.or_else(|| from_environment().map(PathBuf::from)).unwrap_or(here)
}

/// A pool file that was read.
pub(crate) struct PoolFile {
    pub(crate) text: String,
    pub(crate) spec: Option<PoolSpec>,
    pub(crate) mistakes: Vec<Mistake>,
}

/// Reads a pool file with all its mistakes.
pub(crate) fn read(path: &Path) -> Result<PoolFile> {
    let bytes = std::fs::read(path).map_err(|source| {
        let mut error = Error::io("pool-file.read", path, source);
        error.kind = Kind::Usage;
        error.message = format!("the pool file cannot be read: {}", error.message);
        error.remedy("zinc-sieve init writes one from the disks of this machine; or name it with --pool FILE")
    })?;
    let text = String::from_utf8(bytes).map_err(|_| {
        Error::new(
            Kind::Usage,
            "pool-file.text",
            format!("{}: the pool file is not UTF-8 text", path.display()),
        )
    })?;
    let parsed = parse(&text);
    Ok(PoolFile { text, spec: parsed.spec, mistakes: parsed.mistakes })
}

/// Reads a pool file, shows its mistakes, and gives the spec if there are none.
pub(crate) fn spec(path: &Path) -> Result<PoolSpec> {
    let file = read(path)?;
    accept(path, file)
}

/// Reads a pool file and holds it against its disks.
pub(crate) fn spec_with_disks(path: &Path, machine: &dyn Machine) -> Result<(PoolSpec, Looked)> {
    let mut file = read(path)?;
    let mut looked = file.spec.as_ref().map(|spec| look(machine, spec)).unwrap_or_default();
    file.mistakes.append(&mut looked.mistakes);
    Ok((accept(path, file)?, looked))
}

fn accept(path: &Path, file: PoolFile) -> Result<PoolSpec> {
    match file.spec {
        Some(spec) if file.mistakes.is_empty() => Ok(spec),
        _ => {
            show_mistakes(path, &file.text, &file.mistakes);
            let count = file.mistakes.len();
            let plural = if count == 1 { "mistake" } else { "mistakes" };
            let message = format!("{count} {plural} in {}; nothing was done", path.display());
            Err(Error::new(Kind::Usage, "pool-file.mistakes", message)
                .remedy("correct the pool file, then run this again"))
        }
    }
}

/// Shows every mistake with its line and a caret, on stderr.
pub(crate) fn show_mistakes(path: &Path, text: &str, mistakes: &[Mistake]) {
    let name = path.display().to_string();
    let renderer = Renderer::styled();
    for mistake in mistakes {
        let end = mistake.span.end.min(text.len());
        let span = mistake.span.start.min(end)..end;
        let snippet = Snippet::source(text).path(&name).annotation(AnnotationKind::Primary.span(span));
        let mut report = vec![Level::ERROR.primary_title(mistake.message.as_str()).element(snippet)];
        if let Some(advice) = &mistake.advice {
            report.push(Group::with_title(Level::HELP.secondary_title(advice.as_str())));
        }
        crate::complain!("{}\n", renderer.render(&report));
    }
}

/// The spec of a pool that is on paper: one with a listing of files, or one none of whose disks has a path.
pub(crate) fn spec_on_paper(path: &Path, has_listing: bool) -> Result<Option<PoolSpec>> {
    let exists = sieve_pool::pool::catalogue_path(path).exists();
    if exists && has_listing {
        let message = "this pool exists: its files are those on its disks";
        return Err(Error::new(Kind::Usage, "paper.pool-exists", message).remedy("leave --files out"));
    }
    if exists {
        return Ok(None);
    }
    let spec = spec(path)?;
    let all_on_paper = spec
        .volumes
        .iter()
        .flat_map(|v| v.members())
        .all(|name| spec.disk(name).is_some_and(|d| d.path.is_none()));
    Ok((has_listing || all_on_paper && !spec.volumes.is_empty()).then_some(spec))
}

/// Opens the pool of a pool file; what is noticed on the way is its notes, which the caller shows.
pub(crate) fn pool_with_notes(path: &Path) -> Result<Pool> {
    let machine = crate::machine::real();
    sieve_mount::record::bring_up(path);
    sieve_pool::open(machine, path, spec(path)?)
}

/// Opens the pool of a pool file, and says what is noticed on the way.
pub(crate) fn pool(path: &Path) -> Result<Pool> {
    let pool = pool_with_notes(path)?;
    for note in &pool.notes {
        crate::say_aside!("note: {note}");
    }
    Ok(pool)
}
