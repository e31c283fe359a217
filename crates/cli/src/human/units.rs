//! Sizes and counts as people read them.

use std::sync::OnceLock;

use sieve_core::units::{ByteLength, Rate};

static BINARY: OnceLock<bool> = OnceLock::new();

/// Chooses binary or decimal units for the whole run.
pub(crate) fn choose(binary: bool) {
    // Set once, at the start.
    let _ = BINARY.set(binary);
}

/// A size in the chosen units.
pub(crate) fn size(bytes: ByteLength) -> String {
    if BINARY.get().copied().unwrap_or(false) { bytes.binary() } else { bytes.to_string() }
}

/// A rate, "450 MB/s": in the units of [`size`].
pub(crate) fn rate(rate: Rate) -> String {
    format!("{}/s", size(ByteLength::new(rate.per_second() as u64)))
}

/// A number with its thousands apart, "41,203".
pub(crate) fn count(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (position, digit) in digits.chars().enumerate() {
        if position > 0 && (digits.len() - position).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// "1 file", "2 files".
pub(crate) fn files(number: u64) -> String {
    format!("{} {}", count(number), if number == 1 { "file" } else { "files" })
}

/// So many disks.
pub(crate) fn disks(number: u64) -> String {
    if number == 1 { "1 disk".into() } else { format!("{} disks", count(number)) }
}

/// "1 cell of parity", "2 cells of parity".
pub(crate) fn parity_cells(number: u64) -> String {
    format!("{} {} of parity", count(number), if number == 1 { "cell" } else { "cells" })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thousands_are_set_apart() {
        assert_eq!(
            [0, 999, 1000, 41_203, 1_000_000].map(count),
            ["0", "999", "1,000", "41,203", "1,000,000"]
        );
    }
}
