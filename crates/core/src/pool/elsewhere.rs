//! The sections about other machines: what of this pool lies there as well, by their listings.

use std::ops::Range;

use toml_edit::Table;

use super::Mistake;
use super::fields::Fields;
use crate::stretch::parse_days as days;

/// A listing is old after so many days, where nobody says.
const STALE_AFTER: f64 = 60.0;

/// Another machine that has files of this pool.
#[derive(Clone, Debug, PartialEq)]
pub struct ElsewhereSpec {
    /// What it is called.
    pub name: String,
    /// The file that lists what it has; a relative path begins at the folder of the pool file.
    pub listing: String,
    /// Where it stands, in words.
    pub place: Option<String>,
    /// A fire here does not reach it.
    pub off_site: bool,
    /// Only what lies below this folder there is meant, by its path from there.
    pub below: Option<String>,
    /// Days after which the listing is too old to go by.
    pub stale_after: f64,
    /// Where its name stands in the file.
    pub name_span: Range<usize>,
}

pub(super) fn read_elsewhere(table: &Table, mistakes: &mut Vec<Mistake>) -> Option<ElsewhereSpec> {
    let mut fields = Fields::new(table, "[[elsewhere]]", table.span().unwrap_or(0..0), mistakes);
    let name = fields.required_text("name");
    let listing = fields.required_text("listing");
    let place = fields.text("place").map(|(text, _)| text);
    let off_site = fields.flag("off_site");
    let below = fields.text("below").map(|(text, _)| text.trim_matches('/').to_string());
    let stale_after = fields.read("stale_after", days).unwrap_or(STALE_AFTER);
    fields.finish();
    let ((name, name_span), (listing, _)) = (name?, listing?);
    let below = below.filter(|below| !below.is_empty());
    Some(ElsewhereSpec { name, listing, place, off_site, below, stale_after, name_span })
}
