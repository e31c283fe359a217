//! Changing the pool file, with its comments and order kept.

use std::path::Path;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;
use toml_edit::{Array, ArrayOfTables, DocumentMut, Item, Table, Value};

use crate::label::Role;
use sieve_disk::durable;
use sieve_disk::{Attributes, Disk, RealDisk};
use sieve_disk::{Error, Kind, Result};

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

/// The text with changes made; or why they cannot be made.
pub fn changed(text: &str, edits: &[Edit]) -> std::result::Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|e| format!("it cannot be changed: {e}"))?;
    for edit in edits {
        match edit {
            Edit::Path { disk, path } => set(entry(&mut document, "disk", disk)?, "path", path.into()),
            Edit::NoPath { disk } => {
                entry(&mut document, "disk", disk)?.remove("path");
            }
            Edit::NoBay { disk } => {
                entry(&mut document, "disk", disk)?.remove("bay");
            }
            Edit::Capacity { disk, bytes } => {
                set(entry(&mut document, "disk", disk)?, "capacity", format!("{bytes} B").into());
            }
            Edit::Succeed { disk, by } => succeed(&mut document, disk, by)?,
            Edit::About { disk, forgets, notes } => {
                let table = entry(&mut document, "disk", disk)?;
                if *forgets {
                    OF_ONE_DISK.iter().for_each(|key| drop(table.remove(key)));
                }
                notes.iter().for_each(|(key, text)| set(table, key, text.into()));
            }
            Edit::Disk { name, path } => add_disk(&mut document, name, path)?,
            Edit::Join { volume, role, disk, after } => {
                join(entry(&mut document, "volume", volume)?, *role, disk, after.as_deref())?;
            }
            Edit::Leave { volume, disk } => leave(entry(&mut document, "volume", volume)?, disk),
            Edit::Kind { volume, kind, fast, copies } => {
                set_kind(entry(&mut document, "volume", volume)?, *kind, fast, *copies);
            }
            Edit::Rename { what, old, new } => rename(&mut document, *what, old, new)?,
            Edit::Job { position, task, volume, when, share } => {
                let table = job(&mut document, *position, task, volume.as_deref())?;
                set(table, "when", when.into());
                if let Some(share) = share {
                    set(table, "share", share.into());
                }
            }
        }
    }
    Ok(document.to_string())
}

fn tables<'d>(
    document: &'d mut DocumentMut,
    kind: &str,
) -> std::result::Result<&'d mut ArrayOfTables, String> {
    let tables = document.get_mut(kind).and_then(Item::as_array_of_tables_mut);
    tables.ok_or_else(|| format!("there is no [[{kind}]]"))
}

/// The disk or volume of that name.
fn entry<'d>(
    document: &'d mut DocumentMut,
    kind: &str,
    name: &str,
) -> std::result::Result<&'d mut Table, String> {
    let is_it = |table: &&mut Table| table.get("name").and_then(Item::as_str) == Some(name);
    tables(document, kind)?.iter_mut().find(is_it).ok_or_else(|| format!("there is no {kind} `{name}`"))
}

/// What is true of one disk and not of the next in its place.
const OF_ONE_DISK: [&str; 11] = [
    "serial",
    "model",
    "rpm",
    "made",
    "bought",
    "warranty",
    "price",
    "batch",
    "bay",
    "speed",
    "yearly_failure",
];

/// Another kind, with the keys that it has and without those that only others have.
fn set_kind(table: &mut Table, kind: VolumeKind, fast: &[String], copies: Option<usize>) {
    set(table, "kind", kind.word().into());
    for key in ["fast", "half_life", "copies"] {
        table.remove(key);
    }
    if kind == VolumeKind::Spanned {
        table.remove("placement");
    }
    if !fast.is_empty() {
        set(table, "fast", fast.iter().collect::<Array>().into());
    }
    if let Some(copies) = copies {
        set(table, "copies", i64::try_from(copies).unwrap_or(i64::MAX).into());
    }
}

