//! Whether a pool file speaks of the pool that was built: what can be followed, and what contradicts it.
//!
//! The pool is what its labels and its catalogue say; its file can be edited by hand at any time. A name that was changed
//! there is followed. Everything else that differs is told, and nothing is done before it is resolved: else a volume
//! under another name would pass for an empty one, in which all is well.

use super::{PoolSpec, Role, VolumeKind, VolumeSpec};

/// A volume as it was built.
#[derive(Clone, Debug)]
pub struct BuiltVolume {
    /// Its name.
    pub name: String,
    /// Its kind, if it is known.
    pub kind: Option<VolumeKind>,
    /// Its disks, with what they do.
    pub members: Vec<(String, Role)>,
}

/// A contradiction between the pool file and what was built, with what to type about it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Contradiction {
    /// The file has no such volume.
    #[error("volume {0} is part of the pool, and not of the pool file")]
    VolumeLeftOut(String, String),
    /// The file says that it is of another kind.
    #[error("volume {volume} was built {}, and the pool file says {}", built.word(), said.word())]
    OtherKind {
        /// The volume.
        volume: String,
        /// What it is.
        built: VolumeKind,
        /// What the file says.
        said: VolumeKind,
    },
    /// The file does not name one of its disks.
    #[error("{disk} is a {role} disk of volume {volume}, and the pool file does not name it there")]
    DiskLeftOut {
        /// The volume.
        volume: String,
        /// The disk.
        disk: String,
        /// What it does.
        role: Role,
    },
    /// The file gives one of its disks another place.
    #[error(
        "{disk} is a {role} disk of volume {volume}, and the pool file has it as {said_role} of {said_volume}"
    )]
    DiskElsewhere {
        /// The volume.
        volume: String,
        /// The disk.
        disk: String,
        /// What it does.
        role: Role,
        /// The volume that the file gives it to.
        said_volume: String,
        /// What the file says that it does there.
        said_role: Role,
    },
}

impl Contradiction {
    /// What to do about it.
    pub fn advice(&self) -> String {
        match self {
            Self::VolumeLeftOut(name, section) => {
                format!("write it again:\n{section}\nand to end it, after that: zinc-sieve dissolve {name}")
            }
            Self::OtherKind { volume, built, said } => format!(
                "write kind = \"{}\" for {volume} again; for another kind, after that: zinc-sieve convert {volume} --to {}",
                built.word(),
                said.word()
            ),
            Self::DiskLeftOut { volume, disk, role: Role::Data } => format!(
                "name {disk} in `data` of {volume} again; to take it out, after that: zinc-sieve vacate {disk}; if the disk is dead: zinc-sieve fate --lose {disk}, then zinc-sieve rebuild {disk} --onto DIR"
            ),
            Self::DiskLeftOut { volume, disk, role } => format!(
                "name {disk} in `{role}` of {volume} again; to take it out, after that: zinc-sieve vacate {disk}"
            ),
            Self::DiskElsewhere { volume, disk, role, .. } => {
                format!("name {disk} in `{role}` of {volume} again, and nowhere else")
            }
        }
    }
}

/// What a pool file says beside what was built.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Agreement {
    /// Volumes with a new name: the old one, the new one.
    pub renamed_volumes: Vec<(String, String)>,
    /// Disks with a new name: the old one, the new one.
    pub renamed_disks: Vec<(String, String)>,
    /// What contradicts.
    pub contradictions: Vec<Contradiction>,
    /// Volumes of the file that were not built yet.
    pub not_built: Vec<String>,
    /// Disks that the file gives to a volume, and that are no members yet: the disk, the volume, what it is to do.
    pub not_joined: Vec<(String, String, Role)>,
}

impl Agreement {
    /// Whether a name was changed.
    pub const fn has_renames(&self) -> bool {
        !self.renamed_volumes.is_empty() || !self.renamed_disks.is_empty()
    }
}

