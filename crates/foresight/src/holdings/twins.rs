//! Files of the same content. Checksums are known already: nothing is read.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::pool::Pool;

use crate::{Look, Outlook, PoolOutlook};

/// One of several files of the same content.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Twin {
    /// The volume.
    pub volume: String,
    /// Its path.
    pub path: String,
    /// The disks that it lies on.
    pub disks: Vec<String>,
    /// How many disks may die without losing it.
    pub guard: u8,
    /// It is another name of the first one's file: removing it frees nothing.
    pub is_another_name: bool,
}

/// All files of one content.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Twins {
    /// The BLAKE3 of the content, in hexadecimal.
    pub checksum: String,
    /// Its length.
    pub size_bytes: ByteLength,
    /// What removing all but one would free.
    #[serde(rename = "would_free_bytes")]
    pub would_free: ByteLength,
    /// The files.
    pub files: Vec<Twin>,
}

/// Contents that several files have, those first whose removal would free most. Files without a checksum, since they changed
/// after the last sync, are not compared.
///
/// # Errors
/// What a disk or the database says.
pub fn twins(pool: &Pool, look: Look, observer: &dyn Observer) -> Result<(Vec<Twins>, Option<i64>)> {
    let mut outlook = PoolOutlook::open(pool, look, observer)?;
    outlook.lose(&[], false)?;
    let shared = sieve_catalogue::versions::with_twins(pool.catalogue.reading())?;
    let mut groups: BTreeMap<[u8; 32], Group> = BTreeMap::new();
    outlook.for_each_file(&mut |file| {
        let Some(whole) = file.content.and_then(|content| shared.get(&content)) else { return Ok(()) };
        let group = groups.entry(*whole).or_default();
        group.size = file.size_bytes;
        let object = (file.volume.to_string(), file.position);
        let is_another_name = group.objects.contains(&object);
        if !is_another_name {
            group.objects.push(object);
            group.copies += file.disks.len().max(1) as u64;
        }
        group.most_copies = group.most_copies.max(file.disks.len().max(1) as u64);
        group.files.push(Twin {
            volume: file.volume.to_string(),
            path: file.path.clone(),
            disks: file.disks.iter().map(ToString::to_string).collect(),
            guard: file.guard,
            is_another_name,
        });
        Ok(())
    })?;
    let several = groups.into_iter().filter(|(_, group)| group.files.len() > 1);
    let mut twins: Vec<Twins> = several
        .map(|(whole, group)| Twins {
            checksum: hex::encode(whole),
            size_bytes: group.size,
            would_free: ByteLength::new(group.size.exact() * group.copies.saturating_sub(group.most_copies)),
            files: group.files,
        })
        .collect();
    twins.sort_by(|a, b| (b.would_free, &a.checksum).cmp(&(a.would_free, &b.checksum)));
    Ok((twins, outlook.as_of()))
}

#[derive(Default)]
struct Group {
    size: ByteLength,
    files: Vec<Twin>,
    objects: Vec<(String, usize)>,
    /// On how many disks all of them lie in all, and the one that lies on most.
    copies: u64,
    most_copies: u64,
}
