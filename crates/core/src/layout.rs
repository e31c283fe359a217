//! Where our own things lie: in one folder on every member, and beside the pool file.

use crate::path::RelPath;

/// One of our places, below the root of a disk or the folder of the pool file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OurPlace {
    /// The folder that all of them lie in.
    Folder,
    /// Who a member is, as it says itself.
    Label,
    /// The catalogue, beside the pool file.
    Catalogue,
    /// The catalogue of a pool that is being made.
    CatalogueBegun,
    /// A replica on its way to become the catalogue.
    CatalogueTaken,
    /// A replica on its way to a member.
    ReplicaNew,
    /// Files that were removed or replaced since the last sync.
    Held,
    /// What is held, said on the disk itself.
    HeldNames,
    /// Parts of files that lie on several disks.
    Pieces,
    /// A parity image.
    Parity,
    /// The table of a parity image.
    ParityTable,
    /// Bytes that were mended, as they were.
    Replaced,
    /// Files that are not finished.
    Unfinished,
    /// Where it is tried what a filesystem can.
    Fitness,
    /// What was done, beside the pool file.
    Journal,
    /// What was done earlier.
    JournalClosed,
    /// What was told of the pool, beside the pool file.
    Notices,
    /// The lock of whoever tells.
    NoticesLock,
    /// Measured speeds, beside the pool file.
    Curves,
    /// Measured speeds of landings, beside the pool file.
    Landings,
    /// The lock of the long writer.
    Lock,
    /// Who has it.
    LockHolder,
    /// How far that one is.
    LockProgress,
    /// The lock that short writers take in turn.
    Turn,
    /// Volumes that are mounted as one drive, beside the pool file.
    Mounts,
}

impl OurPlace {
    const fn text(self) -> &'static str {
        match self {
            Self::Folder => ".zinc-sieve",
            Self::Label => ".zinc-sieve/label.toml",
            Self::Catalogue => ".zinc-sieve/catalogue.sqlite",
            Self::CatalogueBegun => ".zinc-sieve/catalogue.begun",
            Self::CatalogueTaken => ".zinc-sieve/catalogue.taken",
            Self::ReplicaNew => ".zinc-sieve/replica.new",
            Self::Held => ".zinc-sieve/held",
            Self::HeldNames => ".zinc-sieve/held-names",
            Self::Pieces => ".zinc-sieve/pieces",
            Self::Parity => ".zinc-sieve/parity",
            Self::ParityTable => ".zinc-sieve/parity/table",
            Self::Replaced => ".zinc-sieve/replaced",
            Self::Unfinished => ".zinc-sieve/tmp",
            Self::Fitness => ".zinc-sieve/fitness",
            Self::Journal => ".zinc-sieve/journal.jsonl",
            Self::JournalClosed => ".zinc-sieve/journal",
            Self::Notices => ".zinc-sieve/notices.json",
            Self::NoticesLock => ".zinc-sieve/notices.lock",
            Self::Curves => ".zinc-sieve/curves.json",
            Self::Landings => ".zinc-sieve/landings.json",
            Self::Lock => ".zinc-sieve/lock",
            Self::LockHolder => ".zinc-sieve/lock.holder",
            Self::LockProgress => ".zinc-sieve/lock.progress",
            Self::Turn => ".zinc-sieve/turn",
            Self::Mounts => ".zinc-sieve/mounts",
        }
    }

    /// Its path.
    pub fn path(self) -> RelPath {
        RelPath::fixed(self.text())
    }

    /// The path of something in it, of a name that the program chose.
    ///
    /// # Panics
    /// When the name is none: a mistake in the program.
    pub fn with(self, name: &str) -> RelPath {
        self.path().join(name.as_bytes()).expect("names in the program are valid")
    }
}

impl RelPath {
    fn lies_in(&self, place: OurPlace) -> bool {
        let rest = self.as_bytes().strip_prefix(place.text().as_bytes());
        rest.is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
    }

    /// Whether this is our own folder or something in it.
    pub fn is_ours(&self) -> bool {
        self.lies_in(OurPlace::Folder)
    }

    /// Whether this is where something is held, or the place of all that is.
    pub fn is_held(&self) -> bool {
        self.lies_in(OurPlace::Held)
    }

    /// Whether this is a piece of a file, or the place of all pieces.
    pub fn is_piece(&self) -> bool {
        self.lies_in(OurPlace::Pieces)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(".zinc-sieve", [true, false, false])]
    #[case(".zinc-sieve/held", [true, true, false])]
    #[case(".zinc-sieve/held/1", [true, true, false])]
    #[case(".zinc-sieve/held-names", [true, false, false])]
    #[case(".zinc-sieve/pieces/a.0", [true, false, true])]
    #[case(".zinc-sieve2/held", [false, false, false])]
    #[case("dawn/.zinc-sieve/held", [false, false, false])]
    fn what_is_ours(#[case] path: &str, #[case] expected: [bool; 3]) {
        let path = RelPath::new(path).unwrap();
        assert_eq!([path.is_ours(), path.is_held(), path.is_piece()], expected);
    }
}
