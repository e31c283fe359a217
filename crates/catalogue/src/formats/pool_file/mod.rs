//! Changing the pool file, with its comments and order kept: which changes there are, and how the file is written. What each does to
//! the text: `change`.

mod change;

use std::path::Path;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;

use crate::label::Role;
use sieve_disk::durable;
use sieve_disk::{Attributes, Disk, RealDisk};
use sieve_disk::{Error, Kind, Result};

pub use change::changed;

/// A change of the pool file. Making it twice is as good as once.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "change", rename_all = "kebab-case")]
pub enum Edit {
    /// A disk has another place.
    Path {
        /// The disk.
        disk: String,
        /// Its path.
        path: String,
    },
    /// A disk is not there.
    NoPath {
        /// The disk.
        disk: String,
    },
    /// A disk is in no bay.
    NoBay {
        /// The disk.
        disk: String,
    },
    /// Another amount of a disk may be used.
    Capacity {
        /// The disk.
        disk: String,
        /// In bytes.
        bytes: u64,
    },
    /// What a disk is becomes what another entry says, which goes: the disk of that entry took its place.
    Succeed {
        /// The disk, whose name stays.
        disk: String,
        /// The entry that goes.
        by: String,
    },
    /// Another disk is where one was: what was said of that one is not said any more, and what is known of the new one is.
    About {
        /// The disk, whose name stays.
        disk: String,
        /// What described the old one goes.
        forgets: bool,
        /// Keys and their texts.
        notes: Vec<(String, String)>,
    },
    /// There is one more disk.
    Disk {
        /// Its name.
        name: String,
        /// Its path.
        path: String,
    },
    /// A disk becomes part of a volume.
    Join {
        /// The volume.
        volume: String,
        /// What it does there.
        role: Role,
        /// The disk.
        disk: String,
        /// The parity disk whose image goes on on it.
        after: Option<String>,
    },
    /// A disk is no longer part of a volume.
    Leave {
        /// The volume.
        volume: String,
        /// The disk.
        disk: String,
    },
    /// A volume is of another kind.
    Kind {
        /// The volume.
        volume: String,
        /// The kind.
        kind: VolumeKind,
        /// The fast disks of a tiered one.
        fast: Vec<String>,
        /// How many disks each file of a mirrored one lies on, where that is not the usual.
        copies: Option<usize>,
    },
    /// Something has another name, wherever the file names it.
    Rename {
        /// What.
        what: Named,
        /// Its name so far.
        old: String,
        /// Its new one.
        new: String,
    },
    /// A job of the agenda is done at another time, or verifies another share; one that an older key said is written out.
    Job {
        /// Its place among the jobs of the file; behind the last one it is new.
        position: usize,
        /// What it does, as `do` says it.
        task: String,
        /// Of which volume.
        volume: Option<String>,
        /// When.
        when: String,
        /// Which share, "25 %".
        share: Option<String>,
    },
}

/// What has a name in a pool file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Named {
    /// A disk.
    Disk,
    /// A volume.
    Volume,
    /// The pool.
    Pool,
}

impl Named {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Disk => "disk",
            Self::Volume => "volume",
            Self::Pool => "pool",
        }
    }
}

