//! Figures over time: a line a disk.

use plotters::prelude::*;

use super::{Canvas, Drawn, FAINT, INK, text};

/// One line: its name, and points of (days before now, value).
pub struct Line {
    /// What it is of.
    pub name: String,
    /// Points in the order of time; days are negative or 0.
    pub points: Vec<(f64, f64)>,
}

const COLOURS: [RGBColor; 6] = [
    RGBColor(70, 130, 180),
    RGBColor(190, 80, 77),
    RGBColor(106, 153, 78),
    RGBColor(200, 140, 50),
    RGBColor(128, 104, 168),
    RGBColor(60, 140, 140),
];

/// A day before now.
fn ago(days: f64) -> String {
    match -days.round() {
        ..1.0 => "now".into(),
        1.0 => "1 day ago".into(),
        days => format!("{days:.0} days ago"),
    }
}

/// Draws lines over the same days, from 0 or from the least value on.
///
/// # Errors
/// When it cannot be drawn.
pub fn draw(canvas: &Canvas<'_>, title: &str, unit: &str, lines: &[Line], from_zero: bool) -> Drawn {
    let values = || lines.iter().flat_map(|line| line.points.iter().map(|point| point.1));
    let first = lines.iter().flat_map(|line| line.points.iter().map(|p| p.0)).fold(-1.0, f64::min);
    let most = values().fold(f64::NEG_INFINITY, f64::max);
    let least = values().fold(f64::INFINITY, f64::min);
    if !most.is_finite() || !least.is_finite() {
        return Ok(());
    }
    let low = if from_zero { 0.0 } else { (least - 2.0).min(most - 4.0) };
    let high = if most > low { most + (most - low) * 0.1 } else { low + 1.0 };
    // Marks that would read the same get a digit more; what has no unit is counted, and has no halves.
    let decimals = usize::from(high - low < 4.0 && !unit.is_empty());
    let mut chart = ChartBuilder::on(canvas)
        .caption(title, text(24, INK))
        .margin(14)
        .margin_right(44)
        .x_label_area_size(44)
        .y_label_area_size(70)
        .build_cartesian_2d(first..0.0, low..high)?;
    chart
        .configure_mesh()
        .x_labels(6)
        .y_labels(5)
        .x_label_formatter(&|days| ago(*days))
        .y_label_formatter(&|value| format!("{value:.decimals$} {unit}"))
        .label_style(text(17, INK))
        .light_line_style(WHITE)
        .bold_line_style(FAINT.mix(0.25))
        .draw()?;
    for (position, line) in lines.iter().enumerate() {
        let colour = COLOURS[position % COLOURS.len()];
        chart
            .draw_series(LineSeries::new(line.points.iter().copied(), colour.stroke_width(2)))?
            .label(&line.name)
            .legend(move |(x, y)| Rectangle::new([(x, y - 5), (x + 14, y + 5)], colour.filled()));
        if let [only] = line.points[..] {
            chart.draw_series([Circle::new(only, 3, colour.filled())])?;
        }
    }
    chart
        .configure_series_labels()
        .position(SeriesLabelPosition::UpperLeft)
        .background_style(WHITE.mix(0.85))
        .label_font(text(17, INK))
        .draw()?;
    Ok(())
}
