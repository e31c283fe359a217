//! A pool as its file describes it.

use std::ops::Range;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use jiff::civil::Date;

use super::elsewhere::ElsewhereSpec;
use super::jobs::{AgendaSpec, NoticeSpec};
use super::quantities::{Price, Temperature};
use super::share::Share;
use crate::path::RelPath;
use crate::placement::Placement;
use crate::units::{ByteLength, MAX_CACHES, MAX_PARITIES, MAX_SLOTS, Rate};

/// What a disk is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Media {
    /// Spinning disks.
    Hdd,
    /// Flash behind a disk interface.
    Ssd,
    /// Flash on the peripheral bus.
    Nvme,
}

/// How a volume lays its files over its disks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum VolumeKind {
    /// Each file whole on one disk.
    Unstriped,
    /// Disks are filled in order; a file may go on from one to the next.
    Spanned,
    /// Each file whole on one disk: what is used often on the fast ones.
    Tiered,
    /// Each file whole on several disks.
    Mirrored,
}

impl VolumeKind {
    /// All kinds.
    pub const ALL: [Self; 4] = [Self::Unstriped, Self::Spanned, Self::Tiered, Self::Mirrored];

    /// The word for it in a pool file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Unstriped => "unstriped",
            Self::Spanned => "spanned",
            Self::Tiered => "tiered",
            Self::Mirrored => "mirrored",
        }
    }
}

/// Where new data of a folder goes first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Landing {
    /// On the cache, and from there to the disks.
    Cache,
    /// On the disks.
    Disks,
    /// On the cache, for good.
    Stay,
}

impl Landing {
    /// All landings.
    pub const ALL: [Self; 3] = [Self::Cache, Self::Disks, Self::Stay];

    /// The word for it in a pool file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Cache => "cache",
            Self::Disks => "disks",
            Self::Stay => "stay",
        }
    }
}

/// The faster or the slower disks of a tiered volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Tier {
    /// What is used often lives here.
    Fast,
    /// All the rest.
    Slow,
}

impl Tier {
    /// Both.
    pub const ALL: [Self; 2] = [Self::Fast, Self::Slow];

    /// The word for it in a pool file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Fast => "fast",
            Self::Slow => "slow",
        }
    }
}

/// How much of the space behind it a volume may use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SizeLimit {
    /// So many bytes.
    Bytes(ByteLength),
    /// This share of all that its data disks have.
    Share(Share),
}

impl SizeLimit {
    /// Reads "20 TB" or "80 %".
    pub fn parse(text: &str) -> Option<Self> {
        if text.trim_end().ends_with('%') {
            return Share::parse(text).filter(|share| share.fraction() > 0.0).map(Self::Share);
        }
        ByteLength::parse(text).ok().filter(|b| *b > ByteLength::ZERO).map(Self::Bytes)
    }

    /// What it comes to, with so much space behind it.
    pub fn of(self, space: ByteLength) -> ByteLength {
        match self {
            Self::Bytes(bytes) => bytes,
            Self::Share(share) => ByteLength::new((space.exact() as f64 * share.fraction()) as u64),
        }
    }
}

/// One disk of the pool file.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct DiskSpec {
    /// Its friendly name.
    pub name: String,
    /// Where it is mounted; a disk without a path is on paper.
    pub path: Option<String>,
    /// Its size on paper, or the limit of what is used of it.
    #[serde(rename = "capacity_bytes")]
    pub capacity: Option<ByteLength>,
    /// What it is made of.
    pub media: Option<Media>,
    /// Where it sits in the case.
    pub bay: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// How fast it turns, in revolutions per minute.
    pub rpm: Option<u32>,
    /// The day it was made.
    pub made: Option<Date>,
    /// The day it was bought.
    pub bought: Option<Date>,
    /// The day its warranty ends.
    pub warranty: Option<Date>,
    /// What it cost.
    pub price: Option<Price>,
    /// The purchase or production batch it is of: disks of one batch tend to die together.
    pub batch: Option<String>,
    /// The controller or port group it shares with others.
    pub link: Option<String>,
    /// Its speed from the start to the end of its space, as its owner knows it.
    pub speed: Vec<Rate>,
    /// The share of such disks that die in a year, as its owner knows it.
    pub yearly_failure: Option<Share>,
    /// Its directory stands in for a real disk.
    pub simulated: bool,
    /// It is a folder on a filesystem that others use as well: nothing is meant to be mounted there.
    pub shares_filesystem: bool,
    /// Where its name stands in the file.
    #[serde(skip)]
    pub name_span: Range<usize>,
    /// Where its path stands in the file (its name, when it has none).
    #[serde(skip)]
    pub path_span: Range<usize>,
    /// Where its bay stands in the file (its name, when it has none).
    #[serde(skip)]
    pub bay_span: Range<usize>,
}

