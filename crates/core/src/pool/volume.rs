//! The sections about volumes: who is in them, and how files lie there.

use std::collections::BTreeMap;
use std::ops::Range;

use toml_edit::Table;

use super::fields::Fields;
use super::share::read_share;
use super::{
    CacheSpec, DiskSpec, FolderSpec, Hold, Landing, Mistake, MountSpec, Share, SizeLimit, Tier, VolumeKind,
    VolumeSpec,
};
use crate::path::RelPath;
use crate::placement::Placement;
use crate::stretch::{parse_days as days, parse_stretch};
use crate::suggest::unknown;
use crate::units::{ByteLength, MAX_CACHES, MAX_PARITIES, MAX_SLOTS};

/// A name and where it stands in the file.
type Name = (String, Range<usize>);

/// The disks that a volume names, by what they do.
struct Members {
    data: Vec<Name>,
    parity: Vec<Vec<Name>>,
    cache: Vec<Name>,
    fast: Vec<Name>,
}

impl Members {
    fn read(fields: &mut Fields<'_>) -> Self {
        let members = Self {
            data: fields.texts("data"),
            parity: fields.text_groups("parity"),
            cache: fields.texts("cache"),
            fast: fields.texts("fast"),
        };
        if members.data.is_empty() {
            let span = fields.span.clone();
            fields.mistake(span, "a volume needs at least one data disk: data = [\"…\"]");
        }
        let excess = [
            (members.data.get(MAX_SLOTS), format!("a volume has at most {MAX_SLOTS} data disks")),
            (
                members.parity.get(MAX_PARITIES).and_then(|group| group.first()),
                format!("a volume has at most {MAX_PARITIES} parity disks"),
            ),
            (members.cache.get(MAX_CACHES), format!("a volume has at most {MAX_CACHES} cache disks")),
        ];
        for (entry, message) in excess {
            if let Some((_, span)) = entry {
                fields.mistake(span.clone(), message);
            }
        }
        members
    }

    /// All of them: data first, then parity, then caches.
    fn all(&self) -> impl Iterator<Item = &Name> {
        self.data.iter().chain(self.parity.iter().flatten()).chain(&self.cache)
    }
}

pub(super) fn read_volume(
    table: &Table,
    disks: &[DiskSpec],
    mistakes: &mut Vec<Mistake>,
) -> Option<VolumeSpec> {
    let mut fields = Fields::new(table, "[[volume]]", table.span().unwrap_or(0..0), mistakes);
    let name = fields.required_text("name");
    let kind = fields.read("kind", read_kind).unwrap_or(VolumeKind::Unstriped);
    let members = Members::read(&mut fields);
    let placement = fields.read("placement", read_placement);
    let leave_out = fields.texts("leave_out").into_iter().map(|(text, _)| text).collect();
    let stop_when_gone = fields.read("stop_when_gone", read_share);
    let limit = fields.read("limit", read_limit);
    let copies = fields.count("copies");
    let cache_copies = fields.count("cache_copies");
    let reserve = fields.read("reserve", read_limit);
    let half_life = fields.read("half_life", days);
    let settle_every = fields.read("settle_every", days);
    let settle_after = fields.read("settle_after", days);
    let unguarded_at_most = fields.read("unguarded_at_most", parse_stretch);
    let folders = read_folders(&mut fields);
    let mount = read_mount(&mut fields);
    let words = Words { kind, has_cache: !members.cache.is_empty(), members: &members };
    words.check_copies(copies, cache_copies, &mut fields);
    words.check_tiers(&mut fields);
    words.check_folders(&folders, &mut fields);
    words.check_placement(placement, &mut fields);
    fields.finish();
    check_members(members.all(), disks, mistakes);
    let (name, name_span) = name?;
    let member_spans = members.all().map(|(_, span)| span.clone()).collect();
    let names = |members: Vec<Name>| members.into_iter().map(|(text, _)| text).collect::<Vec<_>>();
    let usual = if kind == VolumeKind::Spanned { Placement::InOrder } else { Placement::default() };
    Some(VolumeSpec {
        name,
        kind,
        copies: if kind == VolumeKind::Mirrored { copies.unwrap_or(2) as usize } else { 1 },
        parity: members.parity.into_iter().map(names).collect(),
        fast: names(members.fast),
        cache: CacheSpec {
            disks: names(members.cache),
            copies: cache_copies.unwrap_or(1) as usize,
            settle_every,
            settle_after: settle_after.unwrap_or(CacheSpec::USUAL_SETTLE_AFTER),
        },
        reserve,
        half_life: half_life.unwrap_or(VolumeSpec::USUAL_HALF_LIFE),
        folders,
        mount,
        data: names(members.data),
        placement: placement.unwrap_or(usual),
        limit,
        unguarded_at_most,
        leave_out,
        stop_when_gone: stop_when_gone.unwrap_or(Share::percent(50)),
        name_span,
        member_spans,
    })
}

