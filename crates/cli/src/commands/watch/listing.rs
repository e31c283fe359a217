//! `listing`: what this pool holds, for another machine: to look there for what is lost here, and to check it with any b3sum.

use schemars::JsonSchema;
use serde::Serialize;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use clap::Args;
use sieve_core::path::shown;
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::Look;
use sieve_foresight::holdings::{Held, each_file};
use sieve_pool::pool::Pool;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{count, units};
use crate::progress::Watch;
use crate::{json, load};

/// A listing that was written.
#[derive(Serialize, JsonSchema)]
struct Wrote<'a> {
    /// Where.
    written: &'a Path,
    /// How many files are in it.
    files: u64,
    /// Of these, or beside them, what has no checksum yet.
    without_checksum: u64,
}
json::named!("listing", Wrote<'_>);

/// What is written.
#[derive(Args)]
pub(crate) struct ListingArguments {
    /// A new file: .csv, .jsonl, or with --b3sum any
    file: PathBuf,
    /// As b3sum prints it, so that `b3sum --check` checks it
    #[arg(long)]
    b3sum: bool,
    /// Write over the file if it is there
    #[arg(long)]
    replace: bool,
}

/// How a listing is written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    Csv,
    JsonLines,
    B3sum,
}

/// What was written.
#[derive(Clone, Copy, Default)]
pub(crate) struct Listed {
    files: u64,
    /// Files without a checksum, since they changed after the last sync.
    unchecked: u64,
}

pub(crate) fn run(context: &Context, arguments: &ListingArguments) -> Result<Outcome> {
    let form = if arguments.b3sum { Form::B3sum } else { form_of(&arguments.file)? };
    let pool = load::pool(&context.pool)?;
    let listed = write(&pool, &arguments.file, form, arguments.replace)?;
    if context.json {
        let (files, unchecked) = (listed.files, listed.unchecked);
        json::print(&Wrote { written: &arguments.file, files, without_checksum: unchecked })?;
    } else {
        crate::say!("wrote {}: {}", arguments.file.display(), units::files(listed.files));
        if listed.unchecked > 0 {
            let left = if form == Form::B3sum { "are left out" } else { "have none" };
            crate::say!(
                "{} of them changed after the last sync: without a checksum they {left}.",
                count(listed.unchecked)
            );
        }
    }
    Ok(Outcome::Fine)
}

/// Writes a listing as a job of the agenda does: over the one of before.
///
/// # Errors
/// What a disk or the database says.
pub(crate) fn write_over(pool: &Pool, file: &Path) -> Result<()> {
    write(pool, file, form_of(file)?, true).map(|_| ())
}

fn form_of(file: &Path) -> Result<Form> {
    match file.extension().and_then(|end| end.to_str()) {
        Some("csv") => Ok(Form::Csv),
        Some("jsonl") => Ok(Form::JsonLines),
        Some("b3" | "b3sum") => Ok(Form::B3sum),
        _ => {
            let message = format!("{}: a listing is a .csv or a .jsonl file", file.display());
            Err(Error::new(Kind::Usage, "listing.form", message).remedy("name it so, or add --b3sum"))
        }
    }
}

/// Written beside, and given its name when it is whole. It names every file: its owner alone reads it (L5).
fn write(pool: &Pool, file: &Path, form: Form, replace: bool) -> Result<Listed> {
    use std::os::unix::fs::OpenOptionsExt;
    if !replace && file.symlink_metadata().is_ok() {
        let message = format!("{} is there already", file.display());
        return Err(Error::new(Kind::Conflict, "listing.exists", message)
            .remedy("name another file, or add --replace"));
    }
    let failed = |e: std::io::Error| Error::io("listing.write", file, e);
    let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let beside = file.with_file_name(format!(".{name}.{}", std::process::id()));
    let made =
        std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&beside).map_err(failed)?;
    let mut out = BufWriter::new(made);
    let outcome = lines(pool, form, &mut out, &failed).and_then(|listed| {
        let kept = out.into_inner().map_err(|e| failed(e.into_error()))?;
        kept.sync_all()
            .and_then(|()| rustix::fs::rename(&beside, file).map_err(Into::into))
            .map_err(failed)?;
        Ok(listed)
    });
    if outcome.is_err() {
        // What cannot be removed either is a file with a dot, and told with the error.
        let _ = rustix::fs::unlink(&beside);
    }
    outcome
}

fn lines(
    pool: &Pool,
    form: Form,
    out: &mut impl Write,
    failed: &dyn Fn(std::io::Error) -> Error,
) -> Result<Listed> {
    let mut listed = Listed::default();
    let watch = Watch::begin(false)?;
    let mut csv = csv::Writer::from_writer(Vec::new());
    if form == Form::Csv {
        out.write_all(b"path,size_bytes,modified,blake3\n").map_err(failed)?;
    }
    each_file(pool, Look::WhereShort, &watch, |held| {
        listed.files += 1;
        listed.unchecked += u64::from(held.blake3.is_none());
        let line = match form {
            Form::B3sum => b3sum_line(&held),
            Form::JsonLines => Some(json_line(&held)),
            Form::Csv => Some(csv_line(&mut csv, &held)?),
        };
        line.map_or(Ok(()), |line| out.write_all(&line).map_err(failed))
    })?;
    Ok(listed)
}

fn csv_line(csv: &mut csv::Writer<Vec<u8>>, held: &Held) -> Result<Vec<u8>> {
    let wrong = |e: csv::Error| Error::new(Kind::Internal, "listing.csv", format!("a line of CSV: {e}"));
    let modified = held.modified.map(sieve_core::moment::text).unwrap_or_default();
    let blake3 = held.blake3.map(|sum| sum.iter().map(|byte| format!("{byte:02x}")).collect::<String>());
    csv.write_record([
        &shown(&held.path),
        &held.size.exact().to_string(),
        &modified,
        &blake3.unwrap_or_default(),
    ])
    .map_err(wrong)?;
    let fresh = csv::Writer::from_writer(Vec::new());
    let whole = std::mem::replace(csv, fresh).into_inner();
    whole.map_err(|e| Error::new(Kind::Internal, "listing.csv", format!("a line of CSV: {e}")))
}

fn json_line(held: &Held) -> Vec<u8> {
    let text = shown(&held.path);
    let mut line = serde_json::json!({ "path": text, "size_bytes": held.size.exact() });
    if text.as_bytes() != held.path {
        line["path_hex"] = hex(&held.path).into();
    }
    if let Some(modified) = held.modified {
        line["modified"] = sieve_core::moment::text(modified).into();
    }
    if let Some(sum) = held.blake3 {
        line["blake3"] = hex(&sum).into();
    }
    format!("{line}\n").into_bytes()
}

/// As b3sum writes it: a line whose path has a backslash or a line feed begins with a backslash, and has them escaped.
fn b3sum_line(held: &Held) -> Option<Vec<u8>> {
    let sum = hex(&held.blake3?);
    let is_odd = held.path.iter().any(|byte| matches!(byte, b'\\' | b'\n'));
    let mut line = if is_odd { b"\\".to_vec() } else { Vec::new() };
    line.extend_from_slice(sum.as_bytes());
    line.extend_from_slice(b"  ");
    for byte in &held.path {
        match byte {
            b'\\' => line.extend_from_slice(b"\\\\"),
            b'\n' => line.extend_from_slice(b"\\n"),
            other => line.push(*other),
        }
    }
    line.push(b'\n');
    Some(line)
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
