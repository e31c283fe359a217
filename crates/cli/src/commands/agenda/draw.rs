//! The week as a drawing: a row a day, hours across, jobs as bars by letter and colour.

use anstyle::{AnsiColor, Style};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use sieve_core::agenda::{Hall, Job, Played, Run, Span};

use crate::human::style;

/// Cells of a day: twenty minutes each.
const CELLS: usize = 72;
const CELL: i64 = 86_400 / CELLS as i64;

/// The colours of jobs, dark on light so that they can be read on both backgrounds.
const COLOURS: [AnsiColor; 6] = [
    AnsiColor::Cyan,
    AnsiColor::Green,
    AnsiColor::Yellow,
    AnsiColor::Magenta,
    AnsiColor::Blue,
    AnsiColor::White,
];

/// What is in a cell.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Mark {
    Free,
    Off,
    Quiet,
    Gone,
    Job(usize),
    Maybe(usize),
}

/// The letter of a job: jobs are few, and letters do not run out before colours have come again.
pub(super) fn letter(job: usize) -> char {
    char::from(b'a' + u8::try_from(job % 26).unwrap_or(0))
}

pub(super) fn colour(job: usize) -> Style {
    let colour = COLOURS[job % COLOURS.len()];
    Style::new().fg_color(Some(AnsiColor::Black.into())).bg_color(Some(colour.into()))
}

/// Draws the days of a stretch of time.
pub(super) fn week(jobs: &[Job], hall: &Hall, played: &Played, zone: &TimeZone) {
    let day_of = |at: i64| zone.to_datetime(Timestamp::from_second(at).unwrap_or_default()).date();
    let (mut day, last) = (day_of(hall.within.from), day_of(hall.within.until - 1));
    let hours: String = (0..24).step_by(3).map(|hour| format!("{hour:<9}")).collect();
    crate::say!("        {}", style::paint(style::FAINT, hours.trim_end()));
    while day <= last {
        let begin = zone.to_ambiguous_zoned(day.to_datetime(jiff::civil::Time::midnight())).compatible();
        let begin = begin.map_or(0, |zoned| zoned.timestamp().as_second());
        let cells = (0..CELLS as i64).map(|cell| mark(hall, played, begin + cell * CELL));
        crate::say!("{} {}", day.strftime("%a %e"), row(&cells.collect::<Vec<_>>()));
        let Ok(next) = day.checked_add(1.days()) else { break };
        day = next;
    }
    let legend = |(position, job): (usize, &Job)| {
        format!("{} {}", style::paint(colour(position), letter(position)), job.name)
    };
    let names: Vec<String> = jobs.iter().enumerate().map(legend).collect();
    crate::say!("\n  {}", names.join("   "));
    let has = |wanted: &[Span]| wanted.iter().map(|span| span.seconds()).sum::<i64>() < hall.within.seconds();
    let mut signs = vec!["A capital letter: it may still be at work, cautiously"];
    if has(&hall.on) {
        signs.push("× the machine is off");
    }
    if has(&hall.usable) {
        signs.push("· disks are not to be heard");
    }
    crate::say!("  {}", style::paint(style::FAINT, signs.join("; ")));
}

fn mark(hall: &Hall, played: &Played, from: i64) -> Mark {
    let cell = Span { from, until: from + CELL };
    if cell.until <= hall.within.from || cell.from >= hall.within.until {
        return Mark::Gone;
    }
    let begun = |run: &&Run| run.begin < cell.until;
    let at_work = played.runs.iter().filter(begun).rev().find(|run| run.end.max(run.begin + 1) > cell.from);
    if let Some(run) = at_work {
        return Mark::Job(run.job);
    }
    let may = |run: &&Run| !run.stopped && begun(run) && run.cautious_end > cell.from;
    if let Some(run) = played.runs.iter().rev().find(may) {
        return Mark::Maybe(run.job);
    }
    let in_one = |spans: &[Span]| spans.iter().any(|span| span.common(cell).is_some());
    match (in_one(&hall.on), in_one(&hall.usable)) {
        (false, _) => Mark::Off,
        (true, false) => Mark::Quiet,
        (true, true) => Mark::Free,
    }
}

/// Neighbours that are alike are painted at once.
fn row(cells: &[Mark]) -> String {
    let mut row = String::new();
    for alike in cells.chunk_by(|one, other| one == other) {
        let repeated = |text: char| text.to_string().repeat(alike.len());
        row += &match alike[0] {
            Mark::Free | Mark::Gone => repeated(' '),
            Mark::Off => style::paint(style::FAINT, repeated('×')),
            Mark::Quiet => style::paint(style::FAINT, repeated('·')),
            Mark::Job(job) => style::paint(colour(job), repeated(letter(job))),
            Mark::Maybe(job) => style::paint(style::FAINT, repeated(letter(job).to_ascii_uppercase())),
        };
    }
    row.trim_end().to_string()
}