/// What becomes of a content that parity has, when it is removed or written over through the mounted volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hold {
    /// It is held until the next sync has passed it, where that can be.
    Usual,
    /// It goes at once: for databases and disk images, which are written over all day.
    Never,
}

impl Hold {
    /// All of them.
    pub const ALL: [Self; 2] = [Self::Usual, Self::Never];

    /// The word for it in a pool file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Usual => "usual",
            Self::Never => "never",
        }
    }
}

/// How a volume is served when it is mounted as one drive.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct MountSpec {
    /// A content that parity has is copied before it is written over, up to this size, where its filesystem cannot share
    /// blocks.
    pub hold_copies_up_to: ByteLength,
    /// No more than this of a disk is kept for what was written over.
    pub held_at_most: SizeLimit,
    /// Files on a disk with less room than this are written by way of the program, so that they can go on on another disk;
    /// the larger of 50 GB and 5 % where nobody said so.
    pub headroom: Option<SizeLimit>,
    /// A larger file is not moved when its disk is full.
    pub move_at_most: ByteLength,
}

impl Default for MountSpec {
    fn default() -> Self {
        Self {
            hold_copies_up_to: ByteLength::new(16 << 20),
            held_at_most: SizeLimit::Share(Share::percent(10)),
            headroom: None,
            move_at_most: ByteLength::new(50_000_000_000),
        }
    }
}

impl MountSpec {
    /// What a disk of this size is to have free, so that files on it are written without the program on the way.
    pub fn headroom_of(&self, total: ByteLength) -> ByteLength {
        let usual = ByteLength::new((total.exact() / 20).max(50_000_000_000));
        self.headroom.map_or(usual, |said| said.of(total))
    }
}

/// What a volume's owner wants of one of its folders.
#[derive(Clone, Debug, PartialEq)]
pub struct FolderSpec {
    /// The folder.
    pub path: RelPath,
    /// Where new data in it goes first.
    pub landing: Option<Landing>,
    /// The tier that it has to lie on.
    pub pin: Option<Tier>,
    /// What becomes of its contents when they are removed or written over through the mounted volume.
    pub hold: Option<Hold>,
    /// Where it stands in the file.
    pub span: Range<usize>,
}

/// The cache before a volume.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct CacheSpec {
    /// Its disks; none where there is no cache.
    pub disks: Vec<String>,
    /// On how many of them each file lies.
    pub copies: usize,
    /// Days from one settling to the next, where that is regular.
    pub settle_every: Option<f64>,
    /// Days for which a file must not have changed, unless it is known to be whole.
    pub settle_after: f64,
}

impl CacheSpec {
    /// Five minutes.
    pub const USUAL_SETTLE_AFTER: f64 = 5.0 / 1440.0;
}

