//! Charts, as SVG or PNG files. A crate of its own: what draws brings a third of all packages along, and nothing else waits for it.

pub mod design;
pub mod ingest;
pub mod losses;
pub mod trend;
pub mod week;

use std::path::Path;

use plotters::coord::Shift;
use plotters::prelude::*;
use resvg::{tiny_skia, usvg};
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};

/// The size of every chart, in pixels.
const SIZE: (u32, u32) = (1280, 800);
/// The typeface that comes with the program, so that a picture looks the same everywhere.
const TYPEFACE: &str = "Ubuntu";

/// Colours with one meaning each.
pub(crate) const INK: RGBColor = RGBColor(46, 52, 64);
pub(crate) const FAINT: RGBColor = RGBColor(110, 117, 128);
pub(crate) const NOTHING: RGBColor = RGBColor(232, 240, 233);
pub(crate) const SPACE: RGBColor = RGBColor(70, 130, 180);
pub(crate) const AVERAGE: RGBColor = RGBColor(224, 164, 88);
pub(crate) const WORST: RGBColor = RGBColor(190, 80, 77);

/// How amounts are written, as whoever asks for a chart writes them elsewhere.
#[derive(Clone, Copy)]
pub struct Words {
    /// A size, such as "1.2 TB".
    pub size: fn(ByteLength) -> String,
    /// A number, with separators.
    pub count: fn(u64) -> String,
}

/// Where a chart is drawn.
pub type Canvas<'a> = DrawingArea<SVGBackend<'a>, Shift>;
/// What may go wrong while drawing.
pub type Drawn = std::result::Result<(), Box<dyn std::error::Error>>;

/// Text of a size in a colour.
pub(crate) fn text(size: i32, colour: RGBColor) -> TextStyle<'static> {
    (TYPEFACE, size).into_font().color(&colour)
}

/// The background that a chart is drawn for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Background {
    /// A page.
    Light,
    /// A screen at night.
    Dark,
}

/// The colours of a light chart that carry no meaning, and what they are on a dark one. What has a meaning keeps its colour:
/// those are chosen so that they stand out from both.
const DARK: [(RGBColor, RGBColor); 6] = [
    (WHITE, RGBColor(32, 35, 42)),
    (INK, RGBColor(229, 233, 240)),
    (FAINT, RGBColor(140, 147, 160)),
    (NOTHING, RGBColor(48, 60, 54)),
    (week::OFF, RGBColor(70, 74, 84)),
    (week::QUIET, RGBColor(50, 54, 63)),
];

/// A colour as charts have it.
fn hex(colour: RGBColor) -> String {
    format!("\"#{:02X}{:02X}{:02X}\"", colour.0, colour.1, colour.2)
}

/// Rules for a style sheet: they make light charts within elements of a class dark ones, where the page is dark.
pub fn dark_rules(class: &str) -> String {
    let rule = |(light, dark): &(RGBColor, RGBColor)| {
        let (light, dark) = (hex(*light), hex(*dark).replace('"', ""));
        let of = |what: &str| format!(".{class} [{what}={light}] {{ {what}: {dark}; }}\n");
        of("fill") + &of("stroke")
    };
    DARK.iter().map(rule).collect()
}

/// A light chart as a dark one.
fn darkened(svg: &str) -> String {
    // In two steps, so that what has become light is not taken for what was.
    let marks = DARK.map(|(light, _)| hex(light).replace('#', "#-"));
    let marked = DARK
        .iter()
        .zip(&marks)
        .fold(svg.to_string(), |svg, ((light, _), mark)| svg.replace(&hex(*light), mark));
    DARK.iter().zip(&marks).fold(marked, |svg, ((_, dark), mark)| svg.replace(mark, &hex(*dark)))
}

/// Draws a chart and writes it: PNG if the name ends so, else SVG.
///
/// # Errors
/// When it cannot be drawn or written, or the name ends otherwise.
pub fn save(path: &Path, background: Background, draw: impl FnOnce(&Canvas<'_>) -> Drawn) -> Result<()> {
    let is_png = match path.extension().and_then(|e| e.to_str()) {
        Some("png") => true,
        Some("svg") => false,
        _ => {
            let message = format!("{}: a chart is an .svg or a .png file", path.display());
            return Err(Error::new(Kind::Usage, "chart.kind", message));
        }
    };
    let light = svg(SIZE, draw)?;
    let svg = if background == Background::Dark { darkened(&light) } else { light };
    let bytes = if is_png { png(&svg).map_err(failed)? } else { svg.into_bytes() };
    write(path, &bytes)
}

fn failed(why: impl std::fmt::Display) -> Error {
    Error::new(Kind::Internal, "chart.draw", format!("the chart: {why}"))
}

/// Draws a chart of a size in pixels as the text of an SVG, to be put into a page.
///
/// # Errors
/// When it cannot be drawn.
pub fn svg(size: (u32, u32), draw: impl FnOnce(&Canvas<'_>) -> Drawn) -> Result<String> {
    let mut svg = String::new();
    {
        let canvas = SVGBackend::with_string(&mut svg, size).into_drawing_area();
        canvas.fill(&WHITE).map_err(failed)?;
        draw(&canvas).map_err(failed)?;
        canvas.present().map_err(failed)?;
    }
    Ok(svg)
}

/// Writes a file that does not exist yet, for its owner alone: a picture may name every file of a volume (L5), and nothing
/// that is there, or that a symlink leads to, is overwritten unasked.
fn write(path: &Path, bytes: &[u8]) -> Result<()> {
    use std::os::unix::fs::OpenOptionsExt;
    let made = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path);
    made.and_then(|mut file| std::io::Write::write_all(&mut file, bytes)).map_err(|e| {
        let mut error = Error::io("chart.write", path, e);
        error.kind = Kind::Conflict;
        error.remedy("name a file that does not exist yet, or remove that one first")
    })
}

fn png(svg: &str) -> std::result::Result<Vec<u8>, String> {
    let mut options = usvg::Options::default();
    options.fontdb_mut().load_font_data(epaint_default_fonts::UBUNTU_LIGHT.to_vec());
    options.fontdb_mut().set_sans_serif_family(TYPEFACE);
    let tree = usvg::Tree::from_str(svg, &options).map_err(|e| e.to_string())?;
    let mut pixels = tiny_skia::Pixmap::new(SIZE.0, SIZE.1).ok_or("no memory for the picture")?;
    resvg::render(&tree, tiny_skia::Transform::default(), &mut pixels.as_mut());
    pixels.encode_png().map_err(|e| e.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rules_name_every_colour_that_carries_no_meaning() {
        let rules = dark_rules("chart");
        assert!(rules.contains(".chart [fill=\"#FFFFFF\"] { fill: #20232A; }"), "{rules}");
        assert_eq!(rules.lines().count(), 2 * DARK.len());
    }

    #[test]
    fn a_dark_chart_has_no_light_ground_and_no_dark_ink() {
        let light = svg((100, 40), |canvas| {
            canvas.draw(&Text::new("told", (4, 4), text(12, INK)))?;
            canvas.draw(&Rectangle::new([(0, 0), (9, 9)], WORST.filled()))?;
            Ok(())
        });
        let light = light.expect("it can be drawn");
        let dark = darkened(&light);
        assert!(light.contains("#FFFFFF") && light.contains("#2E3440"), "{light}");
        assert!(!dark.contains("#FFFFFF") && !dark.contains("#2E3440"), "{dark}");
        assert!(dark.contains("#BE504D") && dark.contains("#20232A"), "{dark}");
    }
}
