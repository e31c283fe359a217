//! Disks that go together: named in the pool file, or following from what it says of them.

use sieve_core::pool::PoolSpec;

use sieve_disk::{Error, Kind, Result};

/// The disks of a group: a `[[group]]` of the pool file, a `[[link]]`, a purchase batch, a case, or a row of a case
/// ("tower:2", the second from the top).
///
/// # Errors
/// When there is no such group, when two kinds of groups have the name, or when nobody is in it.
pub fn disks_of_group(spec: &PoolSpec, name: &str) -> Result<Vec<String>> {
    let found: Vec<(&str, Vec<String>)> = all(spec)
        .into_iter()
        .filter(|(_, known, _)| known == name)
        .map(|(kind, _, disks)| (kind, disks))
        .collect();
    match found.as_slice() {
        [(_, disks)] if !disks.is_empty() => Ok(disks.clone()),
        [] => Err(unknown(spec, name)),
        [(kind, _)] => {
            let message = format!("no disk is in the {kind} `{name}`");
            Err(Error::new(Kind::Usage, "group.empty", message))
        }
        [(one, _), (other, _), ..] => {
            let message = format!("`{name}` is a {one} and a {other}");
            Err(Error::new(Kind::Usage, "group.ambiguous", message)
                .remedy("give one of them another name in the pool file, or name the disks with --lose"))
        }
    }
}

/// Every group: its kind, its name, its disks.
fn all(spec: &PoolSpec) -> Vec<(&'static str, String, Vec<String>)> {
    let with = |is_in: &dyn Fn(&sieve_core::pool::DiskSpec) -> bool| {
        spec.disks.iter().filter(|d| is_in(d)).map(|d| d.name.clone()).collect::<Vec<_>>()
    };
    let mut groups: Vec<(&str, String, Vec<String>)> =
        spec.groups.iter().map(|g| ("group", g.name.clone(), g.disks.clone())).collect();
    for link in &spec.links {
        groups.push(("link", link.name.clone(), with(&|d| d.link.as_ref() == Some(&link.name))));
    }
    let mut batches: Vec<&String> = spec.disks.iter().filter_map(|d| d.batch.as_ref()).collect();
    batches.sort();
    batches.dedup();
    for batch in batches {
        groups.push(("batch", batch.clone(), with(&|d| d.batch.as_ref() == Some(batch))));
    }
    for case in &spec.cases {
        let sits_in = |rows: &[Vec<Option<String>>]| {
            with(&|d| d.bay.is_some() && rows.iter().flatten().any(|bay| *bay == d.bay))
        };
        groups.push(("case", case.name.clone(), sits_in(&case.rows)));
        for (number, row) in (1..).zip(case.rows.chunks(1)) {
            groups.push(("row of bays", format!("{}:{number}", case.name), sits_in(row)));
        }
    }
    groups
}

fn unknown(spec: &PoolSpec, name: &str) -> Error {
    let known: Vec<String> =
        all(spec).into_iter().filter(|(_, _, disks)| !disks.is_empty()).map(|g| g.1).collect();
    let remedy = if known.is_empty() {
        "name one in the pool file: [[group]] with name = \"…\" and disks = [\"…\", \"…\"]".to_string()
    } else {
        format!("the groups are {}", known.join(", "))
    };
    Error::new(Kind::Usage, "group.unknown", format!("there is no group `{name}`")).remedy(remedy)
}
