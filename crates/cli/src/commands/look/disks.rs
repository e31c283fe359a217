//! `disks`: which disk is which.

use std::path::Path;

use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::inventory::{Confusion, DiskLink, LinkSpeed, confusable};
use sieve_core::pool::Media;
use sieve_core::suggest::unknown;
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Cell, Table, size, style};
use crate::json;
use crate::sheet::{self, SheetArguments};
use crate::shelf::{Item, Shelf, serial_cell, temperature_cell};

json::named!("disks", Answer<'_>);
json::named!("disk", Item<'_>);

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// All disks: of the pool, and of the machine.
    disks: &'a [Item<'a>],
    /// Serial numbers that look alike.
    confusable_serials: &'a [Confusion],
    /// What should be known.
    notes: &'a [String],
    /// What could not be read, and why.
    gaps: &'a [String],
}

/// A disk, as a line of CSV.
#[derive(Serialize)]
struct Line<'a> {
    disk: Option<&'a str>,
    role: &'a str,
    bay: Option<&'a str>,
    device: Option<&'a str>,
    model: Option<&'a str>,
    serial: Option<&'a str>,
    size_bytes: Option<ByteLength>,
    media: Option<Media>,
    celsius: Option<f64>,
    powered_hours: Option<u64>,
    made: Option<Date>,
    bought: Option<Date>,
    warranty: Option<Date>,
    price: Option<f64>,
    currency: Option<&'a str>,
    batch: Option<&'a str>,
}

impl<'a> Line<'a> {
    fn of(item: &'a Item<'a>) -> Self {
        let Item { spec, found, .. } = item;
        let price = spec.and_then(|spec| spec.price.as_ref());
        Self {
            disk: item.name,
            role: &item.role,
            bay: spec.and_then(|spec| spec.bay.as_deref()),
            device: found.map(|found| found.device.name.as_str()),
            model: item.model(),
            serial: item.serial(),
            size_bytes: item.size(),
            media: spec.and_then(|spec| spec.media).or(found.and_then(|found| found.device.media)),
            celsius: found.and_then(|found| found.celsius),
            powered_hours: item.report().and_then(|report| report.hours),
            made: spec.and_then(|spec| spec.made),
            bought: spec.and_then(|spec| spec.bought),
            warranty: spec.and_then(|spec| spec.warranty),
            price: price.map(sieve_core::pool::Price::amount),
            currency: price.map(|price| price.currency.as_str()),
            batch: spec.and_then(|spec| spec.batch.as_deref()),
        }
    }
}

pub(crate) fn run(
    context: &Context,
    name: Option<&str>,
    sheet: &SheetArguments,
    from: Option<&Path>,
) -> Result<Outcome> {
    let shelf = Shelf::look(&context.pool, from)?;
    let items = shelf.items();
    if sheet.csv {
        sheet::print(items.iter().filter(|item| name.is_none_or(|name| item.title() == name)).map(Line::of))?;
        return Ok(Outcome::Fine);
    }
    if let Some(name) = name {
        return one(context, &shelf, &items, name);
    }
    let confusions = confusable(items.iter().filter_map(Item::serial));
    let notes: Vec<String> = items.iter().flat_map(notes).collect();
    if context.json {
        let answer = Answer {
            disks: &items,
            confusable_serials: &confusions,
            notes: &notes,
            gaps: &shelf.inventory.gaps,
        };
        json::print(&answer)?;
    } else {
        show(&shelf, &items, &confusions, &notes);
    }
    Ok(Outcome::well(confusions.is_empty() && notes.is_empty()))
}

/// What is worth a word about one disk.
fn notes(item: &Item<'_>) -> Vec<String> {
    let title = item.title();
    let Some(found) = item.found else {
        let known_here = item.spec.is_some_and(|s| s.path.is_some() && !s.simulated);
        return if known_here {
            vec![format!("{title} is not among the disks of this machine")]
        } else {
            Vec::new()
        };
    };
    let mut notes = Vec::new();
    if let Some((now, possible)) = found.link.slow() {
        notes.push(format!("{title} is linked at {now} and could do {possible}: check its cable and port"));
    }
    if found.device.table_too_small() {
        notes.push(format!(
            "{title} has an old (MBR) partition table, which stops at 2.2 TB: repartition it with GPT"
        ));
    }
    if let (Some(own), Some(listed)) =
        (found.smart.as_ref().and_then(|s| s.serial.as_deref()), found.device.serial.as_deref())
        && own != listed
    {
        notes.push(format!(
            "{title} calls itself {own}, the system calls it {listed}: an adapter may be in between"
        ));
    }
    notes
}

