//! The label of a member disk: who it is, as it says itself.

use serde::{Deserialize, Serialize};
use sieve_core::layout::OurPlace;
use sieve_core::path::{RelPath, disturbs};
pub use sieve_core::pool::Role;
use uuid::Uuid;

use sieve_disk::durable;
use sieve_disk::{Disk, FilesystemId, full_path, read_small};
use sieve_disk::{Error, Kind, Result};

/// The version of the label's format that this program writes, and the newest it reads.
pub const FORMAT: u32 = 4;

/// No name in a label has more bytes.
const LONGEST_NAME: usize = 255;

/// The oldest format that knows everything in the label of such a disk.
pub const fn oldest_format(role: Role, first_cell: u32, has_volume_id: bool) -> u32 {
    match role {
        _ if has_volume_id => FORMAT,
        Role::Cache => 3,
        Role::Parity if first_cell > 0 => 2,
        Role::Data | Role::Parity => 1,
    }
}

/// A label, `.zinc-sieve/label.toml`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Label {
    /// The version of this format.
    pub format: u32,
    /// The pool.
    pub pool: Uuid,
    /// The pool's name when the label was written.
    pub pool_name: String,
    /// The volume's name when the label was written.
    pub volume: String,
    /// The volume, whatever it is called; a label of before format 4 does not say it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volume_id: Option<Uuid>,
    /// The disk's name.
    pub disk_name: String,
    /// The disk.
    pub disk: Uuid,
    /// What it does.
    pub role: Role,
    /// Its slot (data), index (parity) or number (cache).
    pub slot: u8,
    /// On a parity disk that an image goes on to from another one: the first cell that lies here.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub first_cell: u32,
    /// The filesystem that the label was written on; none on a simulated disk.
    pub filesystem: Option<FilesystemId>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde passes a reference")]
const fn is_zero(number: &u32) -> bool {
    *number == 0
}

fn path() -> RelPath {
    OurPlace::Label.path()
}

/// Reads the label of a disk; nothing if it has none.
///
/// # Errors
/// When there is a label that cannot be read, is damaged, or is of a newer format.
pub fn read(disk: &dyn Disk) -> Result<Option<Label>> {
    if disk.stat(&path())?.is_none() {
        return Ok(None);
    }
    let place = full_path(disk, &path());
    let corrupt = |why: &str| {
        Error::new(
            Kind::Corrupt,
            "label.damaged",
            format!("{}: this label cannot be read: {why}", place.display()),
        )
    };
    let bytes = read_small(disk, &path(), 65_536)?;
    let text = std::str::from_utf8(&bytes).map_err(|_| corrupt("it is not text"))?;
    let table: toml::Table = toml::from_str(text).map_err(|e| corrupt(e.message()))?;
    match table.get("format").and_then(toml::Value::as_integer) {
        Some(format) if format > i64::from(FORMAT) => {
            let message = format!(
                "{}: the label has format {format}, this program knows formats up to {FORMAT}",
                place.display()
            );
            return Err(Error::new(Kind::Corrupt, "label.newer", message).remedy("use a newer zinc-sieve"));
        }
        Some(1..) => {}
        _ => return Err(corrupt("it names no format")),
    }
    let label: Label = table.try_into().map_err(|e: toml::de::Error| corrupt(e.message()))?;
    // What a label says is shown: it must not draw lines of its own (L6).
    let names = [&label.pool_name, &label.volume, &label.disk_name];
    if names.iter().any(|name| name.len() > LONGEST_NAME || name.chars().any(disturbs)) {
        return Err(corrupt("a name in it is too long, or holds what is no text"));
    }
    if usize::from(label.slot) >= label.role.slots() {
        return Err(corrupt(&format!("slot {} does not exist", label.slot)));
    }
    Ok(Some(label))
}

/// Writes the label of a disk, with our folder around it.
///
/// # Crash safety
/// The old label, if any, stays whole until the new one is durable.
///
/// # Errors
/// What the disk says.
pub fn write(disk: &dyn Disk, label: &Label) -> Result<()> {
    durable::make_own_folder(disk, &OurPlace::Folder.path())?;
    let text = toml::to_string(label).map_err(|e| {
        Error::new(Kind::Internal, "label.write", format!("the label cannot be written: {e}"))
    })?;
    let text = format!("# This disk is a member of a Zinc Sieve pool. Its files are ordinary files.\n{text}");
    durable::write_file(disk, &path(), text.as_bytes())
}
