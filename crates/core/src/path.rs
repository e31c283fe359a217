//! Paths inside a disk: bytes, relative, and never leading out of it.

use std::fmt;

/// The folder at the root of every disk that holds what is ours.
pub const OUR_FOLDER: &[u8] = b".zinc-sieve";

/// A path relative to the root of a disk, as bytes; the empty one is the root itself.
///
/// # Invariant
/// No component is empty, `.` or `..`, holds a zero byte or is longer than 255 bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RelPath(Vec<u8>);

/// Why bytes are not a path inside a disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    /// It begins with a slash.
    #[error("the path is absolute")]
    Absolute,
    /// It has a component that is empty, `.` or `..`.
    #[error("the path has an empty, `.` or `..` component")]
    Escaping,
    /// It holds a zero byte.
    #[error("the path holds a zero byte")]
    ZeroByte,
    /// A component has more than 255 bytes.
    #[error("a component of the path is longer than 255 bytes")]
    TooLong,
}

fn checked_component(name: &[u8]) -> Result<(), PathError> {
    match name {
        b"" | b"." | b".." => Err(PathError::Escaping),
        _ if name.contains(&0) => Err(PathError::ZeroByte),
        _ if name.len() > 255 => Err(PathError::TooLong),
        _ => Ok(()),
    }
}

impl RelPath {
    /// The root of the disk.
    pub const ROOT: Self = Self(Vec::new());

    /// Reads a path with `/` between its components.
    ///
    /// # Errors
    /// When it could lead out of the disk or is no name that a filesystem would take.
    pub fn new(bytes: impl Into<Vec<u8>>) -> Result<Self, PathError> {
        let bytes = bytes.into();
        if bytes.is_empty() {
            return Ok(Self::ROOT);
        }
        if bytes[0] == b'/' {
            return Err(PathError::Absolute);
        }
        bytes.split(|b| *b == b'/').try_for_each(checked_component)?;
        Ok(Self(bytes))
    }

    /// A path of ours that is written in the program itself.
    pub fn fixed(text: &'static str) -> Self {
        Self::new(text).expect("paths in the program are valid")
    }

    /// Reads what [`Self::tree_key`] wrote.
    ///
    /// # Errors
    /// As [`Self::new`].
    pub fn from_tree_key(key: &[u8]) -> Result<Self, PathError> {
        Self::new(key.iter().map(|b| if *b == 0 { b'/' } else { *b }).collect::<Vec<_>>())
    }

    /// The path with zero bytes between its components: in the order of these keys each folder comes
    /// directly before what it holds.
    pub fn tree_key(&self) -> Vec<u8> {
        self.0.iter().map(|b| if *b == b'/' { 0 } else { *b }).collect()
    }

    /// The path of the entry `name` in this folder.
    ///
    /// # Errors
    /// When `name` is not one valid component.
    pub fn join(&self, name: &[u8]) -> Result<Self, PathError> {
        checked_component(name)?;
        if name.contains(&b'/') {
            return Err(PathError::Escaping);
        }
        let mut bytes = self.0.clone();
        if !bytes.is_empty() {
            bytes.push(b'/');
        }
        bytes.extend_from_slice(name);
        Ok(Self(bytes))
    }

    /// This path below another folder.
    #[must_use]
    pub fn below(&self, folder: &Self) -> Self {
        match (folder.is_root(), self.is_root()) {
            (true, _) => self.clone(),
            (_, true) => folder.clone(),
            _ => Self([&folder.0[..], b"/", &self.0[..]].concat()),
        }
    }

    /// The folder that holds this entry; the root has none.
    pub fn parent(&self) -> Option<Self> {
        if self.is_root() {
            return None;
        }
        let cut = self.0.iter().rposition(|b| *b == b'/').unwrap_or(0);
        Some(Self(self.0[..cut].to_vec()))
    }

    /// The path with something put before its extension: "nest/box7.mkv" and " (restored)" give
    /// "nest/box7 (restored).mkv".
    ///
    /// # Errors
    /// When the name becomes too long.
    pub fn beside(&self, what: &str) -> Result<Self, PathError> {
        let name = self.file_name();
        let dot = name.iter().rposition(|byte| *byte == b'.').filter(|dot| *dot > 0).unwrap_or(name.len());
        let name = [&name[..dot], what.as_bytes(), &name[dot..]].concat();
        self.parent().unwrap_or_default().join(&name)
    }

