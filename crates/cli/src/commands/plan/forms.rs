//! `schema`: the written form of what `--json` prints.

use std::path::Path;

use sieve_disk::{Error, Kind, Result};

use crate::exit::Outcome;
use crate::{json, new_file};

/// Prints the schema of one result, or the names of all; or writes all into a folder.
pub(crate) fn run(name: Option<&str>, into: Option<&Path>) -> Result<Outcome> {
    match (name, into) {
        (None, Some(folder)) => write_all(folder)?,
        (Some(name), _) => crate::output::document(&text(name)?),
        (None, None) => json::names().iter().for_each(|name| crate::say!("{name}")),
    }
    Ok(Outcome::Fine)
}

fn text(name: &str) -> Result<String> {
    // The name as `format` has it is as good.
    let short = name.strip_prefix("zinc-sieve/").unwrap_or(name);
    let schema = json::schema(short).ok_or_else(|| {
        let near = sieve_core::suggest::nearest(short, json::names());
        let remedy =
            near.map_or("zinc-sieve schema lists them".into(), |near| format!("did you mean `{near}`?"));
        Error::new(Kind::Usage, "schema.name", format!("no result is called `{name}`")).remedy(remedy)
    })?;
    Ok(format!("{schema:#}\n"))
}

fn write_all(folder: &Path) -> Result<()> {
    std::fs::create_dir_all(folder).map_err(|e| Error::io("schema.folder", folder, e))?;
    let names = json::names();
    for name in &names {
        new_file::write(&folder.join(format!("{name}.json")), &text(name)?, "schema.write")?;
    }
    crate::say!("{} schemas are in {}.", names.len(), folder.display());
    Ok(())
}
