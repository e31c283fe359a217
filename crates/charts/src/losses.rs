//! The loss map: which two disks must not die together.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use sieve_core::fate::LossMap;

use super::{Canvas, Drawn, FAINT, INK, Words, text};

/// Where the matrix begins, and its length, in pixels.
const LEFT: i32 = 150;
const TOP: i32 = 110;
const SIDE: i32 = 620;
/// The colours of a cell: nothing lost, then by quarters of the worst.
const HEATS: [RGBColor; 5] = [
    RGBColor(232, 240, 233),
    RGBColor(250, 226, 190),
    RGBColor(240, 180, 120),
    RGBColor(219, 116, 88),
    RGBColor(168, 48, 52),
];
/// Cells narrower than this have no room for a number.
const READABLE: i32 = 58;

/// Draws what each pair of disks costs, and each disk alone.
///
/// # Errors
/// When it cannot be drawn.
pub fn draw(canvas: &Canvas<'_>, map: &LossMap, title: &str, words: Words) -> Drawn {
    let count = i32::try_from(map.disks.len().max(1)).unwrap_or(i32::MAX);
    let side = (SIDE / count).min(150);
    canvas.draw(&Text::new(format!("What a pair of disks costs{title}"), (40, 26), text(28, INK)))?;
    canvas.draw(&Text::new(
        "Bytes that do not come back as they are when both are lost; of one disk alone on the diagonal",
        (40, 64),
        text(17, FAINT),
    ))?;
    for (row, name) in (0..).zip(&map.disks) {
        let y = TOP + row * side;
        let label = text(label_size(side), INK).pos(Pos::new(HPos::Right, VPos::Center));
        canvas.draw(&Text::new(name.clone(), (LEFT - 10, y + side / 2), label))?;
        for (column, cost) in (0..=row).zip(&map.costs[row as usize]) {
            let heat = map.heat(*cost);
            let x = LEFT + column * side;
            let cell = [(x + 1, y + 1), (x + side - 1, y + side - 1)];
            canvas.draw(&Rectangle::new(cell, HEATS[heat].filled()))?;
            if row == column {
                canvas.draw(&Rectangle::new(cell, INK.stroke_width(1)))?;
            }
            if side >= READABLE && heat > 0 {
                let colour = if heat >= 3 { WHITE } else { INK };
                let style = text(14, colour).pos(Pos::new(HPos::Center, VPos::Center));
                canvas.draw(&Text::new((words.size)(cost.bytes), (x + side / 2, y + side / 2), style))?;
            }
        }
        let under = text(label_size(side), INK).transform(FontTransform::Rotate90);
        let below = TOP + count * side + 8;
        let at = (LEFT + row * side + side / 2 + 6, below);
        if side >= READABLE {
            let style = text(label_size(side), INK).pos(Pos::new(HPos::Center, VPos::Top));
            canvas.draw(&Text::new(name.clone(), (LEFT + row * side + side / 2, below), style))?;
        } else {
            canvas.draw(&Text::new(name.clone(), at, under))?;
        }
    }
    legend(canvas, map, words)
}

fn label_size(side: i32) -> i32 {
    (side - 6).clamp(10, 17)
}

fn legend(canvas: &Canvas<'_>, map: &LossMap, words: Words) -> Drawn {
    let x = 880;
    let most = map.worst().map_or(0, |(_, _, cost)| cost.bytes.exact());
    canvas.draw(&Text::new("costs", (x, TOP), text(17, INK)))?;
    for (heat, colour) in (0..).zip(HEATS) {
        let y = TOP + 34 + heat * 34;
        canvas.draw(&Rectangle::new([(x, y), (x + 26, y + 26)], colour.filled()))?;
        let label = match heat {
            0 => "nothing".to_string(),
            n => format!(
                "up to {}",
                (words.size)(sieve_core::units::ByteLength::new(
                    most / 4 * n as u64 + most % 4 * n as u64 / 4
                ))
            ),
        };
        canvas.draw(&Text::new(label, (x + 38, y + 5), text(16, INK)))?;
    }
    let Some((disks, cost)) = map.worst_disks() else { return Ok(()) };
    let (y, who) = (TOP + 240, disks.join(" and "));
    canvas.draw(&Text::new("must not die together", (x, y), text(17, FAINT)))?;
    canvas.draw(&Text::new(who, (x, y + 28), text(22, INK)))?;
    let told = format!("{}, {} files", (words.size)(cost.bytes), (words.count)(cost.files));
    canvas.draw(&Text::new(told, (x, y + 60), text(17, INK)))?;
    Ok(())
}