    /// The last component; nothing for the root.
    pub fn file_name(&self) -> &[u8] {
        self.0.rsplit(|b| *b == b'/').next().unwrap_or_default()
    }

    /// The components from the root on.
    pub fn components(&self) -> impl Iterator<Item = &[u8]> {
        self.0.split(|b| *b == b'/').filter(|c| !c.is_empty())
    }

    /// The first component, shown as the top folder in summaries, when there is something below it.
    pub fn top_folder(&self) -> Option<&[u8]> {
        let cut = self.0.iter().position(|b| *b == b'/')?;
        Some(&self.0[..cut])
    }

    /// Whether this is the root.
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether this is `folder` or something in it.
    pub fn is_within(&self, folder: &Self) -> bool {
        folder.is_root()
            || self.0.strip_prefix(&folder.0[..]).is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
    }

    /// The bytes, with `/` between components.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }
}

/// Whether a character does more to a terminal, or to the order in which text is read, than to be seen: control characters,
/// line and paragraph separators, and those that turn the direction of writing.
pub fn disturbs(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// The bytes of a path as they are shown: what is not UTF-8, or would disturb, is escaped.
pub fn shown(bytes: &[u8]) -> String {
    let mut shown = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            if disturbs(c) { shown.extend(c.escape_default()) } else { shown.push(c) }
        }
        chunk.invalid().iter().for_each(|b| shown.push_str(&format!("\\x{b:02x}")));
    }
    shown
}

/// A path as it is shown and, where that is not what it is, its bytes in hexadecimal.
pub fn shown_with_bytes(path: &RelPath) -> (String, Option<String>) {
    let shown = path.to_string();
    let is_plain = shown.as_bytes() == path.as_bytes();
    let bytes = (!is_plain).then(|| path.as_bytes().iter().map(|byte| format!("{byte:02x}")).collect());
    (shown, bytes)
}

impl fmt::Display for RelPath {
    /// As [`shown`].
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&shown(&self.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("nest/box7.mkv", "nest/box7 (restored).mkv")]
    #[case("notes", "notes (restored)")]
    #[case("a/.hidden", "a/.hidden (restored)")]
    #[case("a.b/c", "a.b/c (restored)")]
    fn the_name_beside(#[case] path: &str, #[case] expected: &str) {
        let path = RelPath::new(path).unwrap();
        assert_eq!(path.beside(" (restored)").unwrap(), RelPath::new(expected).unwrap());
    }

    #[rstest]
    #[case("/etc/passwd", PathError::Absolute)]
    #[case("a/../../b", PathError::Escaping)]
    #[case("a//b", PathError::Escaping)]
    #[case("./a", PathError::Escaping)]
    #[case("a/", PathError::Escaping)]
    #[case("a\0b", PathError::ZeroByte)]
    fn what_leads_out_of_a_disk_is_refused(#[case] text: &str, #[case] error: PathError) {
        assert_eq!(RelPath::new(text), Err(error));
    }

    #[test]
    fn tree_keys_put_a_folder_directly_before_its_contents() {
        let mut paths: Vec<RelPath> =
            ["a.b", "a/z", "a", "a/b/c", "a-b"].map(|p| RelPath::new(p).unwrap()).into();
        paths.sort_by_key(RelPath::tree_key);
        assert_eq!(
            paths.iter().map(ToString::to_string).collect::<Vec<_>>(),
            ["a", "a/b/c", "a/z", "a-b", "a.b"]
        );
        assert!(paths.iter().all(|p| RelPath::from_tree_key(&p.tree_key()).as_ref() == Ok(p)));
    }

    #[test]
    fn names_that_are_not_text_are_shown_escaped() {
        assert_eq!(RelPath::new(&b"a/\xff\x1b"[..]).unwrap().to_string(), "a/\\xff\\u{1b}");
    }

    #[test]
    fn within_means_whole_components() {
        let folder = RelPath::new("nest").unwrap();
        assert!(RelPath::new("nest/a").unwrap().is_within(&folder));
        assert!(!RelPath::new("nest-cams/a").unwrap().is_within(&folder));
    }
}
