//! Damage that is met while reading: told in words, and remembered until it is mended.

use crate::pool::Pool;
use sieve_catalogue::parity_state;
use sieve_disk::Result;
use sieve_rows::content::CellProblem;
use sieve_rows::window::ReadProblem;

/// How a damaged cell of a file is told.
pub fn damage_text(path: &str, cell: u64) -> String {
    format!("{path}: damaged in cell {cell}")
}

/// Tells each problem that is damage once, and remembers which cells are damaged.
///
/// # Errors
/// What the database says.
pub fn note(pool: &Pool, problems: &[ReadProblem], told: &mut Vec<String>) -> Result<()> {
    for found in problems {
        let text = match &found.problem {
            CellProblem::Damaged(path) => {
                pool.catalogue
                    .transaction(|t| parity_state::add_damaged_content(t, found.version, found.cell))?;
                damage_text(path, found.cell)
            }
            CellProblem::Failed(error) => error.to_string(),
            CellProblem::Absent | CellProblem::Changed(_) => continue,
        };
        if !told.contains(&text) {
            told.push(text);
        }
    }
    Ok(())
}
