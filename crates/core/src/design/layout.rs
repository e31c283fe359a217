//! The ways to lay volumes over disks.

use schemars::JsonSchema;
use serde::Serialize;

use crate::units::ByteLength;

/// A way to lay a volume over disks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(tag = "layout", rename_all = "kebab-case")]
pub enum Layout {
    /// Disks filled one after another, nothing guarded.
    Spanned,
    /// Every file on two disks.
    Mirrored {
        /// How many parity drives guard it besides.
        parities: u8,
    },
    /// Files cut into strips over all disks, with parity that moves from disk to disk; for comparison only.
    RotatingParity {
        /// How many strips of parity each stripe has.
        parities: u8,
    },
    /// Whole files on single disks, with dedicated parity drives.
    Unstriped {
        /// How many parity drives.
        parities: u8,
    },
    /// SSDs and hard disks as one space, hot files on the SSDs.
    Tiered {
        /// How many parity drives.
        parities: u8,
    },
}

impl Layout {
    /// What people call it.
    pub fn name(self) -> String {
        let guarded = |kind: &str, parities: u8| match parities {
            0 => kind.to_string(),
            n => format!("{kind}, {n} parity"),
        };
        match self {
            Self::Spanned => "spanned".into(),
            Self::Mirrored { parities } => guarded("mirrored", parities),
            Self::RotatingParity { parities } => format!("stripe, {parities} rotating parity"),
            Self::Unstriped { parities: 0 } => "unstriped, no parity".into(),
            Self::Unstriped { parities } => guarded("unstriped", parities),
            Self::Tiered { parities } => guarded("tiered", parities),
        }
    }

    /// Whether it is here to be compared with, and is not to be built.
    pub const fn is_for_comparison(self) -> bool {
        matches!(self, Self::RotatingParity { .. })
    }
}

/// A volume of a plan, with its disks.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
#[schemars(rename = "DesignedVolume")]
pub struct PlannedVolume {
    /// How it is laid.
    #[serde(flatten)]
    pub layout: Layout,
    /// The disks that hold files, as positions in the list of all.
    pub data: Vec<usize>,
    /// The parity drives.
    pub parity: Vec<usize>,
    /// The SSDs in front of it.
    pub cache: Vec<usize>,
    /// What may be stored in it.
    #[serde(rename = "usable_bytes")]
    pub usable: ByteLength,
}

impl PlannedVolume {
    /// Its data disks, and its parity drives behind them.
    pub fn members(&self) -> impl Iterator<Item = usize> {
        self.data.iter().chain(&self.parity).copied()
    }

    fn name(&self) -> String {
        match self.cache.len() {
            0 => self.layout.name(),
            1 => format!("{} + cache", self.layout.name()),
            n => format!("{} + cache on {n}", self.layout.name()),
        }
    }
}

/// One or more volumes, with every disk given its part.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Plan {
    /// The volumes, the largest first.
    pub volumes: Vec<PlannedVolume>,
    /// Disks without a part.
    pub unused: Vec<usize>,
    /// What may be stored.
    #[serde(rename = "usable_bytes")]
    pub usable: ByteLength,
}

impl Plan {
    pub(super) fn new(mut volumes: Vec<PlannedVolume>, unused: Vec<usize>) -> Self {
        volumes.sort_by_key(|volume| std::cmp::Reverse(volume.usable));
        let usable = volumes.iter().map(|volume| volume.usable).sum();
        Self { volumes, unused, usable }
    }

    /// The disks that hold files or parity.
    pub fn members(&self) -> impl Iterator<Item = usize> {
        self.volumes.iter().flat_map(PlannedVolume::members)
    }

    /// The SSDs in front of its volumes.
    pub fn caches(&self) -> impl Iterator<Item = usize> {
        self.volumes.iter().flat_map(|volume| volume.cache.iter().copied())
    }

    /// The layout, where it is one volume.
    pub fn layout(&self) -> Option<Layout> {
        match &self.volumes[..] {
            [volume] => Some(volume.layout),
            _ => None,
        }
    }

    /// Whether it is here to be compared with, and is not to be built.
    pub fn is_for_comparison(&self) -> bool {
        self.volumes.iter().any(|volume| volume.layout.is_for_comparison())
    }

    /// What it is called: of several volumes each with its number of disks.
    pub fn name(&self) -> String {
        match &self.volumes[..] {
            [volume] => volume.name(),
            volumes => {
                let told = |volume: &PlannedVolume| format!("{} {}", volume.members().count(), volume.name());
                volumes.iter().map(told).collect::<Vec<_>>().join("; ")
            }
        }
    }
}
