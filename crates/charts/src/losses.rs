//! The loss map: which two disks must not die together.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use sieve_core::fate::LossMap;
use sieve_core::units::ByteLength;

use super::{Canvas, Drawn, FAINT, INK, NOTHING, Words, text};

/// Where the matrix begins at the top, its length, and how far right it may end, in pixels.
const TOP: i32 = 110;
const SIDE: i32 = 620;
const RIGHT: i32 = 850;
/// Names are as wide as their letters; longer ones than these are cut.
const LONGEST: usize = 24;
/// The colours of a cell: nothing lost, then by quarters of the worst.
const HEATS: [RGBColor; 5] = [
    NOTHING,
    RGBColor(250, 226, 190),
    RGBColor(240, 180, 120),
    RGBColor(219, 116, 88),
    RGBColor(168, 48, 52),
];
/// What is written into a cell stays as it is on a dark chart, as the colour of the cell does.
const ON_STRONG: RGBColor = RGBColor(252, 252, 252);
const ON_PALE: RGBColor = RGBColor(40, 44, 52);
/// Cells narrower than this have no room for a number.
const READABLE: i32 = 58;

/// Draws what each pair of disks costs, and each disk alone.
///
/// # Errors
/// When it cannot be drawn.
pub fn draw(canvas: &Canvas<'_>, map: &LossMap, title: &str, words: Words) -> Drawn {
    let count = i32::try_from(map.disks.len().max(1)).unwrap_or(i32::MAX);
    let names: Vec<String> = map.disks.iter().map(|name| cut(name)).collect();
    let letters = names.iter().map(|name| name.chars().count()).max().unwrap_or(0);
    let left = 60 + i32::try_from(letters).unwrap_or(0) * 9;
    let side = (SIDE / count).min((RIGHT - left) / count).min(150);
    let is_written = side >= READABLE;
    canvas.draw(&Text::new(format!("What a pair of disks costs{title}"), (40, 26), text(28, INK)))?;
    canvas.draw(&Text::new(
        "Bytes that do not come back as they are when both are lost; of one disk alone on the diagonal",
        (40, 64),
        text(17, FAINT),
    ))?;
    for (row, name) in (0..).zip(&names) {
        let y = TOP + row * side;
        let label = text(label_size(side), INK).pos(Pos::new(HPos::Right, VPos::Center));
        // Where there is no room for names below the columns, both sides are numbered.
        let told = if is_written { name.clone() } else { format!("{name}  {}", row + 1) };
        canvas.draw(&Text::new(told, (left - 10, y + side / 2), label))?;
        for (column, cost) in (0..=row).zip(&map.costs[row as usize]) {
            let heat = map.heat(*cost);
            let x = left + column * side;
            let cell = [(x + 1, y + 1), (x + side - 1, y + side - 1)];
            canvas.draw(&Rectangle::new(cell, HEATS[heat].filled()))?;
            if row == column {
                canvas.draw(&Rectangle::new(cell, INK.stroke_width(1)))?;
            }
            if is_written && heat > 0 {
                let colour = if heat >= 3 { ON_STRONG } else { ON_PALE };
                let style = text(14, colour).pos(Pos::new(HPos::Center, VPos::Center));
                canvas.draw(&Text::new((words.size)(cost.bytes), (x + side / 2, y + side / 2), style))?;
            }
        }
        let below = (left + row * side + side / 2, TOP + count * side + 8);
        let style = text(label_size(side), INK).pos(Pos::new(HPos::Center, VPos::Top));
        let told = if is_written { name.clone() } else { (row + 1).to_string() };
        canvas.draw(&Text::new(told, below, style))?;
    }
    legend(canvas, map, words)
}

/// A name that is too long for the side of the picture, with a mark that something is left out.
fn cut(name: &str) -> String {
    if name.chars().count() <= LONGEST {
        return name.to_string();
    }
    name.chars().take(LONGEST - 1).chain(['…']).collect()
}

fn label_size(side: i32) -> i32 {
    (side - 6).clamp(10, 17)
}

fn legend(canvas: &Canvas<'_>, map: &LossMap, words: Words) -> Drawn {
    let x = 880;
    let most = map.worst().map_or(0, |(_, _, cost)| cost.bytes.exact());
    canvas.draw(&Text::new("costs", (x, TOP), text(17, INK)))?;
    let up_to =
        |heat: u64| format!("up to {}", (words.size)(ByteLength::new(most / 4 * heat + most % 4 * heat / 4)));
    let mut told = vec![(HEATS[0], "nothing".to_string())];
    for (heat, colour) in (1..).zip(&HEATS[1..]).filter(|_| most > 0) {
        let label = up_to(heat);
        // Amounts so small that they read the same are told once, in the darkest colour of theirs.
        if told.last().is_some_and(|(_, last)| *last == label) {
            told.pop();
        }
        told.push((*colour, label));
    }
    for (place, (colour, label)) in (0..).zip(told) {
        let y = TOP + 34 + place * 34;
        canvas.draw(&Rectangle::new([(x, y), (x + 26, y + 26)], colour.filled()))?;
        canvas.draw(&Text::new(label, (x + 38, y + 5), text(16, INK)))?;
    }
    let Some((disks, cost)) = map.worst_disks() else { return Ok(()) };
    let (y, who) = (TOP + 240, disks.join(" and "));
    canvas.draw(&Text::new("must not die together", (x, y), text(17, FAINT)))?;
    let size = if who.chars().count() > 30 { 16 } else { 22 };
    canvas.draw(&Text::new(who, (x, y + 28), text(size, INK)))?;
    let told = format!("{}, {} files", (words.size)(cost.bytes), (words.count)(cost.files));
    canvas.draw(&Text::new(told, (x, y + 60), text(17, INK)))?;
    Ok(())
}
