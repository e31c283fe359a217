//! Words that are chosen from, as they are typed.

/// A wish, as it is typed.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Wish {
    Space,
    Safety,
    Speed,
    Cheap,
}

impl From<Wish> for sieve_core::design::Want {
    fn from(wish: Wish) -> Self {
        match wish {
            Wish::Space => Self::Space,
            Wish::Safety => Self::Safety,
            Wish::Speed => Self::Speed,
            Wish::Cheap => Self::Cheap,
        }
    }
}

/// A filesystem, as it is typed.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum FilesystemWord {
    Ext4,
    Xfs,
}

impl From<FilesystemWord> for sieve_core::prepare::NewFilesystem {
    fn from(word: FilesystemWord) -> Self {
        match word {
            FilesystemWord::Ext4 => Self::Ext4,
            FilesystemWord::Xfs => Self::Xfs,
        }
    }
}

/// A fate, as it is typed.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum FateWord {
    Untouched,
    Rebuilt,
    Older,
    Torn,
    Gone,
}

impl From<FateWord> for sieve_core::fate::Fate {
    fn from(word: FateWord) -> Self {
        match word {
            FateWord::Untouched => Self::Untouched,
            FateWord::Rebuilt => Self::Rebuilt,
            FateWord::Older => Self::Older,
            FateWord::Torn => Self::Torn,
            FateWord::Gone => Self::Gone,
        }
    }
}

/// How much a disk tests of itself, as it is typed.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum ReachWord {
    Short,
    Long,
}

impl From<ReachWord> for sieve_disk::self_test::Reach {
    fn from(word: ReachWord) -> Self {
        match word {
            ReachWord::Short => Self::Short,
            ReachWord::Long => Self::Long,
        }
    }
}

/// What has a name, as it is typed.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum NamedWord {
    Disk,
    Volume,
    Pool,
}

impl From<NamedWord> for sieve_catalogue::pool_file::Named {
    fn from(word: NamedWord) -> Self {
        match word {
            NamedWord::Disk => Self::Disk,
            NamedWord::Volume => Self::Volume,
            NamedWord::Pool => Self::Pool,
        }
    }
}

/// A kind of volume, as it is typed.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum KindWord {
    Unstriped,
    Spanned,
    Tiered,
    Mirrored,
}

impl From<KindWord> for sieve_core::pool::VolumeKind {
    fn from(word: KindWord) -> Self {
        match word {
            KindWord::Unstriped => Self::Unstriped,
            KindWord::Spanned => Self::Spanned,
            KindWord::Tiered => Self::Tiered,
            KindWord::Mirrored => Self::Mirrored,
        }
    }
}

/// What a disk does, as it is typed.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum RoleWord {
    Data,
    Parity,
    Cache,
}

impl From<RoleWord> for sieve_catalogue::label::Role {
    fn from(word: RoleWord) -> Self {
        match word {
            RoleWord::Data => Self::Data,
            RoleWord::Parity => Self::Parity,
            RoleWord::Cache => Self::Cache,
        }
    }
}

/// By what an answer is broken down.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Breakdown {
    Folder,
    Disk,
    Type,
}

/// When colours are used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum ColorWord {
    Auto,
    Always,
    Never,
}

impl From<ColorWord> for colorchoice::ColorChoice {
    fn from(word: ColorWord) -> Self {
        match word {
            ColorWord::Auto => Self::Auto,
            ColorWord::Always => Self::Always,
            ColorWord::Never => Self::Never,
        }
    }
}