/// Compares a pool file with the volumes that were built. `is_same` tells whether the disk that the file calls by its second
/// argument is the member of its first: its label says so.
pub fn compare(
    spec: &PoolSpec,
    built: &[BuiltVolume],
    mut is_same: impl FnMut(&str, &str) -> bool,
) -> Agreement {
    let mut agreement = Agreement::default();
    let mut matched = Vec::new();
    for volume in built {
        match successor(spec, built, volume, &matched) {
            Some(said) => {
                matched.push(&said.name);
                if said.name != volume.name {
                    agreement.renamed_volumes.push((volume.name.clone(), said.name.clone()));
                }
                compare_volume(spec, built, volume, said, &mut is_same, &mut agreement);
            }
            None => agreement
                .contradictions
                .push(Contradiction::VolumeLeftOut(volume.name.clone(), section_of(volume))),
        }
    }
    let not_built = spec.volumes.iter().filter(|said| !matched.contains(&&said.name));
    agreement.not_built = not_built.map(|said| said.name.clone()).collect();
    agreement
}

/// The volume of the file that is this one: the one of its name, else one of a new name that has disks of it and was not found
/// to be another one: two that were built never become one.
fn successor<'s>(
    spec: &'s PoolSpec,
    built: &[BuiltVolume],
    volume: &BuiltVolume,
    matched: &[&String],
) -> Option<&'s VolumeSpec> {
    let by_name = spec.volumes.iter().find(|said| said.name == volume.name);
    let is_new = |said: &&VolumeSpec| {
        built.iter().all(|other| other.name != said.name) && !matched.contains(&&said.name)
    };
    let has_its_disks = |said: &&VolumeSpec| {
        said.roles().any(|(role, _, disk)| volume.members.contains(&(disk.clone(), role)))
    };
    by_name.or_else(|| spec.volumes.iter().find(|said| is_new(said) && has_its_disks(said)))
}

fn compare_volume(
    spec: &PoolSpec,
    built: &[BuiltVolume],
    volume: &BuiltVolume,
    said: &VolumeSpec,
    is_same: &mut impl FnMut(&str, &str) -> bool,
    agreement: &mut Agreement,
) {
    if let Some(kind) = volume.kind.filter(|kind| *kind != said.kind) {
        agreement.contradictions.push(Contradiction::OtherKind {
            volume: said.name.clone(),
            built: kind,
            said: said.kind,
        });
    }
    let is_member =
        |disk: &str| built.iter().any(|volume| volume.members.iter().any(|(name, _)| name == disk));
    let roles = said.roles().map(|(role, _, disk)| (disk, role));
    let mut new: Vec<(&String, Role)> = roles.filter(|(disk, _)| !is_member(disk)).collect();
    for (disk, role) in &volume.members {
        let place = spec
            .volumes
            .iter()
            .find_map(|other| other.roles().find(|(.., name)| *name == disk).map(|(role, ..)| (other, role)));
        match place {
            Some((other, here)) if other.name == said.name && here == *role => {}
            Some((other, here)) => agreement.contradictions.push(Contradiction::DiskElsewhere {
                volume: said.name.clone(),
                disk: disk.clone(),
                role: *role,
                said_volume: other.name.clone(),
                said_role: here,
            }),
            None => match new.iter().position(|(name, as_role)| as_role == role && is_same(disk, name)) {
                Some(position) => {
                    let (name, _) = new.remove(position);
                    agreement.renamed_disks.push((disk.clone(), name.clone()));
                }
                None => agreement.contradictions.push(Contradiction::DiskLeftOut {
                    volume: said.name.clone(),
                    disk: disk.clone(),
                    role: *role,
                }),
            },
        }
    }
    let new = new.into_iter().map(|(disk, role)| (disk.clone(), said.name.clone(), role));
    agreement.not_joined.extend(new);
}