/// A disk's entry says what another one said, which goes. Making it twice is as good as once.
fn succeed(document: &mut DocumentMut, disk: &str, by: &str) -> std::result::Result<(), String> {
    let is_it = |table: &Table| table.get("name").and_then(Item::as_str) == Some(by);
    let disks = tables(document, "disk")?;
    let Some(position) = disks.iter().position(is_it) else { return Ok(()) };
    let new = disks.get(position).cloned().unwrap_or_default();
    disks.remove(position);
    let old = entry(document, "disk", disk)?;
    let keys: Vec<String> = old.iter().map(|(key, _)| key.to_string()).filter(|key| key != "name").collect();
    keys.iter().for_each(|key| {
        old.remove(key);
    });
    for (key, item) in new.iter().filter(|(key, _)| *key != "name") {
        old.insert(key, item.clone());
        if let (Some(mut to), Some(from)) = (old.key_mut(key), new.key(key)) {
            to.leaf_decor_mut().clone_from(from.leaf_decor());
        }
    }
    Ok(())
}

/// Gives something another name, and wherever it is named.
fn rename(document: &mut DocumentMut, what: Named, old: &str, new: &str) -> std::result::Result<(), String> {
    match what {
        Named::Pool => {
            let pool = document.get_mut("pool").and_then(Item::as_table_mut).ok_or("there is no [pool]")?;
            set(pool, "name", new.into());
        }
        Named::Disk => {
            // Making it twice is as good as once.
            if entry(document, "disk", new).is_err() {
                set(entry(document, "disk", old)?, "name", new.into());
            }
            for section in ["volume", "group"] {
                let tables = document.get_mut(section).and_then(Item::as_array_of_tables_mut);
                for table in tables.into_iter().flat_map(ArrayOfTables::iter_mut) {
                    ["data", "parity", "cache", "fast", "disks"]
                        .into_iter()
                        .for_each(|key| rename_in(table, key, old, new));
                }
            }
            jobs(document).for_each(|job| rename_in(job, "disks", old, new));
        }
        Named::Volume => {
            if entry(document, "volume", new).is_err() {
                set(entry(document, "volume", old)?, "name", new.into());
            }
            for job in jobs(document) {
                if job.get("volume").and_then(Item::as_str) == Some(old) {
                    set(job, "volume", new.into());
                }
            }
        }
    }
    Ok(())
}

fn jobs(document: &mut DocumentMut) -> impl Iterator<Item = &mut Table> {
    let agenda = document.get_mut("agenda").and_then(Item::as_table_mut);
    let jobs = agenda.and_then(|agenda| agenda.get_mut("job")).and_then(Item::as_array_of_tables_mut);
    jobs.into_iter().flat_map(ArrayOfTables::iter_mut)
}

/// A name in a list, also in a list within it, with the space and the comments around it.
fn rename_in(table: &mut Table, key: &str, old: &str, new: &str) {
    fn in_list(array: &mut Array, old: &str, new: &str) {
        for value in array.iter_mut() {
            if let Value::Array(group) = value {
                in_list(group, old, new);
            } else if value.as_str() == Some(old) {
                let decor = value.decor().clone();
                *value = new.into();
                *value.decor_mut() = decor;
            }
        }
    }
    if let Some(array) = table.get_mut(key).and_then(Item::as_array_mut) {
        in_list(array, old, new);
    }
}

/// A job of the agenda; behind the last one a new one is made.
fn job<'d>(
    document: &'d mut DocumentMut,
    position: usize,
    task: &str,
    volume: Option<&str>,
) -> std::result::Result<&'d mut Table, String> {
    let mut agenda = Table::new();
    agenda.set_implicit(true);
    let agenda = document.entry("agenda").or_insert(Item::Table(agenda));
    let agenda = agenda.as_table_mut().ok_or("`agenda` is no section")?;
    let jobs = agenda.entry("job").or_insert(Item::ArrayOfTables(ArrayOfTables::new()));
    let jobs = jobs.as_array_of_tables_mut().ok_or("write [[agenda.job]], in double brackets")?;
    let is_it = |table: &Table| {
        let text = |key: &str| table.get(key).and_then(Item::as_str);
        text("do") == Some(task) && text("volume") == volume
    };
    let position = match jobs.get(position) {
        Some(table) if is_it(table) => position,
        Some(_) => return Err("the jobs of its agenda are others by now".into()),
        // What was added before is not added twice.
        None => jobs.iter().position(is_it).unwrap_or(jobs.len()),
    };
    if position == jobs.len() {
        let mut table = Table::new();
        table.insert("do", task.into());
        if let Some(volume) = volume {
            table.insert("volume", volume.into());
        }
        table.decor_mut().set_prefix("\n");
        jobs.push(table);
    }
    jobs.get_mut(position).ok_or_else(|| "there is no such job".into())
}

