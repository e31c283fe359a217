//! The fill level of the cache through a day.

use plotters::prelude::*;
use sieve_core::ingest::Day;
use sieve_core::units::ByteLength;

use super::{Canvas, Drawn, FAINT, INK, SPACE, WORST, Words, text};

/// Draws what waits on the cache through a day.
///
/// # Errors
/// When it cannot be drawn.
pub fn draw(canvas: &Canvas<'_>, day: &Day, cache: Option<ByteLength>, words: Words) -> Drawn {
    let gigabytes = |bytes: ByteLength| bytes.exact() as f64 / 1e9;
    let most = gigabytes(day.most).max(cache.map_or(0.0, gigabytes)).max(1e-3) * 1.15;
    let mut chart = ChartBuilder::on(canvas)
        .caption("What waits on the cache through a day", text(26, INK))
        .margin(30)
        .x_label_area_size(60)
        .y_label_area_size(110)
        .build_cartesian_2d(0.0..24.0, 0.0..most)?;
    chart
        .configure_mesh()
        .x_desc("hour of the day")
        .y_desc("GB")
        .x_labels(13)
        .x_label_formatter(&|hour| format!("{hour:02.0}:00"))
        .y_label_formatter(&|gigabytes| format!("{gigabytes:.0}"))
        .label_style(text(17, INK))
        .axis_desc_style(text(18, INK))
        .light_line_style(WHITE)
        .bold_line_style(FAINT.mix(0.25))
        .draw()?;
    let points = || day.level.iter().map(|(minute, bytes)| (minute / 60.0, gigabytes(*bytes)));
    chart.draw_series(AreaSeries::new(points(), 0.0, SPACE.mix(0.35)).border_style(SPACE.stroke_width(2)))?;
    let line = |at: f64| [(0.0, at), (24.0, at)];
    let needed = gigabytes(day.most);
    chart.draw_series(LineSeries::new(line(needed), INK.stroke_width(1)))?;
    let told = format!("smallest cache that does not overflow: {}", (words.size)(day.most));
    chart.draw_series([Text::new(told, (0.3, needed + most * 0.03), text(17, INK))])?;
    if let Some(cache) = cache {
        let at = gigabytes(cache);
        let colour = if cache < day.most { WORST } else { SPACE };
        chart.draw_series(LineSeries::new(line(at), colour.stroke_width(2)))?;
        let told = format!("cache: {}", (words.size)(cache));
        chart.draw_series([Text::new(told, (20.0, at + most * 0.03), text(17, colour))])?;
    }
    Ok(())
}
