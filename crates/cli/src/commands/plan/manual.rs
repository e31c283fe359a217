//! `completions` and `man`: what a shell and the system's manual know of the commands.

use std::path::Path;

use clap::CommandFactory;
use clap_complete::CompleteEnv;
use clap_complete::env::Shells;
use sieve_disk::{Error, Kind, Result};

use crate::command_line::Arguments;
use crate::exit::Outcome;

const PROGRAM: &str = "zinc-sieve";
/// What a shell sets when it asks.
const ASKS: &str = "ZINC_SIEVE_COMPLETE";

/// Answers a shell that asks, and ends; else nothing is done.
pub(crate) fn answer_shell() {
    CompleteEnv::with_factory(Arguments::command).var(ASKS).complete();
}

/// Prints what a shell reads to complete the commands.
pub(crate) fn completions(shell: &str) -> Result<Outcome> {
    let shells = Shells::builtins();
    let Some(known) = shells.completer(shell) else {
        let names: Vec<&str> = shells.names().collect();
        let message = format!("there is no completion for the shell `{shell}`");
        return Err(Error::new(Kind::Usage, "completions.shell", message)
            .remedy(format!("there is one for {}", names.join(", "))));
    };
    let mut script = Vec::new();
    known
        .write_registration(ASKS, PROGRAM, PROGRAM, PROGRAM, &mut script)
        .map_err(|e| Error::new(Kind::Internal, "completions.write", e.to_string()))?;
    crate::output::document(&String::from_utf8_lossy(&script));
    Ok(Outcome::Fine)
}

/// Prints the page of the program, or writes one of each command into a folder.
pub(crate) fn man(folder: Option<&Path>) -> Result<Outcome> {
    let Some(folder) = folder else {
        let mut page = Vec::new();
        clap_mangen::Man::new(Arguments::command())
            .render(&mut page)
            .map_err(|e| Error::new(Kind::Internal, "man.write", e.to_string()))?;
        crate::output::document(&String::from_utf8_lossy(&page));
        return Ok(Outcome::Fine);
    };
    refuse_pages(folder)?;
    clap_mangen::generate_to(Arguments::command(), folder).map_err(|e| Error::io("man.write", folder, e))?;
    crate::say!("Written to {}: man -l {}/zinc-sieve.1", folder.display(), folder.display());
    Ok(Outcome::Fine)
}

/// Nothing that is there is overwritten unasked.
fn refuse_pages(folder: &Path) -> Result<()> {
    let entries = std::fs::read_dir(folder).map_err(|e| Error::io("man.folder", folder, e))?;
    let is_page = |name: &std::ffi::OsStr| name.as_encoded_bytes().starts_with(PROGRAM.as_bytes());
    match entries.flatten().find(|entry| is_page(&entry.file_name())) {
        None => Ok(()),
        Some(entry) => {
            let message = format!("{} is there already", entry.path().display());
            Err(Error::new(Kind::Conflict, "man.exists", message)
                .remedy("move the pages away first, or name another folder"))
        }
    }
}