/// One volume of the pool file.
#[derive(Clone, Debug, PartialEq)]
pub struct VolumeSpec {
    /// Its name.
    pub name: String,
    /// How files lie on its disks.
    pub kind: VolumeKind,
    /// Its data disks, in order.
    pub data: Vec<String>,
    /// Its parities, in order: the disk that the image of each lies on, or the disks that it goes on over.
    pub parity: Vec<Vec<String>>,
    /// On how many data disks each file lies: more than one only in a mirrored volume.
    pub copies: usize,
    /// Which of the data disks of a tiered volume are fast.
    pub fast: Vec<String>,
    /// The cache before it.
    pub cache: CacheSpec,
    /// What is to stay free on the cache, or on the fast disks; worked out where nobody said so.
    pub reserve: Option<SizeLimit>,
    /// Days after which a use of a file counts half.
    pub half_life: f64,
    /// What is wanted of single folders.
    pub folders: Vec<FolderSpec>,
    /// How it is served as one drive.
    pub mount: MountSpec,
    /// Where new files go.
    pub placement: Placement,
    /// How much it may hold, where that is less than its disks could.
    pub limit: Option<SizeLimit>,
    /// Patterns (gitignore syntax) of what is not to be guarded.
    pub leave_out: Vec<String>,
    /// Seconds for which a file of it may be unguarded.
    pub unguarded_at_most: Option<f64>,
    /// A sync stops and asks when more than this share of a disk's files is gone.
    pub stop_when_gone: Share,
    /// Where its name stands in the file.
    pub name_span: Range<usize>,
    /// Where each member is named in the file, in the order of [`VolumeSpec::members`].
    pub member_spans: Vec<Range<usize>>,
}

/// A controller or port group that disks share.
#[derive(Clone, Debug, PartialEq)]
pub struct LinkSpec {
    /// Its name.
    pub name: String,
    /// What it carries in all.
    pub rate: Rate,
    /// Where its name stands in the file.
    pub name_span: Range<usize>,
}

/// Disks that go together, for whatever reason their owner has.
#[derive(Clone, Debug, PartialEq)]
pub struct GroupSpec {
    /// Its name.
    pub name: String,
    /// Its disks, in order.
    pub disks: Vec<String>,
    /// Where its name stands in the file.
    pub name_span: Range<usize>,
}

/// What its owner knows about how likely losses are; what is not said is assumed.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct RiskSpec {
    /// So many times likelier a disk dies while another of its batch is being rebuilt.
    pub batch_factor: Option<f64>,
    /// Days from the death of a disk until its successor is in its bay.
    pub replace_within: Option<f64>,
    /// Days from one sync to the next.
    pub sync_every: Option<f64>,
    /// How much comes to each volume in a day.
    pub arrives_a_day: Option<ByteLength>,
    /// The share of bits that cannot be read any more.
    pub unreadable_per_bit: Option<f64>,
}

/// A case, as its owner drew it.
#[derive(Clone, Debug, PartialEq)]
pub struct CaseSpec {
    /// Its name.
    pub name: String,
    /// Its rows from top to bottom, each with its bays from left to right; nothing where there is no bay.
    pub rows: Vec<Vec<Option<String>>>,
    /// Where its name stands in the file.
    pub name_span: Range<usize>,
}

/// From when on something is worth a word.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Thresholds {
    /// A disk warmer than this is too hot.
    pub too_hot: Temperature,
    /// A disk fuller than this is too full.
    pub too_full: Share,
}

impl Default for Thresholds {
    fn default() -> Self {
        Self { too_hot: Temperature::celsius(50.0), too_full: Share::percent(90) }
    }
}

/// A pool file without mistakes.
#[derive(Clone, Debug, PartialEq)]
pub struct PoolSpec {
    /// The pool's name.
    pub name: String,
    /// From when on something is worth a word.
    pub thresholds: Thresholds,
    /// Its cases, in the order of the file.
    pub cases: Vec<CaseSpec>,
    /// What disks share, in the order of the file.
    pub links: Vec<LinkSpec>,
    /// Disks that go together, in the order of the file.
    pub groups: Vec<GroupSpec>,
    /// How likely losses are.
    pub risk: RiskSpec,
    /// Other machines that have files of it, in the order of the file.
    pub elsewhere: Vec<ElsewhereSpec>,
    /// Its disks, in the order of the file.
    pub disks: Vec<DiskSpec>,
    /// Its volumes, in the order of the file.
    pub volumes: Vec<VolumeSpec>,
    /// What is to be done when.
    pub agenda: AgendaSpec,
    /// Who is told when something is wrong.
    pub notices: NoticeSpec,
}

impl PoolSpec {
    /// The disk of that name.
    pub fn disk(&self, name: &str) -> Option<&DiskSpec> {
        self.disks.iter().find(|d| d.name == name)
    }