fn read_kind(text: &str) -> Result<VolumeKind, String> {
    VolumeKind::ALL
        .into_iter()
        .find(|kind| kind.word() == text)
        .ok_or_else(|| format!("unknown kind `{text}`: write unstriped, spanned, tiered or mirrored"))
}

fn read_placement(text: &str) -> Result<Placement, String> {
    Placement::ALL
        .into_iter()
        .find(|p| p.word() == text)
        .ok_or_else(|| format!("unknown placement `{text}`: write emptiest, in-order or keep-together"))
}

fn read_limit(text: &str) -> Result<SizeLimit, String> {
    let is_bare = text.trim().bytes().all(|b| b.is_ascii_digit() || b == b'.') && !text.trim().is_empty();
    let bare = || format!("`{text}` has no unit: write \"{text} %\" or \"{text} GB\"");
    let wrong = || format!("`{text}` is no size and no share: write \"20 TB\" or \"80 %\"");
    SizeLimit::parse(text).ok_or_else(|| if is_bare { bare() } else { wrong() })
}

/// How the volume is served as one drive.
fn read_mount(fields: &mut Fields<'_>) -> MountSpec {
    let usual = MountSpec::default();
    let size = |text: &str| ByteLength::parse(text).map_err(|e| e.to_string());
    MountSpec {
        hold_copies_up_to: fields.read("hold_copies_up_to", size).unwrap_or(usual.hold_copies_up_to),
        held_at_most: fields.read("held_at_most", read_limit).unwrap_or(usual.held_at_most),
        headroom: fields.read("headroom", read_limit),
        move_at_most: fields.read("move_at_most", size).unwrap_or(usual.move_at_most),
    }
}

/// The [[volume.folder]] sections.
fn read_folders(fields: &mut Fields<'_>) -> Vec<FolderSpec> {
    let Some(item) = fields.section("folder") else { return Vec::new() };
    let Some(tables) = item.as_array_of_tables() else {
        let span = item.span().unwrap_or(fields.span.clone());
        fields.mistake(span, "write each folder as a section of its own: [[volume.folder]]");
        return Vec::new();
    };
    tables.iter().filter_map(|table| read_folder(table, fields.mistakes)).collect()
}

fn read_folder(table: &Table, mistakes: &mut Vec<Mistake>) -> Option<FolderSpec> {
    let span = table.span().unwrap_or(0..0);
    let mut fields = Fields::new(table, "[[volume.folder]]", span.clone(), mistakes);
    fields.required_text("path");
    let path = fields.read("path", |text| {
        let path = RelPath::new(text.trim_end_matches('/').as_bytes());
        path.ok().filter(|path| !path.is_root() && !path.is_ours()).ok_or_else(|| {
            format!("`{text}` is no folder of the volume: write its path from the top of the volume, \"nest-cams\"")
        })
    });
    let landing = fields.read("landing", |text| {
        Landing::ALL
            .into_iter()
            .find(|landing| landing.word() == text)
            .ok_or_else(|| format!("unknown landing `{text}`: write cache, disks or stay"))
    });
    let pin = fields.read("pin", |text| {
        Tier::ALL
            .into_iter()
            .find(|tier| tier.word() == text)
            .ok_or_else(|| format!("unknown pin `{text}`: write fast or slow"))
    });
    let hold = fields.read("hold", |text| {
        Hold::ALL
            .into_iter()
            .find(|hold| hold.word() == text)
            .ok_or_else(|| format!("unknown hold `{text}`: write usual or never"))
    });
    if landing.is_none() && pin.is_none() && hold.is_none() {
        fields.mistake(span.clone(), "a folder says its `landing`, its `pin` or its `hold`");
    }
    fields.finish();
    Some(FolderSpec { path: path?, landing, pin, hold, span })
}

