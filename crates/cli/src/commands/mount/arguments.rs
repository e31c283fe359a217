//! What `mount` takes.

use std::path::PathBuf;

use clap::Args;

/// What `mount` takes.
#[derive(Args)]
pub(crate) struct MountArguments {
    /// The volume, which may be left out where there is only one, and an empty folder to mount it on
    #[arg(value_name = "[VOLUME] DIR", num_args = 1..=2, required_unless_present = "status")]
    pub(super) what: Vec<PathBuf>,
    /// Change nothing through it
    #[arg(long)]
    pub(super) read_only: bool,
    /// Stay in the foreground until it is unmounted
    #[arg(long)]
    pub(super) foreground: bool,
    /// Without extended attributes and ACLs: new files cost less
    #[arg(long)]
    pub(super) no_xattr: bool,
    /// Only for the user who mounts it
    #[arg(long)]
    pub(super) owner_only: bool,
    /// Show what is mounted, and how it is
    #[arg(long, conflicts_with_all = ["what", "unit", "fstab"])]
    pub(super) status: bool,
    /// Print a service unit that mounts it when the machine starts
    #[arg(long, conflicts_with = "fstab")]
    pub(super) unit: bool,
    /// Print a line for /etc/fstab
    #[arg(long)]
    pub(super) fstab: bool,
    /// Say on stdout when it can be used
    #[arg(long, hide = true, requires = "foreground")]
    pub(super) tell_ready: bool,
}
