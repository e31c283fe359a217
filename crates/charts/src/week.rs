//! The coming days of an agenda: a band a day, hours across, jobs as bars.

use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use plotters::prelude::*;
use sieve_core::agenda::{Hall, Played, Setting, Span};

use super::{Canvas, Drawn, FAINT, INK, text};

/// The colours of jobs, apart from each other for those who see few as well.
const COLOURS: [RGBColor; 6] = [
    RGBColor(70, 130, 180),
    RGBColor(224, 164, 88),
    RGBColor(106, 153, 78),
    RGBColor(190, 80, 77),
    RGBColor(128, 104, 168),
    RGBColor(90, 160, 160),
];
pub(crate) const OFF: RGBColor = RGBColor(214, 217, 222);
pub(crate) const QUIET: RGBColor = RGBColor(236, 238, 241);
/// No more bands can be read.
const MOST_DAYS: usize = 31;
const LEFT: i32 = 150;
const RIGHT: i32 = 1250;
const TOP: i32 = 110;
const BOTTOM: i32 = 690;

/// A day and where its band is.
struct Band {
    date: Date,
    day: Span,
    top: i32,
    bottom: i32,
}

impl Band {
    /// The part of a span that lies in it, as a rectangle.
    fn rectangle(&self, span: Span) -> Option<[(i32, i32); 2]> {
        let part = span.common(self.day)?;
        let x = |at: i64| {
            let share = (at - self.day.from) as f64 / self.day.seconds() as f64;
            LEFT + (share * f64::from(RIGHT - LEFT)).round() as i32
        };
        let (from, until) = (x(part.from), x(part.until).max(x(part.from) + 2));
        Some([(from, self.top), (until, self.bottom)])
    }
}

fn bands(hall: &Hall, zone: &TimeZone) -> Vec<Band> {
    let day_of = |at: i64| zone.to_datetime(Timestamp::from_second(at).unwrap_or_default()).date();
    let begin = |date: Date| {
        let civil = date.to_datetime(Time::midnight());
        zone.to_ambiguous_zoned(civil).compatible().map_or(0, |zoned| zoned.timestamp().as_second())
    };
    let (mut date, last) = (day_of(hall.within.from), day_of(hall.within.until - 1));
    let mut days = Vec::new();
    while date <= last && days.len() < MOST_DAYS {
        let next = date.checked_add(1.days()).unwrap_or(date);
        days.push((date, Span { from: begin(date), until: begin(next) }));
        date = next;
    }
    let height = (BOTTOM - TOP) / i32::try_from(days.len().max(1)).unwrap_or(1);
    let place = |(position, (date, day)): (usize, (Date, Span))| {
        let top = TOP + i32::try_from(position).unwrap_or(0) * height;
        Band { date, day, top: top + height / 8, bottom: top + height - height / 8 }
    };
    days.into_iter().enumerate().map(place).collect()
}

/// Draws the days that a hall covers.
///
/// # Errors
/// When it cannot be drawn.
pub fn draw(
    canvas: &Canvas<'_>,
    title: &str,
    setting: &Setting,
    hall: &Hall,
    played: &Played,
    zone: &TimeZone,
) -> Drawn {
    canvas.draw(&Text::new(format!("The agenda of {title}"), (LEFT, 30), text(26, INK)))?;
    for hour in (0..=24).step_by(3) {
        let x = LEFT + (RIGHT - LEFT) * hour / 24;
        canvas.draw(&PathElement::new([(x, TOP), (x, BOTTOM)], FAINT.mix(0.35)))?;
        canvas.draw(&Text::new(format!("{hour:02}:00"), (x - 20, TOP - 28), text(16, INK)))?;
    }
    for band in bands(hall, zone) {
        let label = band.date.strftime("%a %-d %b").to_string();
        canvas.draw(&Text::new(label, (40, (band.top + band.bottom) / 2 - 9), text(17, INK)))?;
        backdrop(canvas, &band, hall)?;
        for run in &played.runs {
            let colour = COLOURS[run.job % COLOURS.len()];
            let maybe = Span { from: run.end, until: if run.stopped { run.end } else { run.cautious_end } };
            if let Some(rectangle) = band.rectangle(maybe) {
                canvas.draw(&Rectangle::new(rectangle, colour.mix(0.3).filled()))?;
            }
            if let Some(rectangle) =
                band.rectangle(Span { from: run.begin, until: run.end.max(run.begin + 1) })
            {
                canvas.draw(&Rectangle::new(rectangle, colour.filled()))?;
            }
        }
    }
    legend(canvas, setting)
}

/// Hours in which nothing is to be done.
fn backdrop(canvas: &Canvas<'_>, band: &Band, hall: &Hall) -> Drawn {
    let Some(shown) = band.day.common(hall.within) else { return Ok(()) };
    let fill = |spans: &[Span], colour: RGBColor| -> Drawn {
        for rectangle in spans.iter().filter_map(|span| band.rectangle(*span)) {
            canvas.draw(&Rectangle::new(rectangle, colour.filled()))?;
        }
        Ok(())
    };
    fill(&[shown], OFF)?;
    fill(&hall.on, QUIET)?;
    fill(&hall.usable, WHITE)?;
    let border = band.rectangle(shown).unwrap_or([(LEFT, band.top), (RIGHT, band.bottom)]);
    Ok(canvas.draw(&Rectangle::new(border, FAINT.mix(0.5)))?)
}

fn legend(canvas: &Canvas<'_>, setting: &Setting) -> Drawn {
    let mut x = LEFT;
    let mut y = BOTTOM + 25;
    let mut entry = |colour: RGBColor, name: &str, outlined: bool| -> Drawn {
        let width = 40 + i32::try_from(name.chars().count()).unwrap_or(0) * 9;
        if x + width > RIGHT {
            (x, y) = (LEFT, y + 28);
        }
        canvas.draw(&Rectangle::new([(x, y), (x + 20, y + 16)], colour.filled()))?;
        if outlined {
            canvas.draw(&Rectangle::new([(x, y), (x + 20, y + 16)], FAINT))?;
        }
        canvas.draw(&Text::new(name.to_string(), (x + 28, y - 1), text(16, INK)))?;
        x += width;
        Ok(())
    };
    for (position, job) in setting.jobs.iter().enumerate() {
        entry(COLOURS[position % COLOURS.len()], &job.name, false)?;
    }
    if !setting.quiet.is_empty() {
        entry(QUIET, "disks are not to be heard", true)?;
    }
    if !setting.awake.is_empty() {
        entry(OFF, "the machine is off", true)?;
    }
    entry(RGBColor(200, 215, 228), "pale: may take so long, cautiously", false)
}