    /// The volume of that name.
    pub fn volume(&self, name: &str) -> Option<&VolumeSpec> {
        self.volumes.iter().find(|volume| volume.name == name)
    }

    /// The volume that a disk belongs to.
    pub fn volume_of(&self, disk: &str) -> Option<&VolumeSpec> {
        self.volumes.iter().find(|v| v.members().any(|name| name == disk))
    }
}

/// What a disk does in its volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, Hash, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// It holds files.
    Data,
    /// It holds a parity image.
    Parity,
    /// It holds files that wait for their place on the data disks, or stay on it for good.
    Cache,
}

impl Role {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Data => "data",
            Self::Parity => "parity",
            Self::Cache => "cache",
        }
    }

    /// The most disks of a volume that do so.
    pub const fn slots(self) -> usize {
        match self {
            Self::Data => MAX_SLOTS,
            Self::Parity => MAX_PARITIES,
            Self::Cache => MAX_CACHES,
        }
    }

    /// Whether files of the volume lie on it.
    pub const fn holds_files(self) -> bool {
        matches!(self, Self::Data | Self::Cache)
    }
}

impl std::fmt::Display for Role {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.word())
    }
}

impl VolumeSpec {
    /// Thirty days.
    pub const USUAL_HALF_LIFE: f64 = 30.0;

    /// All its disks: data first, then parity, then caches.
    pub fn members(&self) -> impl Iterator<Item = &str> {
        self.roles().map(|(.., name)| name.as_str())
    }

    /// All its disks in the same order: what each does, its place among those that do so, and its name.
    pub fn roles(&self) -> impl Iterator<Item = (Role, u8, &String)> {
        let number = |slot: usize| u8::try_from(slot).unwrap_or(u8::MAX);
        let data = self.data.iter().enumerate().map(move |(slot, name)| (Role::Data, number(slot), name));
        let parity =
            self.parity.iter().enumerate().flat_map(move |(slot, disks)| {
                disks.iter().map(move |name| (Role::Parity, number(slot), name))
            });
        let cache = self.cache.disks.iter().enumerate();
        let cache = cache.map(move |(slot, name)| (Role::Cache, number(slot), name));
        data.chain(parity).chain(cache)
    }

    /// Whether there is a cache before it.
    pub const fn has_cache(&self) -> bool {
        !self.cache.disks.is_empty()
    }

    /// Whether files in it move on by themselves: from a cache, or between tiers.
    pub fn settles(&self) -> bool {
        self.has_cache() || self.kind == VolumeKind::Tiered
    }

    /// Whether a sync guards what is on its disks, by parity or by copies.
    pub fn has_guard(&self) -> bool {
        !self.parity.is_empty() || self.kind == VolumeKind::Mirrored
    }

    /// The tier of a data disk.
    pub fn tier_of(&self, disk: &str) -> Tier {
        if self.fast.iter().any(|name| name == disk) { Tier::Fast } else { Tier::Slow }
    }

    /// Where new data at a path goes first.
    pub fn landing_of(&self, path: &RelPath) -> Landing {
        let usual = if self.has_cache() { Landing::Cache } else { Landing::Disks };
        self.innermost(path, |folder| folder.landing).unwrap_or(usual)
    }

    /// The tier that a path has to lie on, if its owner said so.
    pub fn pin_of(&self, path: &RelPath) -> Option<Tier> {
        self.innermost(path, |folder| folder.pin)
    }

    /// Whether a content at a path is held when it is removed or written over through the mounted volume.
    pub fn holds(&self, path: &RelPath) -> bool {
        self.innermost(path, |folder| folder.hold) != Some(Hold::Never)
    }

    /// What the innermost folder around a path says, of those that say something.
    fn innermost<T>(&self, path: &RelPath, say: impl Fn(&FolderSpec) -> Option<T>) -> Option<T> {
        let around = self.folders.iter().filter(|folder| path.is_within(&folder.path));
        let deepest = around.filter_map(|f| Some((f.path.as_bytes().len(), say(f)?)));
        deepest.max_by_key(|(depth, _)| *depth).map(|(_, said)| said)
    }
}
