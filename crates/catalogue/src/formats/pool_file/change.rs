//! What a change does to the text of the pool file.

use sieve_core::pool::VolumeKind;
use toml_edit::{Array, ArrayOfTables, DocumentMut, Item, Table, Value};

use super::{Edit, Named};
use crate::label::Role;

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