/// What the words of a volume have to agree with.
struct Words<'a> {
    kind: VolumeKind,
    has_cache: bool,
    members: &'a Members,
}

impl Words<'_> {
    fn check_placement(&self, placement: Option<Placement>, fields: &mut Fields<'_>) {
        if self.kind == VolumeKind::Spanned && placement.is_some_and(|p| p != Placement::InOrder) {
            let span = fields.span.clone();
            fields.mistake(span, "a spanned volume fills its disks in order: leave out `placement`");
        }
    }

    fn check_copies(&self, copies: Option<u32>, cache_copies: Option<u32>, fields: &mut Fields<'_>) {
        let span = fields.span.clone();
        let disks = self.members.data.len();
        if self.kind != VolumeKind::Mirrored {
            if copies.is_some() {
                fields.mistake(span.clone(), "`copies` is for mirrored volumes");
            }
        } else if disks < 2 {
            fields.mistake(span.clone(), "a mirrored volume needs at least two data disks");
        } else if copies.is_some_and(|copies| copies < 2 || copies as usize > disks) {
            fields
                .mistake(span.clone(), format!("`copies` is at least 2 and at most the {disks} data disks"));
        }
        let caches = self.members.cache.len();
        if cache_copies.is_some_and(|copies| copies as usize > caches) {
            fields.mistake(span, format!("`cache_copies` is more than the {caches} cache disks"));
        }
    }

    fn check_tiers(&self, fields: &mut Fields<'_>) {
        let Members { data, fast, .. } = self.members;
        if self.kind != VolumeKind::Tiered {
            if let Some((_, span)) = fast.first() {
                fields.mistake(span.clone(), "`fast` is for tiered volumes");
            }
            return;
        }
        for (name, span) in fast {
            if !data.iter().any(|(known, _)| known == name) {
                fields.mistake(span.clone(), format!("`{name}` is not among the data disks of the volume"));
            }
        }
        if fast.is_empty() || fast.len() >= data.len() {
            let span = fields.span.clone();
            fields.mistake(
                span,
                "a tiered volume names which of its data disks are fast, and some are not: fast = [\"…\"]",
            );
        }
    }

    fn check_folders(&self, folders: &[FolderSpec], fields: &mut Fields<'_>) {
        for (position, folder) in folders.iter().enumerate() {
            if folder.landing.is_some_and(|landing| landing != Landing::Disks) && !self.has_cache {
                fields.mistake(folder.span.clone(), "a landing on the cache needs a cache: cache = [\"…\"]");
            }
            if folder.pin.is_some() && self.kind != VolumeKind::Tiered {
                fields.mistake(folder.span.clone(), "`pin` is for tiered volumes");
            }
            if folders[..position].iter().any(|other| other.path == folder.path) {
                fields.mistake(folder.span.clone(), format!("there is a folder `{}` already", folder.path));
            }
        }
    }
}

fn check_members<'a>(
    members: impl Iterator<Item = &'a (String, Range<usize>)>,
    disks: &[DiskSpec],
    mistakes: &mut Vec<Mistake>,
) {
    for (name, span) in members {
        if !disks.iter().any(|d| d.name == *name) {
            mistakes.push(
                Mistake::new(span.clone(), unknown("disk", name, disks.iter().map(|d| d.name.as_str())))
                    .advise(format!("add a [[disk]] with name = \"{name}\", or correct the name")),
            );
        }
    }
}