fn dash(text: Option<String>) -> Cell {
    text.map_or_else(|| Cell::from(("-".to_string(), style::FAINT)), Cell::from)
}

fn media_word(media: Media) -> &'static str {
    match media {
        Media::Hdd => "HDD",
        Media::Ssd => "SSD",
        Media::Nvme => "NVMe",
    }
}

fn media(item: &Item<'_>) -> Option<String> {
    let media = item.found.and_then(|f| f.device.media).or(item.spec.and_then(|s| s.media))?;
    let rpm = item.found.and_then(|f| f.smart.as_ref()?.rpm).or(item.spec.and_then(|s| s.rpm.map(u64::from)));
    Some(match rpm.filter(|rpm| *rpm > 0) {
        Some(rpm) => format!("{} {rpm}", media_word(media)),
        None => media_word(media).into(),
    })
}

fn link(item: &Item<'_>) -> Cell {
    let Some(link) = item.found.map(|f| &f.link) else { return dash(None) };
    match link.slow() {
        Some((now, possible)) => {
            // The unit once: "3.0 of 6.0 Gb/s".
            let unit = possible.trim_start_matches(|c: char| c.is_ascii_digit() || c == '.');
            Cell::from((format!("{} of {possible}", now.trim_end_matches(unit)), style::WATCH))
        }
        None => dash(link.now.as_ref().map(|l| l.words.clone())),
    }
}

/// What is on a disk, "ext4 at /mnt/alder"; or what its partition table is.
fn on_it(item: &Item<'_>) -> Option<String> {
    let device = &item.found?.device;
    let told = device.mounts.iter().map(|mount| {
        let kind = mount.filesystem.as_deref().unwrap_or("unknown");
        if mount.mounted_at.is_empty() {
            kind.to_string()
        } else {
            format!("{kind} at {}", mount.mounted_at.join(", "))
        }
    });
    let told: Vec<String> = told.collect();
    if told.is_empty() {
        device.partition_table.as_ref().map(|t| format!("{t} table"))
    } else {
        Some(told.join("; "))
    }
}