/// The folder that a pool file lies in.
pub fn home_folder(pool_file: &Path) -> &Path {
    pool_file.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Makes changes in the pool file.
///
/// # Crash safety
/// The old pool file stays whole until the new one is durable.
///
/// # Errors
/// When the file cannot be read or written, or does not have what is to be changed.
pub fn apply(home: &dyn Disk, pool_file: &Path, edits: &[Edit]) -> Result<()> {
    let (text, changed) = before_and_after(pool_file, edits)?;
    if changed == text {
        return Ok(());
    }
    write(home, pool_file, &changed)
}

/// Writes a pool file. One that is there keeps its mode and owner; a symlink keeps pointing where it does, and what it points
/// to is written.
///
/// # Crash safety
/// As [`apply`].
///
/// # Errors
/// What the disk says.
pub fn write(home: &dyn Disk, pool_file: &Path, text: &str) -> Result<()> {
    let real = match std::fs::canonicalize(pool_file) {
        Ok(real) => real,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => pool_file.to_path_buf(),
        Err(error) => return Err(Error::io("pool-file.write", pool_file, error)),
    };
    let name_of = |file: &Path| {
        let name = file.file_name().map(std::os::unix::ffi::OsStrExt::as_bytes).unwrap_or_default();
        RelPath::new(name)
            .map_err(|e| Error::new(Kind::Usage, "pool-file.name", format!("{}: {e}", file.display())))
    };
    let is_link = std::fs::symlink_metadata(pool_file).is_ok_and(|metadata| metadata.is_symlink());
    if is_link {
        let folder = RealDisk::open(home_folder(&real))?;
        return write_in(&folder, &name_of(&real)?, text);
    }
    write_in(home, &name_of(pool_file)?, text)
}

fn write_in(folder: &dyn Disk, name: &RelPath, text: &str) -> Result<()> {
    let new = name
        .beside(".new")
        .map_err(|e| Error::new(Kind::Usage, "pool-file.name", format!("{name}: no name beside it: {e}")))?;
    let looks = looks_of_file(folder, name)?;
    let mut file = folder.modify(&new)?;
    file.set_length(0)?;
    file.write_at(text.as_bytes(), 0)?;
    if let Some(looks) = looks {
        file.set_attributes(&Attributes { mtime: file.stat()?.mtime, ..looks })?;
    }
    file.sync()?;
    durable::publish_over(folder, &new, name)
}

fn looks_of_file(folder: &dyn Disk, name: &RelPath) -> Result<Option<Attributes>> {
    let Some(stat) = folder.stat(name)? else { return Ok(None) };
    Ok(Some(Attributes::of(&stat, folder.extended_attributes(name)?)))
}

/// Makes sure that changes can be made, and leave the pool file without mistakes, before anything is begun.
///
/// # Errors
/// When they cannot, or would not.
pub fn rehearse(pool_file: &Path, edits: &[Edit]) -> Result<()> {
    refuse_mistakes(&before_and_after(pool_file, edits)?.1)
}

/// Refuses a text that would be a pool file with mistakes.
///
/// # Errors
/// With the first of them.
pub fn refuse_mistakes(text: &str) -> Result<()> {
    match sieve_core::pool::parse(text).mistakes.first() {
        None => Ok(()),
        Some(mistake) => {
            let message = format!("the pool file would have a mistake then: {}", mistake.message);
            Err(Error::new(Kind::Usage, "pool-file.change", message)
                .remedy("correct the pool file, or choose otherwise; nothing was done"))
        }
    }
}

fn before_and_after(pool_file: &Path, edits: &[Edit]) -> Result<(String, String)> {
    let text = std::fs::read_to_string(pool_file).map_err(|e| Error::io("pool-file.read", pool_file, e))?;
    let changed = changed(&text, edits).map_err(|why| {
        let message = format!("{}: {why}", pool_file.display());
        Error::new(Kind::Conflict, "pool-file.change", message)
            .remedy("correct the pool file by hand, then run this again")
    })?;
    Ok((text, changed))
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "# mine\n[pool]\nname = \"f\"\n\n[[disk]]\nname = \"alder\" # first\npath = \"/a\"  # left\n\n[[disk]]\nname = \"oak\"\n\n# all of it\n[[volume]]\nname = \"v\"\ndata = [\n  \"alder\", # old\n  \"beech\", # new\n]\nparity = [\"oak\"] # one\n";

    fn with(edit: Edit) -> String {
        let once = changed(TEXT, std::slice::from_ref(&edit)).unwrap();
        assert_eq!(changed(&once, &[edit]).unwrap(), once, "twice is as good as once");
        once
    }

    #[test]
    fn a_disk_is_renamed_wherever_it_is_named_and_comments_stay() {
        let renamed = with(Edit::Rename { what: Named::Disk, old: "alder".into(), new: "ash".into() });
        assert!(!renamed.contains("alder") && renamed.contains("name = \"ash\" # first"), "{renamed}");
        assert!(renamed.contains("  \"ash\", # old\n"), "{renamed}");
        let text = format!(
            "{TEXT}\n[[agenda.job]] # nightly\ndo = \"sync\"\nvolume = \"v\" # all\nwhen = \"daily 03:00\"\n"
        );
        let edit = Edit::Rename { what: Named::Volume, old: "v".into(), new: "songs".into() };
        let renamed = changed(&text, &[edit]).unwrap();
        assert!(
            renamed.contains("volume = \"songs\" # all") && renamed.contains("name = \"songs\"\ndata"),
            "{renamed}"
        );
    }

    #[test]
    fn a_job_is_moved_or_written_out_behind_the_others() {
        let text =
            format!("{TEXT}\n[[agenda.job]]\ndo = \"sync\" # nightly\nwhen = \"daily 03:00\" # early\n");
        let job = |position: usize, task: &str| Edit::Job {
            position,
            task: task.into(),
            volume: (task == "settle").then(|| "v".into()),
            when: "daily 07:05".into(),
            share: None,
        };
        let moved = changed(&text, &[job(0, "sync")]).unwrap();
        assert!(moved.contains("when = \"daily 07:05\" # early"), "{moved}");
        let added = changed(&text, &[job(usize::MAX, "settle")]).unwrap();
        assert_eq!(changed(&added, &[job(usize::MAX, "settle")]).unwrap(), added, "twice is as good as once");
        assert!(added.ends_with("do = \"settle\"\nvolume = \"v\"\nwhen = \"daily 07:05\"\n"), "{added}");
        assert!(changed(&text, &[job(0, "verify")]).is_err(), "the jobs are others by now");
    }

    #[test]
    fn only_the_path_changes_and_comments_stay() {
        let path = |disk: &str, path: &str| Edit::Path { disk: disk.into(), path: path.into() };
        assert_eq!(with(path("alder", "/new")), TEXT.replace("\"/a\"", "\"/new\""));
        assert!(with(path("oak", "/o")).contains("name = \"oak\"\npath = \"/o\"\n"));
        assert!(changed(TEXT, &[path("elm", "/e")]).is_err());
    }

    #[test]
    fn a_disk_is_added_after_the_others_and_joins_in_the_style_of_the_list() {
        let text = with(Edit::Disk { name: "elm".into(), path: "/e".into() });
        assert!(
            text.contains(
                "name = \"oak\"\n\n[[disk]]\nname = \"elm\"\npath = \"/e\"\n\n# all of it\n[[volume]]"
            ),
            "{text}"
        );
        let join = |role, disk: &str, after: Option<&str>| Edit::Join {
            volume: "v".into(),
            role,
            disk: disk.into(),
            after: after.map(str::to_string),
        };
        let text = with(join(Role::Data, "elm", None));
        assert!(text.contains("  \"alder\", # old\n  \"beech\", # new\n  \"elm\",\n]"), "{text}");
        let last = TEXT.replace("\"beech\", # new", "\"beech\" # new");
        let text = changed(&last, &[join(Role::Data, "elm", None)]).unwrap();
        assert!(text.contains("  \"beech\", # new\n  \"elm\",\n]"), "{text}");
        assert!(with(join(Role::Parity, "fir", None)).contains("parity = [\"oak\", \"fir\"] # one\n"));
        assert!(
            with(join(Role::Parity, "fir", Some("oak"))).contains("parity = [[\"oak\", \"fir\"]] # one\n")
        );
        assert!(changed(TEXT, &[join(Role::Parity, "fir", Some("ash"))]).is_err());
    }

    #[test]
    fn a_disk_leaves_its_volume_and_stays_in_the_file() {
        let text = with(Edit::Leave { volume: "v".into(), disk: "oak".into() });
        assert!(text.contains("parity = [] # one") && text.contains("name = \"oak\""), "{text}");
    }
}