/// A disk has one role in one volume.
pub(super) fn refuse_shared_members(volumes: &[VolumeSpec], mistakes: &mut Vec<Mistake>) {
    let mut used: BTreeMap<&str, &str> = BTreeMap::new();
    for volume in volumes {
        for (name, span) in volume.members().zip(&volume.member_spans) {
            if let Some(first) = used.insert(name, &volume.name) {
                let message = format!("disk `{name}` is used already, in volume `{first}`");
                mistakes.push(
                    Mistake::new(span.clone(), message)
                        .advise("a disk has one role in one volume: name it once"),
                );
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::parse;
    use super::*;
    use rstest::rstest;

    const GOOD: &str = r#"
[pool]
name = "fernhollow"

[[disk]]
name = "alder"

[[disk]]
name = "beech"

[[disk]]
name = "flint"

[[volume]]
name = "recordings"
kind = "tiered"
data = ["alder", "beech"]
fast = ["alder"]
cache = ["flint"]
reserve = "10 %"
settle_every = "12 hours"

[[volume.folder]]
path = "nest-cams/"
landing = "stay"

[[volume.folder]]
path = "nest-cams/old"
landing = "disks"
pin = "slow"
"#;

    #[test]
    fn a_volume_with_tiers_a_cache_and_folders_is_read() {
        let parsed = parse(GOOD);
        assert_eq!(parsed.mistakes, []);
        let volume = parsed.spec.unwrap().volumes.remove(0);
        assert_eq!(volume.members().collect::<Vec<_>>(), ["alder", "beech", "flint"]);
        assert_eq!((volume.tier_of("alder"), volume.tier_of("beech")), (Tier::Fast, Tier::Slow));
        assert_eq!(volume.cache.settle_every, Some(0.5));
        let landing = |path: &str| volume.landing_of(&RelPath::new(path).unwrap());
        assert_eq!(landing("field-notes/a"), Landing::Cache);
        assert_eq!(landing("nest-cams/a"), Landing::Stay);
        assert_eq!(landing("nest-cams/old/a"), Landing::Disks);
        assert_eq!(landing("nest-cams-2/a"), Landing::Cache);
        let pin = |path: &str| volume.pin_of(&RelPath::new(path).unwrap());
        assert_eq!((pin("nest-cams/a"), pin("nest-cams/old/x/a")), (None, Some(Tier::Slow)));
    }

    #[rstest]
    #[case("kind = \"tiered\"", "", "`fast` is for tiered volumes", 18)]
    #[case("kind = \"tiered\"", "kind = \"mirrored\"\ncopies = 3", "at most the 2 data disks", 14)]
    #[case("fast = [\"alder\"]", "fast = [\"elm\"]", "not among the data disks", 18)]
    #[case("fast = [\"alder\"]", "", "names which of its data disks are fast", 14)]
    #[case("fast = [\"alder\"]", "fast = [\"alder\", \"beech\"]", "and some are not", 14)]
    #[case("cache = [\"flint\"]", "", "needs a cache", 23)]
    #[case("cache = [\"flint\"]", "cache = [\"flint\"]\ncache_copies = 2", "more than the 1", 14)]
    #[case("cache = [\"flint\"]", "cache = [\"alder\"]", "is used already", 19)]
    #[case("\"stay\"", "\"sofa\"", "unknown landing `sofa`", 25)]
    #[case("\"slow\"", "\"soft\"", "unknown pin `soft`", 30)]
    #[case("path = \"nest-cams/\"", "path = \"../out\"", "no folder of the volume", 24)]
    #[case("path = \"nest-cams/old\"", "path = \"nest-cams\"", "`nest-cams` already", 27)]
    #[case("landing = \"stay\"", "", "says its `landing`", 23)]
    #[case("12 hours", "often", "no stretch of time", 21)]
    #[case("10 %", "some", "no size and no share", 20)]
    fn each_mistake_of_a_volume_is_found(
        #[case] from: &str,
        #[case] to: &str,
        #[case] message: &str,
        #[case] line: usize,
    ) {
        assert!(GOOD.contains(from));
        let text = GOOD.replacen(from, to, 1);
        let mistakes = parse(&text).mistakes;
        assert!(
            mistakes.iter().any(|m| m.message.contains(message) && m.line(&text) == line),
            "{:?}",
            mistakes.iter().map(|m| (m.line(&text), &m.message)).collect::<Vec<_>>()
        );
    }
}
