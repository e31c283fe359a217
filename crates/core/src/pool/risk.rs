//! The sections about what goes together and how likely losses are.

use toml_edit::Table;

use super::fields::Fields;
use super::{DiskSpec, GroupSpec, Mistake, RiskSpec};
use crate::stretch::parse_days as days;
use crate::suggest::unknown;
use crate::units::ByteLength;

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
            fields.mistake(span.clone(), unknown("disk", member, disks.iter().map(|d| d.name.as_str())));
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
        arrives_a_day: fields
            .read("arrives_a_day", |text| ByteLength::parse(text).map_err(|e| e.to_string())),
        unreadable_per_bit: fields.number("unreadable_per_bit", 0.0..=1e-9),
    };
    fields.finish();
    spec
}
