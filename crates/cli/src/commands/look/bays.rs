//! `bays`: the case as its owner drew it, to pull the right disk.

use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::health::Verdict;
use sieve_core::inventory::tail;
use sieve_core::pool::{BayPlace, CaseSpec, PoolSpec, find_bay, neighbours, place_in_words};
use sieve_core::suggest;
use sieve_disk::{Error, Kind, Result};

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{size, style, width};
use crate::json;
use crate::shelf::{Item, Shelf};

json::list!("bays", Bays { bays: Bay<'a> });
json::named!("bays-find", Where<'_>);

/// The width of a bay in characters, its frame included.
const WIDTH: usize = 20;
/// The narrowest: less would say nothing.
const LEAST: usize = 12;

#[derive(Serialize, JsonSchema)]
struct Bay<'a> {
    /// The case.
    case: &'a str,
    /// The bay, as the pool file names it.
    bay: &'a str,
    /// The disk in it.
    disk: Option<&'a str>,
}

pub(crate) fn run(context: &Context, find: Option<&str>, from: Option<&Path>) -> Result<Outcome> {
    let shelf = Shelf::look(&context.pool, from)?;
    let Some(spec) = &shelf.spec else {
        let message = "there is no pool file to read the case from";
        return Err(Error::new(Kind::Usage, "pool-file.read", message).remedy("name it with --pool FILE"));
    };
    if spec.cases.is_empty() {
        return Err(Error::new(Kind::Usage, "bays.no-case", "the pool file has no [[case]]").remedy(
            "draw it, row by row from the top: [[case]] name = \"tower\" bays = [[\"A1\", \"A2\"], [\"B1\", \"-\"]]",
        ));
    }
    let items = shelf.items();
    match find {
        Some(name) => find_one(context, &shelf, spec, &items, name),
        None => {
            show_all(context, &shelf, spec, &items)?;
            Ok(Outcome::Fine)
        }
    }
}

fn show_all(context: &Context, shelf: &Shelf, spec: &PoolSpec, items: &[Item<'_>]) -> Result<()> {
    if context.json {
        let mut bays = Vec::new();
        for case in &spec.cases {
            let named = case.rows.iter().flatten().flatten();
            bays.extend(named.map(|bay| Bay {
                case: &case.name,
                bay,
                disk: in_bay(items, bay).map(Item::title),
            }));
        }
        return json::print(&Bays { bays: &bays });
    }
    for case in &spec.cases {
        draw(shelf, case, items, None)?;
    }
    let homeless: Vec<&str> =
        spec.disks.iter().filter(|d| d.bay.is_none()).map(|d| d.name.as_str()).collect();
    if !homeless.is_empty() {
        crate::say!("\nWithout a bay: {}", homeless.join(", "));
    }
    Ok(())
}

fn in_bay<'a, 'b>(items: &'b [Item<'a>], bay: &str) -> Option<&'b Item<'a>> {
    items.iter().find(|item| item.spec.is_some_and(|s| s.bay.as_deref() == Some(bay)))
}

/// Draws a case; one bay may be marked as the one to pull.
fn draw(shelf: &Shelf, case: &CaseSpec, items: &[Item<'_>], pull: Option<BayPlace>) -> Result<()> {
    crate::say!("\n{}", style::paint(style::HEAD, format!("{} (top)", case.name)));
    let widest = case.rows.iter().map(Vec::len).max().unwrap_or(1).max(1);
    let room = width::of_output().map_or(WIDTH, |columns| (columns - 2) / widest);
    if room < LEAST {
        return tell_rows(case, items, pull);
    }
    let width = room.min(WIDTH);
    for (row, bays) in case.rows.iter().enumerate() {
        let cells: Vec<[String; 5]> = bays
            .iter()
            .enumerate()
            .map(|(column, bay)| {
                let marked = pull.is_some_and(|p| (p.row, p.column) == (row, column));
                cell(shelf, bay.as_deref(), items, (width, marked))
            })
            .collect::<Result<_>>()?;
        for line in 0..5 {
            let text: String = cells.iter().map(|cell| cell[line].as_str()).collect();
            crate::say!("  {}", text.trim_end());
        }
    }
    Ok(())
}

/// The same without a drawing, where there is no room for one.
fn tell_rows(case: &CaseSpec, items: &[Item<'_>], pull: Option<BayPlace>) -> Result<()> {
    for (row, bays) in case.rows.iter().enumerate() {
        let told = bays.iter().enumerate().filter_map(|(column, bay)| {
            let bay = bay.as_deref()?;
            let name = in_bay(items, bay).map_or("empty", Item::title);
            let is_marked = pull.is_some_and(|p| (p.row, p.column) == (row, column));
            let paint = if is_marked { style::BAD } else { anstyle::Style::new() };
            let mark = if is_marked { " (this one)" } else { "" };
            Some(style::paint(paint, format!("{bay} {name}{mark}")))
        });
        crate::say!("  {}", told.collect::<Vec<_>>().join(" · "));
    }
    Ok(())
}

/// The five lines of a bay.
fn cell(
    shelf: &Shelf,
    bay: Option<&str>,
    items: &[Item<'_>],
    (width, marked): (usize, bool),
) -> Result<[String; 5]> {
    let Some(bay) = bay else { return Ok(std::array::from_fn(|_| " ".repeat(width))) };
    let inner = width - 4;
    let frame = if marked { style::BAD } else { style::FAINT };
    let edge = |left: &str, right: &str, line: &str| {
        style::paint(frame, format!("{left}{}{right}", line.repeat(width - 2)))
    };
    let side = style::paint(frame, "│");
    let line = |text: String, paint: anstyle::Style| {
        let cut = width::cut(&text, inner);
        format!("{side} {}{} {side}", style::paint(paint, &cut), " ".repeat(inner - width::of(&cut)))
    };
    let item = in_bay(items, bay);
    let name = item.map_or("empty", Item::title);
    let title = format!("{bay:<4}{name}");
    let paint = if item.is_some() { style::HEAD } else { style::FAINT };
    let (about, state) = match item {
        Some(item) => lines(shelf, item)?,
        None => (String::new(), (String::new(), style::FAINT)),
    };
    Ok([
        edge("┌", "┐", "─"),
        line(title, paint),
        line(about, anstyle::Style::new()),
        line(state.0, state.1),
        edge("└", "┘", "─"),
    ])
}

fn lines(shelf: &Shelf, item: &Item<'_>) -> Result<(String, (String, anstyle::Style))> {
    let role = item.role.split(' ').next().unwrap_or_default();
    let about = format!("{} {role}", item.size().map_or("?".into(), size));
    let thresholds = shelf.thresholds();
    let temperature = item.temperature(&thresholds).map_or("-".into(), |t| t.to_string());
    let verdict = shelf.judge(item)?.checks.first().map_or(Verdict::Fine, |c| c.verdict);
    Ok((about, (format!("{temperature}  {}", verdict.words()), style::of_verdict(verdict))))
}

#[derive(Serialize, JsonSchema)]
struct Where<'a> {
    /// The disk.
    disk: &'a str,
    /// Its case.
    case: &'a str,
    /// Its bay.
    bay: &'a str,
    /// Where that is, in words.
    place: String,
    /// Its serial number.
    serial: Option<&'a str>,
    /// The disks beside it, by the side.
    #[serde(serialize_with = "sieve_core::pairs::by_name")]
    #[schemars(with = "std::collections::BTreeMap<String, String>")]
    neighbours: Vec<(&'static str, &'a str)>,
}

fn find_one(
    context: &Context,
    shelf: &Shelf,
    spec: &PoolSpec,
    items: &[Item<'_>],
    name: &str,
) -> Result<Outcome> {
    let unknown = |message: String| Error::new(Kind::Usage, "bays.unknown", message);
    let Some(disk) = spec.disk(name) else {
        return Err(unknown(suggest::unknown("disk", name, spec.disks.iter().map(|d| d.name.as_str()))));
    };
    let place = disk.bay.as_deref().and_then(|bay| Some((bay, find_bay(&spec.cases, bay)?)));
    let Some((bay, place)) = place else {
        return Err(unknown(format!("the pool file does not say in which bay {name} is"))
            .remedy("add bay = \"…\" to it"));
    };
    let case = &spec.cases[place.case];
    let item = items.iter().find(|i| i.name == Some(name));
    let found = Where {
        disk: name,
        case: &case.name,
        bay,
        place: place_in_words(case, place),
        serial: item.and_then(Item::serial),
        neighbours: neighbours(case, place, &spec.disks),
    };
    if context.json {
        json::print(&found)?;
        return Ok(Outcome::Fine);
    }
    draw(shelf, case, items, Some(place))?;
    crate::say!("\n{name} is in {}, bay {bay}: {}.", case.name, found.place);
    match found.serial {
        Some(serial) => {
            let (head, end) = tail(serial);
            crate::say!(
                "Its serial number ends in {} ({head}{end}): read it on the label before you pull it.",
                style::paint(style::HEAD, end)
            );
        }
        None => crate::say!("Its serial number is not known: add serial = \"…\" to it."),
    }
    for (side, other) in &found.neighbours {
        crate::say!("  {side}: {other}");
    }
    Ok(Outcome::Fine)
}
