//! Arguments that several commands share, and the words that are chosen from.

mod words;

use std::path::PathBuf;

use clap::Args;
use sieve_core::units::{ByteLength, Rate};

pub(crate) use words::{Breakdown, FateWord, FilesystemWord, KindWord, NamedWord, ReachWord, RoleWord, Wish};

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
