//! The pool file of a pool that comes from elsewhere.

use super::plan::{AdoptedMember, PoolFileSource};
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::label::Role;
use sieve_catalogue::pool_file;
use sieve_catalogue::pool_file::Edit;
use sieve_catalogue::{Catalogue, pool_file_text};
use sieve_core::pool::{PoolSpec, parse};
use sieve_disk::{Error, Kind, Result};
use std::path::Path;

/// The text of the pool file: the one that is there, the one that the disks carry, or one that is made.
pub(super) fn text(
    file: &Path,
    catalogue: &Catalogue,
    rows: &[DiskRow],
    members: &[AdoptedMember],
) -> Result<(String, PoolFileSource)> {
    let here = match std::fs::read_to_string(file) {
        Ok(text) => Some(text),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => None,
        Err(error) => return Err(Error::io("pool-file.read", file, error)),
    };
    let names_all = |text: &str| {
        let spec: Option<PoolSpec> = parse(text).spec;
        spec.is_some_and(|spec| members.iter().all(|m| spec.disk(&m.name).is_some()))
    };
    if let Some(text) = &here
        && !names_all(text)
    {
        let message = format!("{} is there, and does not name all disks of this pool", file.display());
        return Err(Error::new(Kind::Safety, "adopt.pool-file", message)
            .remedy("name another pool file with --pool, or move this one away"));
    }
    let carried = pool_file_text(catalogue.reading())?.filter(|text| names_all(text));
    let (text, source) = match (here, carried) {
        (Some(text), _) => (text, PoolFileSource::Home),
        (None, Some(text)) => (text, PoolFileSource::Disks),
        (None, None) => (made(&catalogue.identity()?.name, rows), PoolFileSource::Catalogue),
    };
    let edits: Vec<Edit> = members
        .iter()
        .map(|member| match &member.at {
            Some(path) => Edit::Path { disk: member.name.clone(), path: path.clone() },
            // Whatever is at its old path here is not it.
            None => Edit::NoPath { disk: member.name.clone() },
        })
        .collect();
    let text = pool_file::changed(&text, &edits)
        .map_err(|why| Error::new(Kind::Conflict, "adopt.pool-file", format!("{}: {why}", file.display())))?;
    pool_file::refuse_mistakes(&text)?;
    Ok((text, source))
}

/// A pool file with what the catalogue knows.
fn made(pool: &str, rows: &[DiskRow]) -> String {
    use std::fmt::Write as _;
    let quoted = |text: &str| toml::Value::from(text).to_string();
    let mut text = format!("[pool]\nname = {}\n", quoted(pool));
    for row in rows {
        // Writing to text cannot fail.
        let _ = write!(text, "\n[[disk]]\nname = {}\n", quoted(&row.name));
    }
    let mut volumes: Vec<&str> = rows.iter().map(|row| row.volume.as_str()).collect();
    volumes.dedup();
    for volume in volumes {
        let of = |role: Role| rows.iter().filter(move |row| row.volume == volume && row.role == role);
        let data: Vec<String> = of(Role::Data).map(|row| quoted(&row.name)).collect();
        let mut parity: Vec<Vec<String>> = Vec::new();
        let mut last = None;
        for row in of(Role::Parity) {
            match parity.last_mut().filter(|_| last == Some(row.slot)) {
                Some(group) => group.push(quoted(&row.name)),
                None => parity.push(vec![quoted(&row.name)]),
            }
            last = Some(row.slot);
        }
        let parity: Vec<String> = parity
            .into_iter()
            .map(|group| if group.len() == 1 { group.concat() } else { format!("[{}]", group.join(", ")) })
            .collect();
        let _ = write!(
            text,
            "\n[[volume]]\nname = {}\nkind = \"unstriped\"\ndata = [{}]\nparity = [{}]\n",
            quoted(volume),
            data.join(", "),
            parity.join(", ")
        );
        let caches: Vec<String> = of(Role::Cache).map(|row| quoted(&row.name)).collect();
        if !caches.is_empty() {
            let _ = writeln!(text, "cache = [{}]", caches.join(", "));
        }
    }
    text
}
