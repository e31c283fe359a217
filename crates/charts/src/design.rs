//! Plans side by side: what they store, and what is lost when one disk more dies than they survive.

use plotters::prelude::*;
use sieve_core::design::Figures;

use super::{AVERAGE, Canvas, Drawn, FAINT, INK, SPACE, WORST, Words, text};

/// The height of the bars' area, and where the columns begin.
const TOP: i32 = 130;
const BOTTOM: i32 = 730;
const NAMES: i32 = 40;
const LINE: i32 = 19;
const SPACES: (i32, i32) = (350, 640);
const LOSSES: (i32, i32) = (840, 1130);

/// Draws plans beside each other: their space, and what one loss too many costs; the one that is recommended is marked.
///
/// # Errors
/// When it cannot be drawn.
pub fn draw(
    canvas: &Canvas<'_>,
    title: &str,
    all: &[Figures],
    recommended: Option<usize>,
    words: Words,
) -> Drawn {
    canvas.draw(&Text::new(title.to_string(), (NAMES, 30), text(26, INK)))?;
    canvas.draw(&Text::new("usable space", (SPACES.0, 90), text(19, INK)))?;
    canvas.draw(&Text::new(
        "lost when one disk more dies than it survives",
        (LOSSES.0, 90),
        text(19, INK),
    ))?;
    legend(canvas)?;
    let most = all.iter().map(|f| f.plan.usable.exact()).max().unwrap_or(1).max(1) as f64;
    let height = ((BOTTOM - TOP) / all.len().max(1) as i32).min(90);
    for (row, figures) in (0i32..).zip(all) {
        let y = TOP + row * height;
        if recommended == Some(row as usize) {
            let band = [(NAMES - 12, y - 7), (1240, y + height - 7)];
            canvas.draw(&Rectangle::new(band, SPACE.mix(0.14).filled()))?;
            canvas.draw(&Rectangle::new(band, SPACE.stroke_width(1)))?;
            canvas.draw(&Text::new("recommended", (NAMES, y + height - 26), text(13, SPACE)))?;
        }
        plan(canvas, figures, (y, height), most, words)?;
    }
    let compared = if all.iter().any(|figures| figures.is_for_comparison) {
        " \u{2020} for comparison only: this program does not build it."
    } else {
        ""
    };
    let note = format!("Volumes are full.{compared}");
    canvas.draw(&Text::new(note, (NAMES, 760), text(15, FAINT)))?;
    Ok(())
}

fn legend(canvas: &Canvas<'_>) -> Drawn {
    for (x, colour, what) in [(840, AVERAGE, "on average"), (960, WORST, "at worst")] {
        canvas.draw(&Rectangle::new([(x, 52), (x + 14, 66)], colour.filled()))?;
        canvas.draw(&Text::new(what, (x + 20, 51), text(16, INK)))?;
    }
    Ok(())
}

fn plan(canvas: &Canvas<'_>, figures: &Figures, (y, height): (i32, i32), most: f64, words: Words) -> Drawn {
    let colour = if figures.is_for_comparison { FAINT } else { INK };
    let mark = if figures.is_for_comparison { " \u{2020}" } else { "" };
    let bar = (height - 14).clamp(8, 44);
    // Of several volumes each has a line.
    let lines: Vec<&str> = figures.name.split_inclusive("; ").collect();
    let middle = y + bar / 2 - 9 - LINE * (lines.len() as i32 - 1) / 2;
    for (number, line) in (0i32..).zip(&lines) {
        let mark = if number as usize + 1 == lines.len() { mark } else { "" };
        let words = format!("{}{mark}", line.trim_end());
        canvas.draw(&Text::new(words, (NAMES, middle + LINE * number), text(17, colour)))?;
    }
    let share = figures.plan.usable.exact() as f64 / most;
    let end = across(SPACES, share);
    canvas.draw(&Rectangle::new([(SPACES.0, y), (end, y + bar)], SPACE.filled()))?;
    canvas.draw(&Text::new(
        (words.size)(figures.plan.usable),
        (end + 8, y + bar / 2 - 9),
        text(16, colour),
    ))?;
    let loss = &figures.one_more;
    for (top, share, colour) in [(y, loss.average, AVERAGE), (y + bar / 2, loss.worst, WORST)] {
        let bars = [(LOSSES.0, top), (across(LOSSES, share).max(LOSSES.0 + 1), top + bar / 2 - 1)];
        canvas.draw(&Rectangle::new(bars, colour.filled()))?;
    }
    let told = format!("{:.0} % / {:.0} %", loss.average * 100.0, loss.worst * 100.0);
    let right = across(LOSSES, loss.worst.max(loss.average)) + 8;
    canvas.draw(&Text::new(told, (right, y + bar / 2 - 9), text(16, colour)))?;
    let when = format!("with {}", loss.disks);
    canvas.draw(&Text::new(when, (LOSSES.0 - 62, y + bar / 2 - 9), text(15, FAINT)))?;
    Ok(())
}

fn across((start, end): (i32, i32), share: f64) -> i32 {
    start + (f64::from(end - start) * share.clamp(0.0, 1.0)) as i32
}
