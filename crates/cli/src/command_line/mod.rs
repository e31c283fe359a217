//! The command line: all commands, with their help. What may be said of a command before it runs: `manner`.

mod manner;

use std::path::PathBuf;

use clap::{Parser, Subcommand};
use sieve_core::units::ByteLength;

use crate::args::{Common, Consent, Documents, FilesystemWord, LookArguments, PaperArguments, VolumeChoice};
use crate::commands::agenda::AgendaArguments;
use crate::commands::build::grow::GrowArguments;
use crate::commands::files::find::WhereArguments;
use crate::commands::files::get::GetArguments;
use crate::commands::files::ls::LsArguments;
use crate::commands::files::moving::MoveArguments;
use crate::commands::files::put::PutArguments;
use crate::commands::files::restore::RestoreArguments;
use crate::commands::files::rm::RmArguments;
use crate::commands::files::settle::SettleArguments;
use crate::commands::files::shift::EvenOutArguments;
use crate::commands::foresee::drill::DrillArguments;
use crate::commands::foresee::fate::FateArguments;
use crate::commands::foresee::risk::RiskArguments;
use crate::commands::look::HealthArguments;
use crate::commands::look::burn_in::BurnInArguments;
use crate::commands::mount::MountArguments;
use crate::commands::plan::design::DesignArguments;
use crate::commands::plan::ingest::IngestArguments;
use crate::commands::plan::init::InitArguments;
use crate::commands::protect::sync::SyncArguments;
use crate::commands::protect::verify::VerifyArguments;
use crate::commands::repair::convert::ConvertArguments;
use crate::commands::repair::dissolve::DissolveArguments;
use crate::commands::repair::rebuild::RebuildArguments;
use crate::commands::repair::rename::RenameArguments;
use crate::commands::repair::replace::ReplaceArguments;
use crate::commands::repair::route::RouteArguments;
use crate::commands::repair::vacate::VacateArguments;
use crate::commands::watch::bench::BenchArguments;
use crate::commands::watch::duplicates::DuplicatesArguments;
use crate::commands::watch::elsewhere::ElsewhereArguments;
use crate::commands::watch::journal::JournalArguments;
use crate::commands::watch::listing::ListingArguments;
use crate::commands::watch::notice::NoticeArguments;
use crate::commands::watch::report::ReportArguments;
use crate::commands::watch::usage::UsageArguments;
use crate::demo::DemoArguments;
use crate::sheet::SheetArguments;

/// The first page: it fits a screen, and names each command once.
const FIRST_PAGE: &str = "\
{about}

{usage-heading} {usage}

Commands, in the order of the work (`zinc-sieve COMMAND --help` says more):
  look              which disk is which, and whether it deserves to be used
                    disks, bays, health, burn-in
  design            what could be built of them, how fast, what it would survive
                    design, ingest, init, check
  build             from new disks to a pool
                    prepare, create, grow, adopt
  use               files in and out
                    mount, umount, put, get, ls, where, rm, restore, move, settle
  protect           parity up to the present, and proven
                    sync, verify, agenda
  foresee           which files survive when disks die
                    fate, drill, risk
  repair, change    a disk died, or is to be another one
                    rebuild, route, replace, vacate, even-out, convert, rename,
                    dissolve, wipe
  watch             how it is, what it holds, what happened
                    status, usage, duplicates, journal, notice, report, listing,
                    elsewhere, measure, bench
  learn             demo, man, completions, schema, help

Common options:
{options}

Exit codes: 0 fine; 1 not all is well, or stopped before its end; 2 wrong usage
or pool file, nothing done; 3 a disk or file failed while working; 4 stopped by
a safety rule, nothing lost; 5 nothing is wrong, and something waits: for a sync,
a settle, or to be built (status).
";

/// With the commit that it was built from, and how.
const VERSION: &str = concat!(env!("CARGO_PKG_VERSION"), " (", env!("ZINC_SIEVE_BUILD"), ")");