fn show(shelf: &Shelf, items: &[Item<'_>], confusions: &[Confusion], notes: &[String]) {
    let mut table = Table::new(&[
        "disk", "device", "serial", "???model", ">size", "??media", "???link", "?>temp", "?on it", "role",
        "bay",
    ]);
    for item in items {
        let role_style = match item.role.as_str() {
            "spare" => style::WELL,
            "system" => style::FAINT,
            _ => anstyle::Style::new(),
        };
        table.add([
            item.name.map_or_else(|| dash(None), |name| Cell::from((name.to_string(), style::HEAD))),
            dash(item.found.map(|f| f.device.name.clone())),
            serial_cell(item.serial()),
            dash(item.model().map(str::to_string)),
            dash(item.size().map(size)),
            dash(media(item)),
            link(item),
            temperature_cell(item, &shelf.thresholds()),
            dash(on_it(item)),
            Cell::from((item.role.clone(), role_style)),
            dash(item.spec.and_then(|s| s.bay.clone())),
        ]);
    }
    table.print();
    if items.is_empty() {
        crate::say!("  no disks");
    }
    show_ids(items);
    for note in notes {
        crate::say!("\n{} {note}", style::paint(style::WATCH, "!"));
    }
    for confusion in confusions {
        crate::say!(
            "\n{} these serial numbers are easily confused ({}):\n      {}\n      {}",
            style::paint(style::WATCH, "!"),
            confusion.why,
            confusion.first,
            confusion.second
        );
    }
    for gap in &shelf.inventory.gaps {
        crate::say_aside!("note: {gap}");
    }
}

/// The names that stay when the letters move, and what else does not fit beside the rest.
fn show_ids(items: &[Item<'_>]) {
    let mut table = Table::new(&["disk", "stable id", "?partitions", "??>exact size"]);
    for (item, found) in items.iter().filter_map(|item| Some((item, item.found?))) {
        table.add([
            Cell::from((item.title().to_string(), style::HEAD)),
            dash(found.device.stable_id.clone()),
            dash(found.device.partition_table.clone()),
            dash(item.size().map(|s| format!("{} bytes", s.exact()))),
        ]);
    }
    crate::say!();
    table.print();
}

fn one(context: &Context, shelf: &Shelf, items: &[Item<'_>], name: &str) -> Result<Outcome> {
    let is_it = |item: &&Item<'_>| {
        item.title() == name
            || item.serial() == Some(name)
            || item.found.is_some_and(|f| f.device.name == name)
    };
    let Some(item) = items.iter().find(is_it) else {
        let message = unknown("disk", name, items.iter().map(Item::title));
        return Err(Error::new(Kind::Usage, "disk.unknown", message));
    };
    if context.json {
        json::print(item)?;
        return Ok(Outcome::Fine);
    }
    for (what, value) in everything(shelf, item) {
        let value = value.unwrap_or_else(|| style::paint(style::FAINT, "not reported"));
        crate::say!("  {} {value}", style::paint(style::FAINT, format!("{what:<22}")));
    }
    notes(item).iter().for_each(|note| crate::say!("\n{} {note}", style::paint(style::WATCH, "!")));
    Ok(Outcome::Fine)
}

fn everything(shelf: &Shelf, item: &Item<'_>) -> Vec<(&'static str, Option<String>)> {
    let (device, smart) = (item.found.map(|f| &f.device), item.found.and_then(|f| f.smart.as_ref()));
    let count = |n: Option<u64>| n.map(|n| n.to_string());
    let words = |speed: fn(&DiskLink) -> Option<&LinkSpeed>| {
        item.found.and_then(|f| speed(&f.link)).map(|speed| speed.words.clone())
    };
    let spec = item.spec;
    let mut lines = vec![
        ("name", item.name.map(str::to_string)),
        ("role", Some(item.role.clone())),
        ("bay", spec.and_then(|s| s.bay.clone())),
        ("stable id", device.and_then(|d| d.stable_id.clone())),
        ("device", device.map(|d| format!("/dev/{} (moves between boots)", d.name))),
        ("serial", item.serial().map(str::to_string)),
        ("model", item.model().map(str::to_string)),
        ("size", item.size().map(|s| format!("{s}, {} ({} bytes)", s.binary(), s.exact()))),
        ("media", media(item)),
        ("link", words(|link| link.now.as_ref())),
        ("link possible", words(|link| link.possible.as_ref())),
        ("temperature", item.temperature(&shelf.thresholds()).map(|t| t.to_string())),
        ("partition table", device.and_then(|d| d.partition_table.clone())),
    ];
    for mount in device.into_iter().flat_map(|d| &d.mounts) {
        let kind = mount.filesystem.as_deref().unwrap_or("unknown");
        let place =
            if mount.mounted_at.is_empty() { "not mounted".into() } else { mount.mounted_at.join(", ") };
        let uuid = mount.uuid.as_deref().unwrap_or("no uuid");
        lines.push(("filesystem", Some(format!("{kind} on {}, {uuid}, {place}", mount.device))));
    }
    lines.extend([
        ("hours of power", count(smart.and_then(|s| s.hours))),
        ("reallocated sectors", count(smart.and_then(|s| s.reallocated))),
        ("pending sectors", count(smart.and_then(|s| s.pending))),
        ("unreadable", count(smart.and_then(|s| s.uncorrectable))),
        ("reported errors", count(smart.and_then(|s| s.reported))),
        ("broken transfers", count(smart.and_then(|s| s.link_errors))),
        ("life of flash used", smart.and_then(|s| s.flash_used).map(|used| format!("{used} %"))),
        (
            "last self-test",
            smart.and_then(|s| s.self_tests.first()).map(|t| format!("{}: {}", t.kind, t.outcome)),
        ),
    ]);
    let date = |d: Option<jiff::civil::Date>| d.map(|d| d.to_string());
    let written = [
        ("made", spec.and_then(|s| date(s.made))),
        ("bought", spec.and_then(|s| date(s.bought))),
        ("warranty until", spec.and_then(|s| date(s.warranty))),
        ("price", spec.and_then(|s| s.price.as_ref().map(ToString::to_string))),
        ("batch", spec.and_then(|s| s.batch.clone())),
    ];
    lines.extend(written.into_iter().filter(|(_, value)| value.is_some()));
    lines
}
