//! What is wanted, in words that the other commands use.

use std::fmt;

use super::standing::{DriveId, Ground, Seat, Standing};
use crate::pool::{Role, VolumeKind};
use crate::suggest::unknown;
use crate::units::ByteLength;

/// What a volume is to be in the end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Goal {
    /// A member is on a disk of at least so much.
    Size {
        /// The member.
        name: String,
        /// The least that its disk has.
        size: ByteLength,
    },
    /// Every parity drive has at least so much.
    ParitySize(ByteLength),
    /// The disk on which a member is now does something else.
    Holds {
        /// The member's name now.
        name: String,
        /// Its disk.
        drive: DriveId,
        /// What the disk is to do.
        role: Role,
    },
    /// A member and its disk are gone.
    Without {
        /// The member.
        name: String,
        /// Its disk.
        drive: DriveId,
    },
    /// There are so many parity drives.
    Parities(usize),
    /// There is room for at least so much of files.
    Space(ByteLength),
    /// It is of this kind.
    Kind(VolumeKind),
}

/// All that has to be so in the end: the goals, and what nobody said because it goes without saying.
#[derive(Clone, Debug)]
pub(super) struct Wanted<'a> {
    pub(super) goals: &'a [Goal],
    /// As many parity drives as now, unless a goal says how many.
    pub(super) parities: usize,
    /// As much space for files as now, but for the disks that a goal takes away.
    space: ByteLength,
    /// As many caches as now, but for those that a goal takes away.
    caches: usize,
    /// The kind in the end.
    pub(super) kind: VolumeKind,
    /// On how many disks each file lies in the end.
    pub(super) copies: usize,
}

impl<'a> Wanted<'a> {
    pub(super) fn of(ground: &Ground, goals: &'a [Goal]) -> Self {
        let start = &ground.start;
        let is_taken = |seat: &&Seat| {
            goals.iter().any(|goal| match goal {
                Goal::Without { drive, .. } => seat.drive == *drive,
                Goal::Holds { drive, role, .. } => seat.drive == *drive && seat.role != *role,
                _ => false,
            })
        };
        let kept = |role| start.of_role(role).filter(move |seat| !is_taken(seat));
        let counted = goals.iter().any(|goal| matches!(goal, Goal::Parities(_)));
        let kind = goals.iter().find_map(Goal::kind).unwrap_or(start.kind);
        let space: ByteLength = kept(Role::Data).map(|seat| ground.size(seat)).sum();
        let is_mirrored = kind == VolumeKind::Mirrored;
        let copies = if is_mirrored { ground.copies } else { 1 };
        Self {
            goals,
            parities: if counted { 0 } else { start.parities() },
            // What is mirrored in the end or now has less room for files on the same disks.
            space: ByteLength::new(space.exact() / copies.max(start.copies(ground)) as u64),
            caches: kept(Role::Cache).count(),
            kind,
            copies,
        }
    }

    /// How many parity drives there are in the end, at the least.
    pub(super) fn final_parities(&self) -> usize {
        let said = self.goals.iter().filter_map(|goal| match goal {
            Goal::Parities(count) => Some(*count),
            Goal::ParitySize(_) => Some(1),
            _ => None,
        });
        said.max().unwrap_or(0).max(self.parities)
    }

    /// The least space for files in the end.
    pub(super) fn least_space(&self) -> ByteLength {
        let said = self.goals.iter().filter_map(|goal| match goal {
            Goal::Space(size) => Some(*size),
            _ => None,
        });
        said.max().unwrap_or_default().max(self.space)
    }

    /// Whether a drive is out in the end.
    pub(super) fn is_out(&self, position: usize) -> bool {
        let is_out = |goal: &Goal| matches!(goal, Goal::Without { drive, .. } if drive.index() == position);
        self.goals.iter().any(is_out)
    }

    pub(super) fn is_reached(&self, ground: &Ground, standing: &Standing) -> bool {
        standing.synced
            && standing.kind == self.kind
            && standing.parities() >= self.parities
            && standing.space(ground) >= self.space
            && standing.of_role(Role::Cache).count() >= self.caches
            && self.goals.iter().all(|goal| goal.is_reached(ground, standing))
    }
}

/// Why words are no goal.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum GoalError {
    /// They are of no form that is known.
    #[error("`{0}` is no goal")]
    Form(String),
    /// No member has this name.
    #[error("{0}")]
    Name(String),
    /// What should be a size is none.
    #[error("`{text}`: {why}")]
    Size {
        /// The goal.
        text: String,
        /// What is wrong.
        why: String,
    },
}

impl Goal {
    /// The forms there are.
    pub const FORMS: &'static str = "\"cedar is 14 TB\", \"parity is 14 TB\", \"oak holds data\", \"without beech\", \"2 parities\", \"10 TB more\", \"46 TB in all\", \"kind is mirrored\"";