/// Pool mixed disks, guard them with parity drives, and know file by file what survives when disks die
#[derive(Parser)]
#[command(version = VERSION, help_template = FIRST_PAGE, max_term_width = 100)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Subcommand)]
pub(crate) enum Command {
    /// List the disks of the machine and the pool: which is which
    #[command(
        after_help = "Example:\n  zinc-sieve disks\n  zinc-sieve disks alder\n  zinc-sieve disks --from machine"
    )]
    Disks {
        /// Show everything about this disk: its name, its serial number or the kernel's name
        #[arg(add = crate::complete::disks(), conflicts_with = "csv")]
        name: Option<String>,
        #[command(flatten)]
        sheet: SheetArguments,
        #[command(flatten)]
        from: Documents,
    },
    /// Draw the case with its bays, or show the one to pull
    #[command(after_help = "Example:\n  zinc-sieve bays\n  zinc-sieve bays --find cedar")]
    Bays {
        /// Show where this disk is
        #[arg(long, value_name = "NAME", add = crate::complete::disks())]
        find: Option<String>,
        #[command(flatten)]
        from: Documents,
    },
    /// Judge every disk by what it reports about itself: fine, watch, replace soon, do not use
    #[command(
        after_help = "Example:\n  zinc-sieve health\n  zinc-sieve health --from machine\n  zinc-sieve health --self-test short cedar\n  zinc-sieve health cedar --probe"
    )]
    Health(HealthArguments),
    /// Write a pattern to all free space and read it back, before a disk holds anything
    #[command(
        after_help = "Example:\n  zinc-sieve burn-in /mnt/new\n  zinc-sieve burn-in /mnt/new --amount 50GB --yes\n  zinc-sieve burn-in /dev/sdx --overwrite sdx    # destroys what is on it"
    )]
    BurnIn(BurnInArguments),
    /// Compare the ways to lay volumes over a set of disks, bought or not
    #[command(
        after_help = "Example:\n  zinc-sieve design --hdd \"12TB,10TB,2x6TB,4TB\" --ssd \"2x1TB\" --add 14TB \\\n      --want space --survive 2"
    )]
    Design(DesignArguments),
    /// Work out how fast copies will go in, and how large a cache must be
    #[command(
        after_help = "Example:\n  zinc-sieve ingest --link \"2.5 Gbit/s\" --amount 300GB --cache 500GB \\\n      --fast-area 60GB --sustained \"150 MB/s\"\n  zinc-sieve ingest --cache 200GB --settle 09:00 --chart day.svg \\\n      --arrivals \"22:00-02:00 180GB, 07:00-08:00 60GB\""
    )]
    Ingest(IngestArguments),
    /// Write the first pool file from the disks of this machine; nothing of them is touched
    #[command(after_help = "Example:\n  zinc-sieve init --name fernhollow\n  zinc-sieve init --from machine")]
    Init(InitArguments),
    /// Check the pool file and the disks behind it: what is wrong, what is doubtful, what is fine
    #[command(after_help = "Example:\n  zinc-sieve check")]
    Check,
    /// Print a script that takes new disks to mounted members: partition, filesystem, mount point, fstab
    #[command(
        after_help = "Example:\n  zinc-sieve prepare elm=sde > prepare.sh\n  zinc-sieve prepare elm=TW12-8BQ4K7 --erase TW12-8BQ4K7 --filesystem xfs\n\nNothing is run: read the script, then run it as root."
    )]
    Prepare {
        /// The disks, each with its new name: NAME=DISK, where DISK is a serial number, a stable or the kernel's name
        #[arg(required = true, value_name = "NAME=DISK")]
        disks: Vec<String>,
        /// What is on this disk may be erased
        #[arg(long, value_name = "DISK", value_delimiter = ',')]
        erase: Vec<String>,
        /// The filesystem
        #[arg(long, value_name = "KIND", default_value = "ext4")]
        filesystem: FilesystemWord,
        /// The folder that the mount points are made in
        #[arg(long, value_name = "DIR", default_value = "/mnt")]
        mount_root: String,
        #[command(flatten)]
        from: Documents,
    },
    /// Make the pool, or the volumes that its file has since: label the disks; files that are on them stay and become part of them
    #[command(after_help = "Example:\n  zinc-sieve create --dry-run\n  zinc-sieve create")]
    Create(Consent),
    /// Add a disk to a volume: its files stay and become part of it, or parity is computed onto it
    #[command(
        after_help = "Example:\n  zinc-sieve grow elm --as data --at /mnt/elm\n  zinc-sieve grow spruce --as parity --at /mnt/spruce --limit \"80 MB/s\""
    )]
    Grow(GrowArguments),
    /// Take up a pool that comes from elsewhere, from its disks alone
    #[command(
        after_help = "Example:\n  zinc-sieve adopt /mnt/* --dry-run\n  zinc-sieve --pool ~/fernhollow/pool.toml adopt /media/alder /media/oak"
    )]
    Adopt {
        /// Where its disks are mounted; those that are missing are told
        #[arg(required = true, value_name = "DIR")]
        folders: Vec<PathBuf>,
        #[command(flatten)]
        consent: Consent,
    },
    /// Mount a volume as one drive: its files under one folder, whichever disks they lie on
    #[command(
        override_usage = "zinc-sieve mount [OPTIONS] [VOLUME] DIR\n       zinc-sieve mount --status",
        after_help = "Example:\n  zinc-sieve mount /srv/recordings\n  zinc-sieve mount recordings /srv/recordings --read-only\n  zinc-sieve mount --status\n  zinc-sieve mount recordings /srv/recordings --unit > recordings.service"
    )]
    Mount(MountArguments),
    /// End a mounted volume
    #[command(after_help = "Example:\n  zinc-sieve umount /srv/recordings")]
    Umount {
        /// Where it is mounted
        #[arg(value_name = "DIR")]
        folder: PathBuf,
    },
    /// Copy files and folders into a folder of a volume, verified
    #[command(after_help = "Example:\n  zinc-sieve put ~/card/2031-05-04 dawn-chorus")]
    Put(PutArguments),
    /// Copy files and folders out of a volume, checked against their checksums
    #[command(after_help = "Example:\n  zinc-sieve get dawn-chorus/2031-05-04 ~/restored")]
    Get(GetArguments),
    /// List what is in a volume
    #[command(after_help = "Example:\n  zinc-sieve ls nest-cams\n  zinc-sieve ls --tree --long --sort size")]
    Ls(LsArguments),
    /// Find files: on which disk each is, in which bay, and how guarded
    #[command(
        after_help = "Example:\n  zinc-sieve where 0007.wav\n  zinc-sieve where \"dawn-chorus/2031-*\""
    )]
    Where(WhereArguments),
    /// Move files to a data disk of their volume, or to another volume
    #[command(
        after_help = "Example:\n  zinc-sieve move dawn-chorus/2031-05-01 --to beech\n  zinc-sieve move nest-box-cam/2030 --volume archive"
    )]
    Move(MoveArguments),
    /// Remove files; they are held, out of sight, until the next sync has passed them
    #[command(
        after_help = "Example:\n  zinc-sieve rm field-notes/draft.txt\n  zinc-sieve rm --recursive nest-cams/2029"
    )]
    Rm(RmArguments),
    /// Bring back files that were removed or overwritten since the last sync
    #[command(
        after_help = "Example:\n  zinc-sieve restore --list\n  zinc-sieve restore nest-cams/box7.mkv\n  zinc-sieve restore dawn --into /tmp/dawn-as-it-was"
    )]
    Restore(RestoreArguments),
    /// Move what waits on the cache to its place on the disks, verified
    #[command(
        after_help = "Example:\n  zinc-sieve settle --dry-run\n  zinc-sieve settle --then-sync\n  zinc-sieve settle --until \"200 GB\" --idle"
    )]
    Settle(SettleArguments),
    /// Bring parity up to the present
    #[command(
        after_help = "Example:\n  zinc-sieve sync --dry-run\n  zinc-sieve sync --yes\n  zinc-sieve sync --disks beech --let-sleep\n  zinc-sieve sync --limit \"80 MB/s\" --idle --yes"
    )]
    Sync(SyncArguments),
    /// Read everything and compare it with the checksums and the parity; mend what is damaged
    #[command(
        after_help = "Example:\n  zinc-sieve verify\n  zinc-sieve verify --share \"5 %\" --idle\n  zinc-sieve verify --disks cedar\n  zinc-sieve verify --folder nest-cams\n  zinc-sieve verify --mend"
    )]
    Verify(VerifyArguments),
    /// Tell what becomes of every file when disks are lost
    #[command(
        after_help = "Example:\n  zinc-sieve fate --lose cedar\n  zinc-sieve fate --lose cedar,oak --only gone\n  zinc-sieve fate --lose cedar --after sync\n  zinc-sieve fate --group card-a --backup other-machine.b3\n  zinc-sieve fate --any 2\n  zinc-sieve fate --map losses.svg\n  zinc-sieve fate --explain nest-cams/box7.mkv"
    )]
    Fate(FateArguments),
    /// Prove a prediction: reconstruct from the survivors only, compare with the checksums, write nothing
    #[command(
        after_help = "Example:\n  zinc-sieve drill --lose cedar\n  zinc-sieve drill --lose cedar,oak --share \"5 %\"\n  zinc-sieve drill --practice /tmp/practice"
    )]
    Drill(DrillArguments),
    /// Tell how much to worry: what a year may cost, from what, and what would help
    #[command(
        after_help = "Example:\n  zinc-sieve risk --advise\n  zinc-sieve risk --simulate 100000\n  zinc-sieve risk --from machine    # with what the disks report of themselves"
    )]
    Risk(RiskArguments),
    /// Bring lost disks back onto new, empty ones
    #[command(
        after_help = "Example:\n  zinc-sieve rebuild cedar --onto /mnt/new\n  zinc-sieve rebuild cedar oak --onto /mnt/new1 --onto /mnt/new2\n  zinc-sieve rebuild cedar --onto /mnt/new --first nest-cams --salvage"
    )]
    Rebuild(RebuildArguments),
    /// Find the order of steps in which a pool is changed with the least disk time and every file guarded throughout
    #[command(
        after_help = "Example:\n  zinc-sieve route \"cedar is 14 TB\" \"oak holds data\"\n  zinc-sieve route \"without beech\" \"10 TB more\" \\\n      --buy \"2 x 14 TB by 2031-09\" --steps route.md\n  zinc-sieve route --next    # which step of route.md comes now"
    )]
    Route(RouteArguments),
    /// Put what is on a disk onto another, which takes its place; files and parity images are copied, not computed
    #[command(
        after_help = "Example:\n  zinc-sieve replace oak --onto /mnt/larger\n  zinc-sieve replace oak --onto /mnt/ash --rest elm    # two smaller disks"
    )]
    Replace(ReplaceArguments),
    /// Move as little as possible so that no data disk is fuller than the others
    #[command(
        after_help = "Example:\n  zinc-sieve even-out\n  zinc-sieve even-out recordings --until \"80 %\""
    )]
    EvenOut(EvenOutArguments),
    /// Take disks out of the pool: parity disks, empty caches, data disks after their files went to the others
    #[command(after_help = "Example:\n  zinc-sieve vacate spruce --dry-run\n  zinc-sieve vacate spruce")]
    Vacate(VacateArguments),
    /// Take the traces of a pool off a disk that is no member any more, so that it can become one again
    #[command(
        after_help = "Example:\n  zinc-sieve wipe /mnt/old                       # says whose it was\n  zinc-sieve wipe oak --was \"oak of fernhollow\""
    )]
    Wipe {
        /// The folder that the disk is mounted at, or the name that it had, where it lies beside the disks of this pool
        #[arg(value_name = "NAME|DIR")]
        folder: PathBuf,
        /// Whose it was, as its label says: "DISK of POOL"
        #[arg(long, value_name = "WHOSE")]
        was: Option<String>,
        #[command(flatten)]
        consent: Consent,
    },
    /// Give a disk, a volume or the pool another name
    #[command(
        after_help = "Example:\n  zinc-sieve rename disk cedar larch\n  zinc-sieve rename volume recordings songs"
    )]
    Rename(RenameArguments),
    /// Print what a shell reads to complete commands, options, and the names of disks and volumes
    #[command(
        after_help = "Example:\n  source <(zinc-sieve completions bash)    # in ~/.bashrc\n  zinc-sieve completions fish > ~/.config/fish/completions/zinc-sieve.fish"
    )]
    Completions {
        /// bash, zsh, fish, elvish or powershell
        #[arg(value_name = "SHELL")]
        shell: String,
    },
    /// Print the page of the manual, or write one of each command into a folder
    #[command(after_help = "Example:\n  zinc-sieve man | man -l -\n  zinc-sieve man ~/.local/share/man/man1")]
    Man {
        /// The folder that the pages are written to
        #[arg(value_name = "DIR")]
        folder: Option<PathBuf>,
    },
    /// Print the form of what --json prints, as JSON Schema
    #[command(after_help = "Example:\n  zinc-sieve schema\n  zinc-sieve schema fate")]
    Schema {
        /// Which result, as its `format` names it; without it all names are listed
        #[arg(value_name = "NAME", add = crate::complete::results())]
        name: Option<String>,
        /// Write all of them into this folder
        #[arg(long, value_name = "DIR", conflicts_with = "name")]
        into: Option<PathBuf>,
    },
    /// Make a volume another kind: unstriped, spanned, tiered or mirrored; files stay where they are
    #[command(
        after_help = "Example:\n  zinc-sieve convert recordings --to tiered --fast flint\n  zinc-sieve convert recordings --to mirrored --copies 2"
    )]
    Convert(ConvertArguments),
    /// End a volume: its disks are left with the files that they hold, and no trace of the pool
    #[command(
        after_help = "Example:\n  zinc-sieve dissolve recordings --dry-run\n  zinc-sieve dissolve recordings"
    )]
    Dissolve(DissolveArguments),
    /// Time real copies into each landing of a volume and back
    #[command(after_help = "Example:\n  zinc-sieve measure --amount \"2 GB\"")]
    Measure {
        /// How much is copied
        #[arg(long, value_name = "SIZE", default_value = "1 GB", value_parser = ByteLength::parse)]
        amount: ByteLength,
        #[command(flatten)]
        volume: VolumeChoice,
    },
    /// Show at one glance how the pool is
    #[command(
        after_help = "Example:\n  zinc-sieve status\n  zinc-sieve status --files listing.csv    # a pool on paper"
    )]
    Status {
        #[command(flatten)]
        look: LookArguments,
        #[command(flatten)]
        paper: PaperArguments,
    },
    /// Measure what this machine's processor and memory allow, how fast the disks of the pool are read, or how long the commands take
    #[command(
        after_help = "Example:\n  zinc-sieve bench\n  zinc-sieve bench --kernel avx2\n  zinc-sieve bench --read-disks --amount \"1 GB\"\n  zinc-sieve bench --work --within /mnt/a --within /mnt/b"
    )]
    Bench(BenchArguments),
    /// Show the coming days: what is done when, how long it takes, what collides; find better times; do what is due
    #[command(
        after_help = "Example:\n  zinc-sieve agenda\n  zinc-sieve agenda --solve --write\n  zinc-sieve agenda --export timers units\n  zinc-sieve agenda --due"
    )]
    Agenda(AgendaArguments),
    /// Show what happened: what was done, when, how long it took, and what failed
    #[command(
        after_help = "Example:\n  zinc-sieve journal --since \"1 day\"\n  zinc-sieve journal --disk cedar --failed\n  zinc-sieve journal --path dawn-chorus/0007.wav"
    )]
    Journal(JournalArguments),
    /// Write one page about the pool, or gauges for scraping
    #[command(
        after_help = "Example:\n  zinc-sieve report fernhollow.html\n  zinc-sieve report --openmetrics fernhollow.txt"
    )]
    Report(ReportArguments),
    /// Write a listing of what this pool holds, for another machine
    #[command(
        after_help = "Example:\n  zinc-sieve listing fernhollow.csv\n  zinc-sieve listing fernhollow.b3 --b3sum\n  zinc-sieve fate --lose cedar --backup fernhollow.csv    # there"
    )]
    Listing(ListingArguments),
    /// Show what of this pool is on no other machine, by the listings that the pool file names
    #[command(
        after_help = "Example:\n  zinc-sieve elsewhere\n  zinc-sieve elsewhere --folder dawn-chorus --only nowhere\n\nIn the pool file:\n  [[elsewhere]]\n  name = \"loft\"\n  listing = \"loft.csv\"    # of zinc-sieve listing, or b3sum, there\n  place = \"the loft across the yard\"\n  off_site = true"
    )]
    Elsewhere(ElsewhereArguments),
    /// Show what kind of file takes how much on which disk, and when a disk will be full
    #[command(after_help = "Example:\n  zinc-sieve usage\n  zinc-sieve usage --by folder")]
    Usage(UsageArguments),
    /// Find files that are there more than once; nothing is removed
    #[command(after_help = "Example:\n  zinc-sieve duplicates\n  zinc-sieve duplicates --json")]
    Duplicates(DuplicatesArguments),
    /// Show what somebody should know of: each with the one command to type
    #[command(
        after_help = "Example:\n  zinc-sieve notice\n  zinc-sieve notice --seen disk-full:cedar\n  zinc-sieve notice --mute warranty:oak \"30 days\"\n  zinc-sieve notice --test"
    )]
    Notice(NoticeArguments),
    /// Play the whole story on made-up files in a temporary folder
    #[command(
        after_help = "Example:\n  zinc-sieve demo\n  zinc-sieve demo --chapter cache\n  zinc-sieve demo --all\n  zinc-sieve demo --dir /tmp/fernhollow --set-up-only"
    )]
    Demo(DemoArguments),
}