/// Sets a key, in the place and with the comments that it had.
fn set(table: &mut Table, key: &str, value: Value) {
    match table.get_mut(key).and_then(Item::as_value_mut) {
        Some(old) => {
            let decor = old.decor().clone();
            *old = value;
            *old.decor_mut() = decor;
        }
        None => {
            table.insert(key, Item::Value(value));
        }
    }
}

/// Adds a disk after the others.
fn add_disk(document: &mut DocumentMut, name: &str, path: &str) -> std::result::Result<(), String> {
    if entry(document, "disk", name).is_ok() {
        return Ok(());
    }
    let disks = tables(document, "disk")?;
    let mut table = Table::new();
    table.insert("name", name.into());
    table.insert("path", path.into());
    table.decor_mut().set_prefix("\n");
    // It is written where its position says: right after the last one.
    table.set_position(disks.iter().filter_map(Table::position).max());
    disks.push(table);
    Ok(())
}

fn join(volume: &mut Table, role: Role, disk: &str, after: Option<&str>) -> std::result::Result<(), String> {
    let key = role.word();
    let array = volume.entry(key).or_insert(Item::Value(Value::Array(Array::new()))).as_array_mut();
    let array = array.ok_or_else(|| format!("`{key}` is no list"))?;
    if names(array).any(|name| name == disk) {
        return Ok(());
    }
    let Some(after) = after else {
        add(array, disk);
        return Ok(());
    };
    let holds = |value: &Value| {
        value.as_str() == Some(after) || value.as_array().is_some_and(|a| names(a).any(|n| n == after))
    };
    let position = array.iter().position(holds).ok_or_else(|| format!("`{key}` does not name `{after}`"))?;
    match array.get_mut(position) {
        Some(Value::Array(group)) => add(group, disk),
        Some(single) => {
            let decor = single.decor().clone();
            *single = Value::Array([after, disk].into_iter().collect());
            *single.decor_mut() = decor;
        }
        None => {}
    }
    Ok(())
}

/// Adds a name as the last one, on a line of its own where the others are; a comment behind the last one stays there.
fn add(array: &mut Array, name: &str) {
    let text =
        |raw: Option<&toml_edit::RawString>| raw.and_then(|raw| raw.as_str()).unwrap_or("").to_string();
    let position = array.len();
    let last = position.checked_sub(1).and_then(|last| array.get_mut(last)).map(Value::decor_mut);
    let (prefix, suffix) = last.map_or((String::new(), String::new()), |decor| {
        let found = (text(decor.prefix()), text(decor.suffix()));
        decor.set_suffix("");
        found
    });
    let behind = suffix + &text(Some(array.trailing()));
    array.push(name);
    let Some(line) = prefix.rfind('\n') else { return };
    if let Some(added) = array.get_mut(position) {
        added.decor_mut().set_prefix(format!("{}{}", behind.trim_end(), &prefix[line..]));
        array.set_trailing("\n");
        array.set_trailing_comma(true);
    }
}

fn names(array: &Array) -> impl Iterator<Item = &str> {
    array.iter().flat_map(|value| match value {
        Value::Array(group) => group.iter().filter_map(Value::as_str).collect::<Vec<_>>(),
        single => single.as_str().into_iter().collect(),
    })
}

fn leave(volume: &mut Table, disk: &str) {
    for key in ["data", "parity", "cache", "fast"] {
        let Some(array) = volume.get_mut(key).and_then(Item::as_array_mut) else { continue };
        for position in (0..array.len()).rev() {
            let is_empty = match array.get_mut(position) {
                Some(Value::Array(group)) => {
                    group.retain(|value| value.as_str() != Some(disk));
                    group.is_empty()
                }
                Some(single) => single.as_str() == Some(disk),
                None => false,
            };
            if is_empty {
                array.remove(position);
            }
        }
        // What is the first one now needs no space before it.
        if let Some(first) = array.get_mut(0)
            && first
                .decor()
                .prefix()
                .and_then(|p| p.as_str())
                .is_some_and(|prefix| prefix.trim_matches(' ').is_empty())
        {
            first.decor_mut().set_prefix("");
        }
    }
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
