//! Listings of files that come from outside: CSV, JSON lines, or a list as b3sum prints it.

use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::Path;

use serde::Deserialize;

use sieve_disk::{Error, Kind, Result};

/// One line of a listing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Line {
    /// The path of a file.
    pub path: String,
    /// Its size, where the listing has one.
    pub size_bytes: Option<u64>,
    /// The BLAKE3 of all of it, where the listing has one.
    pub blake3: Option<[u8; 32]>,
}

#[derive(Deserialize)]
struct JsonLine {
    path: String,
    size_bytes: Option<u64>,
    blake3: Option<String>,
}

/// What is wrong with a line, and how a listing looks.
pub(crate) fn wrong(place: &Path, line: u64, why: &dyn std::fmt::Display) -> Error {
    Error::new(Kind::Usage, "listing.line", format!("{}, line {line}: {why}", place.display())).remedy(
        "a listing has path,size_bytes on each line (CSV), or {\"path\": …, \"size_bytes\": …} (.jsonl)",
    )
}

/// Calls `visit` with each line of a listing and its number.
///
/// # Errors
/// When it cannot be read; the message says which line.
pub(crate) fn read(path: &Path, mut visit: impl FnMut(u64, Line) -> Result<()>) -> Result<()> {
    let file = File::open(path).map_err(|e| {
        let mut error = Error::io("listing.read", path, e);
        error.kind = Kind::Usage;
        error
    })?;
    let mut reader = BufReader::with_capacity(1 << 18, file);
    if path.extension().is_some_and(|e| e == "jsonl") {
        return read_lines(path, reader, &mut visit, json_line);
    }
    let start = reader.fill_buf().map_err(|e| Error::io("listing.read", path, e))?;
    let first = start.split(|b| *b == b'\n').next().unwrap_or_default();
    if std::str::from_utf8(first).is_ok_and(|line| checksum_line(line).is_ok()) {
        return read_lines(path, reader, &mut visit, checksum_line);
    }
    read_csv(path, reader, &mut visit)
}

fn read_lines(
    path: &Path,
    reader: impl BufRead,
    visit: &mut impl FnMut(u64, Line) -> Result<()>,
    read: impl Fn(&str) -> std::result::Result<Line, String>,
) -> Result<()> {
    for (number, line) in (1..).zip(reader.lines()) {
        let line = line.map_err(|e| wrong(path, number, &e))?;
        if !line.trim().is_empty() {
            visit(number, read(&line).map_err(|e| wrong(path, number, &e))?)?;
        }
    }
    Ok(())
}

fn json_line(text: &str) -> std::result::Result<Line, String> {
    let line: JsonLine = serde_json::from_str(text).map_err(|e| e.to_string())?;
    let blake3 = line.blake3.as_deref().map(checksum).transpose()?;
    Ok(Line { path: line.path, size_bytes: line.size_bytes, blake3 })
}

/// Reads "HEX  PATH"; a line that begins with a backslash has `\\` and `\n` in its path escaped.
fn checksum_line(text: &str) -> std::result::Result<Line, String> {
    let (is_escaped, rest) = text.strip_prefix('\\').map_or((false, text), |rest| (true, rest));
    let (sum, path) = rest.split_once("  ").ok_or("this is no checksum and path")?;
    let path = if is_escaped { unescape(path) } else { path.to_string() };
    Ok(Line { path, size_bytes: None, blake3: Some(checksum(sum)?) })
}

fn unescape(path: &str) -> String {
    let mut plain = String::with_capacity(path.len());
    let mut characters = path.chars();
    while let Some(character) = characters.next() {
        match (character, if character == '\\' { characters.next() } else { None }) {
            (_, Some('n')) => plain.push('\n'),
            (_, Some(other)) => plain.push(other),
            (character, None) => plain.push(character),
        }
    }
    plain
}

fn checksum(text: &str) -> std::result::Result<[u8; 32], String> {
    let mut bytes = [0; 32];
    hex::decode_to_slice(text, &mut bytes)
        .map_err(|_| format!("`{text}` is no BLAKE3 checksum of 64 hexadecimal digits"))?;
    Ok(bytes)
}

fn read_csv(
    path: &Path,
    reader: impl BufRead,
    visit: &mut impl FnMut(u64, Line) -> Result<()>,
) -> Result<()> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(reader);
    let mut record = csv::StringRecord::new();
    let mut is_first = true;
    // The first line may name the columns; a checksum is only where it does.
    let mut sum_column = None;
    while reader
        .read_record(&mut record)
        .map_err(|e| wrong(path, e.position().map_or(0, csv::Position::line), &e))?
    {
        let line = record.position().map_or(0, csv::Position::line);
        let is_heading = std::mem::take(&mut is_first) && record.get(0) == Some("path");
        if is_heading {
            sum_column = record.iter().position(|name| name.trim() == "blake3");
            continue;
        }
        let (Some(file), Some(size)) = (record.get(0), record.get(1)) else {
            return Err(wrong(path, line, &"there is no size"));
        };
        let size_bytes =
            size.trim().parse().map_err(|_| wrong(path, line, &format!("`{size}` is no number of bytes")))?;
        let sum =
            sum_column.and_then(|column| record.get(column)).map(str::trim).filter(|sum| !sum.is_empty());
        let blake3 = sum.map(checksum).transpose().map_err(|e| wrong(path, line, &e))?;
        visit(line, Line { path: file.into(), size_bytes: Some(size_bytes), blake3 })?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_checksum_list_is_read_with_its_escapes() {
        let sum = "0f".repeat(32);
        let plain = checksum_line(&format!("{sum}  a/b  c.wav")).unwrap();
        assert_eq!((plain.path.as_str(), plain.blake3), ("a/b  c.wav", Some([15; 32])));
        assert_eq!(checksum_line(&format!("\\{sum}  a\\nb\\\\c")).unwrap().path, "a\nb\\c");
        for wrong in ["", "abc  x", &format!("{sum} x"), &format!("{}g  x", &sum[1..])] {
            assert!(checksum_line(wrong).is_err(), "{wrong}");
        }
    }
}