/// What to write into the pool file about a volume.
fn section_of(volume: &BuiltVolume) -> String {
    let mut lines = vec!["[[volume]]".to_string(), format!("name = \"{}\"", volume.name)];
    lines.extend(volume.kind.map(|kind| format!("kind = \"{}\"", kind.word())));
    for role in [Role::Data, Role::Parity, Role::Cache] {
        let names: Vec<String> = volume
            .members
            .iter()
            .filter(|(_, of)| *of == role)
            .map(|(name, _)| format!("\"{name}\""))
            .collect();
        if !names.is_empty() {
            lines.push(format!("{role} = [{}]", names.join(", ")));
        }
    }
    lines.join("\n")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::parse;
    use super::*;

    const FILE: &str = "[pool]\nname = \"fernhollow\"\n[[disk]]\nname = \"alder\"\n[[disk]]\nname = \"beech\"\n[[disk]]\nname = \"oak\"\n[[disk]]\nname = \"flint\"\n[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n";

    fn built() -> Vec<BuiltVolume> {
        let members = [("alder", Role::Data), ("beech", Role::Data), ("oak", Role::Parity)];
        vec![BuiltVolume {
            name: "recordings".into(),
            kind: Some(VolumeKind::Unstriped),
            members: members.map(|(name, role)| (name.into(), role)).to_vec(),
        }]
    }

    /// The file after an edit, beside what was built; disks are recognised as `oak` and `rowan`.
    fn after(from: &str, to: &str) -> Agreement {
        assert!(FILE.contains(from));
        let edited = FILE.replace(from, to);
        let spec = parse(&edited).spec.unwrap_or_else(|| panic!("{edited}"));
        compare(&spec, &built(), |built, said| (built, said) == ("oak", "rowan"))
    }

    #[test]
    fn a_file_that_says_what_was_built_is_agreed_with() {
        assert_eq!(after("fernhollow", "elsewhere"), Agreement::default());
    }

    #[test]
    fn names_that_were_changed_are_followed() {
        let agreement = after("recordings", "songs");
        assert_eq!(agreement.renamed_volumes, [("recordings".to_string(), "songs".to_string())]);
        assert_eq!(agreement.contradictions, []);
        let agreement = after("\"oak\"", "\"rowan\"");
        assert_eq!(agreement.renamed_disks, [("oak".to_string(), "rowan".to_string())]);
        assert_eq!(agreement.contradictions, []);
    }

    #[rstest]
    #[case(
        "kind = \"unstriped\"",
        "kind = \"mirrored\"",
        "was built unstriped, and the pool file says mirrored"
    )]
    #[case("parity = [\"oak\"]\n", "", "oak is a parity disk of volume recordings")]
    #[case("[\"alder\", \"beech\"]", "[\"alder\"]", "beech is a data disk of volume recordings")]
    #[case("parity = [\"oak\"]", "cache = [\"oak\"]", "as cache of recordings")]
    #[case("\"beech\"", "\"elm\"", "beech is a data disk")]
    #[case(
        "name = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]",
        "name = \"other\"\ndata = [\"flint\"]",
        "volume recordings is part of the pool, and not of the pool file"
    )]
    fn everything_else_that_differs_is_a_contradiction(
        #[case] from: &str,
        #[case] to: &str,
        #[case] words: &str,
    ) {
        let agreement = after(from, to);
        let told: Vec<String> = agreement.contradictions.iter().map(ToString::to_string).collect();
        assert!(told.iter().any(|text| text.contains(words)), "{told:?}");
        assert!(agreement.contradictions.iter().all(|c| !c.advice().is_empty()));
    }

    #[test]
    fn two_volumes_that_were_built_never_become_one() {
        let spec = parse(&FILE.replace("recordings", "all")).spec.unwrap();
        let volume = |name: &str, disk: &str, role| BuiltVolume {
            name: name.into(),
            kind: None,
            members: vec![(disk.to_string(), role)],
        };
        let built = [volume("one", "alder", Role::Data), volume("two", "beech", Role::Data)];
        let agreement = compare(&spec, &built, |_, _| false);
        assert_eq!(agreement.renamed_volumes, [("one".to_string(), "all".to_string())]);
        assert!(
            matches!(&agreement.contradictions[..], [Contradiction::VolumeLeftOut(name, _)] if name == "two")
        );
    }

    #[test]
    fn what_is_only_in_the_file_waits_to_be_built() {
        let agreement = after("parity = [\"oak\"]", "parity = [\"oak\"]\ncache = [\"flint\"]");
        assert_eq!(agreement.not_joined, [("flint".into(), "recordings".into(), Role::Cache)]);
        assert_eq!(agreement.contradictions, []);
    }
}
