//! Arguments that several commands share, and the words that are chosen from.

mod words;

use std::path::PathBuf;

use clap::Args;
use sieve_core::units::{ByteLength, Rate};

use crate::output::Detail;

pub(crate) use words::{
    Breakdown, ColorWord, FateWord, FilesystemWord, KindWord, NamedWord, ReachWord, RoleWord, Wish,
};

/// What every command takes.
#[derive(Args, Clone)]
#[command(next_help_heading = "Common options")]
pub(crate) struct Common {
    /// The pool file [default: ./pool.toml, and where there is none, the file that $ZINC_SIEVE_POOL names]
    #[arg(long, global = true, value_name = "FILE", value_hint = clap::ValueHint::FilePath)]
    pub(crate) pool: Option<PathBuf>,
    /// Print the result as JSON
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Show sizes in binary units (KiB, MiB, GiB)
    #[arg(long, global = true)]
    pub(crate) binary: bool,
    /// Print the answer alone: no plan, no advice, no notes, no progress
    #[arg(long, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Print more: what is only of interest to whoever knows how it works inside
    #[arg(long, global = true)]
    pub(crate) verbose: bool,
    /// When to use colours: auto is on a terminal, and without $NO_COLOR
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: ColorWord,
    /// Print long results at once, not a screen at a time through $PAGER
    #[arg(long, global = true)]
    pub(crate) no_pager: bool,
    /// Append what is done, step by step, to this file
    #[arg(long, global = true, value_name = "FILE", value_hint = clap::ValueHint::FilePath)]
    pub(crate) log: Option<PathBuf>,
}

impl Common {
    /// How much is printed.
    pub(crate) const fn detail(&self) -> Detail {
        match (self.quiet, self.verbose) {
            (true, _) => Detail::Quiet,
            (_, true) => Detail::Verbose,
            _ => Detail::Plain,
        }
    }
}

/// Consent for commands that write.
#[derive(Args, Clone, Copy)]
pub(crate) struct Consent {
    /// Do it without asking
    #[arg(long)]
    pub(crate) yes: bool,
    /// Show the plan and stop
    #[arg(long)]
    pub(crate) dry_run: bool,
}

/// How much of the machine a long action may take.
#[derive(Args, Clone)]
pub(crate) struct RestraintArguments {
    /// At most so much per second from and to each disk, as "80 MB/s"
    #[arg(long, value_name = "RATE", value_parser = Rate::parse)]
    pub(crate) limit: Option<Rate>,
    /// At most so much memory for buffers
    #[arg(long, value_name = "SIZE", default_value = "256 MiB", value_parser = ByteLength::parse)]
    pub(crate) memory: ByteLength,
    /// Let every other program go first when it wants a disk
    #[arg(long)]
    pub(crate) idle: bool,
    /// Tell what happens on stderr, one JSON object a line
    #[arg(long)]
    pub(crate) events: bool,
}

/// How much is looked at before it is told.
#[derive(Args, Clone, Copy)]
pub(crate) struct LookArguments {
    /// Look at all files on all disks first, however many there are
    #[arg(long)]
    pub(crate) scan: bool,
}

#[derive(Args)]
pub(crate) struct VolumeChoice {
    /// The volume, where there are several
    #[arg(long, value_name = "NAME", add = crate::complete::volumes())]
    pub(crate) volume: Option<String>,
}

/// Where the documents about the machine come from.
#[derive(Args)]
pub(crate) struct Documents {
    /// Read lsblk.json, by-id.txt and smart-DEVICE.json from this folder instead of asking the system
    #[arg(long, value_name = "DIR")]
    pub(crate) from: Option<PathBuf>,
}

/// A pool on paper.
#[derive(Args)]
pub(crate) struct PaperArguments {
    /// For a pool on paper: the files that it is to hold, path,size_bytes on each line (CSV or .jsonl)
    #[arg(long, value_name = "FILE")]
    pub(crate) files: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) volume: VolumeChoice,
}
