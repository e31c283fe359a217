//! A plan as a pool file on paper.

use std::path::Path;

use sieve_core::design::{DesignDisk, Figures, Layout, PlannedVolume};
use sieve_core::pool::{Media, VolumeKind};
use sieve_disk::{Error, Kind, Result};

use crate::new_file;

/// A pool file on paper for the chosen plan.
pub(super) fn write_pool(path: &Path, disks: &[DesignDisk], chosen: Option<&Figures>) -> Result<()> {
    let Some(chosen) = chosen else {
        return Err(Error::new(Kind::Usage, "design.no-plan", "there is no plan to write"));
    };
    let mut text =
        format!("# {}: give each disk its path when it is there.\n[pool]\nname = \"pool\"\n", chosen.name);
    let media = |m: Media| match m {
        Media::Hdd => "hdd",
        Media::Ssd => "ssd",
        Media::Nvme => "nvme",
    };
    for index in chosen.plan.members().chain(chosen.plan.caches()) {
        let disk = &disks[index];
        text += &format!(
            "\n[[disk]]\nname = \"{}\"\ncapacity = \"{} B\"\nmedia = \"{}\"\n",
            disk.name,
            disk.size.exact(),
            media(disk.media)
        );
        if let Some(price) = &disk.price {
            text += &format!("price = \"{price}\"\n");
        }
    }
    for (number, volume) in chosen.plan.volumes.iter().enumerate() {
        text += &volume_text(number, volume, disks);
    }
    new_file::write(path, &text, "design.write")?;
    crate::say_aside!("Written: {}", path.display());
    Ok(())
}

/// A volume of a pool file; the first is the main one.
fn volume_text(number: usize, volume: &PlannedVolume, disks: &[DesignDisk]) -> String {
    let kind = match volume.layout {
        Layout::Spanned => VolumeKind::Spanned,
        Layout::Mirrored { .. } => VolumeKind::Mirrored,
        Layout::Tiered { .. } => VolumeKind::Tiered,
        Layout::Unstriped { .. } | Layout::RotatingParity { .. } => VolumeKind::Unstriped,
    };
    let is_fast = |index: &usize| kind == VolumeKind::Tiered && disks[*index].media != Media::Hdd;
    let fast: Vec<usize> = volume.data.iter().copied().filter(is_fast).collect();
    let name = match (number, kind) {
        (0, _) => "main",
        (_, VolumeKind::Mirrored) => "mirror",
        _ => "second",
    };
    let mut text = format!("\n[[volume]]\nname = \"{name}\"\nkind = \"{}\"\n", kind.word());
    let disks_of =
        [("data", &volume.data), ("parity", &volume.parity), ("cache", &volume.cache), ("fast", &fast)];
    for (key, of) in disks_of.into_iter().filter(|(_, of)| !of.is_empty()) {
        let names: Vec<String> = of.iter().map(|i| format!("\"{}\"", disks[*i].name)).collect();
        text += &format!("{key} = [{}]\n", names.join(", "));
    }
    if volume.cache.len() > 1 {
        // What waits on the cache is to survive as much as the rest.
        text += "cache_copies = 2\n";
    }
    text
}
