//! The sections about what goes together and how likely losses are.

use toml_edit::Table;

use super::fields::Fields;
use super::{DiskSpec, GroupSpec, Mistake, RiskSpec};

/// The longest stretch of days that is taken for one.
const MOST_DAYS: f64 = 3650.0;

pub(super) fn read_group(
    table: &Table,
    disks: &[DiskSpec],
    mistakes: &mut Vec<Mistake>,
) -> Option<GroupSpec> {
    let mut fields = Fields::new(table, "[[group]]", table.span().unwrap_or(0..0), mistakes);
    let name = fields.required_text("name");
    let members = fields.texts("disks");
    if members.is_empty() {
        let span = fields.span.clone();
        fields.mistake(span, "a group needs its disks: disks = [\"…\", \"…\"]");
    }
    for (member, span) in &members {
        if !disks.iter().any(|d| d.name == *member) {
            fields.mistake(span.clone(), format!("there is no disk `{member}`"));
        }
    }
    fields.finish();
    let (name, name_span) = name?;
    Some(GroupSpec { name, disks: members.into_iter().map(|(disk, _)| disk).collect(), name_span })
}

pub(super) fn read_risk(root: &Table, mistakes: &mut Vec<Mistake>) -> RiskSpec {
    let Some(item) = root.get("risk") else { return RiskSpec::default() };
    let Some(table) = item.as_table() else {
        let span = item.span().unwrap_or(0..0);
        mistakes.push(Mistake::new(span, "write [risk] as a section of its own"));
        return RiskSpec::default();
    };
    let mut fields = Fields::new(table, "[risk]", item.span().unwrap_or(0..0), mistakes);
    let spec = RiskSpec {
        batch_factor: fields.number("batch_factor", 1.0..=1000.0),
        replace_within: fields.read("replace_within", days),
        sync_every: fields.read("sync_every", days),
        unreadable_per_bit: fields.number("unreadable_per_bit", 0.0..=1e-9),
    };
    fields.finish();
    spec
}

/// Reads "36 hours", "3 days" or "2 weeks", as days.
fn days(text: &str) -> Result<f64, String> {
    let wrong = || format!("`{text}` is no stretch of time: write \"12 hours\", \"3 days\" or \"2 weeks\"");
    let (number, unit) = text.trim().split_once(char::is_whitespace).ok_or_else(wrong)?;
    let number: f64 = number.parse().map_err(|_| wrong())?;
    let each = match unit.trim().trim_end_matches('s') {
        "hour" => 1.0 / 24.0,
        "day" => 1.0,
        "week" => 7.0,
        _ => return Err(wrong()),
    };
    let days = number * each;
    if days > 0.0 && days <= MOST_DAYS { Ok(days) } else { Err(wrong()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("12 hours", Some(0.5))]
    #[case("1 day", Some(1.0))]
    #[case(" 2 weeks ", Some(14.0))]
    #[case("1.5 days", Some(1.5))]
    #[case("0 days", None)]
    #[case("-1 days", None)]
    #[case("nan days", None)]
    #[case("9999 weeks", None)]
    #[case("7", None)]
    #[case("7 moons", None)]
    #[case("", None)]
    fn stretches_of_time_are_read(#[case] text: &str, #[case] expected: Option<f64>) {
        assert_eq!(days(text).ok(), expected);
    }
}
