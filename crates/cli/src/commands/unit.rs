//! Words of units of the system's service manager.

use std::path::Path;

/// A word of a unit: percent signs and quotes have a meaning there.
pub(crate) fn quoted(path: &Path) -> String {
    let text = path.display().to_string().replace('%', "%%");
    let is_plain = text.bytes().all(|b| b.is_ascii_alphanumeric() || b"/._-+%@:".contains(&b));
    if is_plain { text } else { format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"")) }
}

/// A path as the name of a unit: slashes are dashes, and whatever else has a meaning is its number.
pub(crate) fn escaped(path: &str) -> String {
    let trimmed = path.trim_matches('/');
    let mut name = String::new();
    for (position, byte) in trimmed.bytes().enumerate() {
        match byte {
            b'/' => name.push('-'),
            b'.' if position == 0 => name += "\\x2e",
            b if b.is_ascii_alphanumeric() || b"_.:".contains(&b) => name.push(char::from(b)),
            b => name += &format!("\\x{b:02x}"),
        }
    }
    name
}