    /// Reads a goal; what is relative is taken from what there is now.
    ///
    /// # Errors
    /// When it is of no known form, or names what is not there.
    pub fn parse(text: &str, ground: &Ground) -> Result<Self, GoalError> {
        let words: Vec<&str> = text.split_whitespace().collect();
        let size = |words: &[&str]| {
            let parsed = ByteLength::parse(&words.join(" "));
            parsed.map_err(|why| GoalError::Size { text: text.into(), why: why.to_string() })
        };
        match words.as_slice() {
            ["kind", "is", kind] if ground.start.seat("kind").is_none() => {
                let kind = VolumeKind::ALL.into_iter().find(|known| known.word() == *kind);
                // Which of its disks are fast is more than these words say.
                let kind = kind.filter(|kind| *kind != VolumeKind::Tiered || ground.start.kind == *kind);
                kind.map(Self::Kind).ok_or_else(|| GoalError::Form(text.into()))
            }
            [name, "is", rest @ ..] if !rest.is_empty() => {
                let size = size(rest)?;
                if *name == "parity" && ground.start.seat("parity").is_none() {
                    return Ok(Self::ParitySize(size));
                }
                seat(ground, name)?;
                Ok(Self::Size { name: (*name).into(), size })
            }
            [name, "holds", what] => {
                let role = match *what {
                    "data" => Role::Data,
                    "parity" => Role::Parity,
                    _ => return Err(GoalError::Form(text.into())),
                };
                Ok(Self::Holds { name: (*name).into(), drive: seat(ground, name)?, role })
            }
            ["without", name] => Ok(Self::Without { name: (*name).into(), drive: seat(ground, name)? }),
            [count, "parity" | "parities"] | [count, "parity", "drive" | "drives"] => {
                let count = count.parse().ok().filter(|count| *count <= Role::Parity.slots());
                count.map(Self::Parities).ok_or_else(|| GoalError::Form(text.into()))
            }
            [rest @ .., "more"] if !rest.is_empty() => {
                Ok(Self::Space(ground.start.space(ground).plus(size(rest)?)))
            }
            [rest @ .., "in", "all"] if !rest.is_empty() => Ok(Self::Space(size(rest)?)),
            _ => Err(GoalError::Form(text.into())),
        }
    }

    /// Whether it is so.
    pub fn is_reached(&self, ground: &Ground, standing: &Standing) -> bool {
        match self {
            Self::Size { name, size } => {
                standing.seat(name).is_some_and(|seat| ground.size(&standing.seats[seat]) >= *size)
            }
            Self::ParitySize(size) => {
                standing.parities() > 0
                    && standing.of_role(Role::Parity).all(|seat| ground.size(seat) >= *size)
            }
            Self::Holds { drive, role, .. } => standing.of_role(*role).any(|seat| seat.drive == *drive),
            Self::Without { name, drive } => {
                standing.seats.iter().all(|seat| seat.drive != *drive && *seat.name != **name)
            }
            Self::Parities(count) => standing.parities() == *count,
            Self::Space(size) => standing.space(ground) >= *size,
            Self::Kind(kind) => standing.kind == *kind,
        }
    }

    /// The kind that it speaks of.
    pub(super) fn kind(&self) -> Option<VolumeKind> {
        match self {
            Self::Kind(kind) => Some(*kind),
            _ => None,
        }
    }

    /// The disk that it speaks of, which no other can stand in for.
    pub(super) fn drive(&self) -> Option<DriveId> {
        match self {
            Self::Holds { drive, .. } | Self::Without { drive, .. } => Some(*drive),
            _ => None,
        }
    }

    /// The member that it speaks of.
    pub(super) fn member(&self) -> Option<&str> {
        match self {
            Self::Size { name, .. } | Self::Holds { name, .. } | Self::Without { name, .. } => Some(name),
            Self::ParitySize(_) | Self::Parities(_) | Self::Space(_) | Self::Kind(_) => None,
        }
    }
}

impl fmt::Display for Goal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Size { name, size } => write!(f, "{name} is {size}"),
            Self::ParitySize(size) => write!(f, "parity is {size}"),
            Self::Holds { name, role, .. } => write!(f, "{name} holds {}", role.word()),
            Self::Without { name, .. } => write!(f, "without {name}"),
            Self::Parities(1) => write!(f, "1 parity"),
            Self::Parities(count) => write!(f, "{count} parities"),
            Self::Space(size) => write!(f, "{size} in all"),
            Self::Kind(kind) => write!(f, "kind is {}", kind.word()),
        }
    }
}

fn seat(ground: &Ground, name: &str) -> Result<DriveId, GoalError> {
    match ground.start.seat(name) {
        Some(seat) => Ok(ground.start.seats[seat].drive),
        None => {
            let names = ground.start.seats.iter().map(|seat| &*seat.name);
            Err(GoalError::Name(unknown("member", name, names)))
        }
    }
}
