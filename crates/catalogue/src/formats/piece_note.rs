//! What a piece says about itself, behind its content: with it the file can be put together from the disks alone.

use serde::{Deserialize, Serialize};
use sieve_core::path::RelPath;
use sieve_core::path::shown_with_bytes;
use sieve_core::units::ByteLength;
use uuid::Uuid;

use sieve_disk::copying;
use sieve_disk::{Disk, ReadFile, WriteFile, full_path};
use sieve_disk::{Error, Kind, Result};

/// The version of the format that this program writes, and the newest it reads.
const FORMAT: u32 = 1;
/// The last bytes of a piece.
const MARK: &[u8; 8] = b"ZSvPiece";
/// The length of the text, and the mark.
const TAIL: u64 = 12;
/// No description is longer.
const LONGEST: u32 = 24 << 10;

/// A piece, as it says itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Text {
    format: u32,
    file: Uuid,
    path: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    path_hex: Option<String>,
    number: u32,
    pieces: u32,
    offset: u64,
    length: u64,
    size: u64,
    blake3: String,
}

/// A part of a file that lies on several disks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PieceNote {
    /// The file.
    pub file: Uuid,
    /// Its path in the volume.
    pub path: RelPath,
    /// Which piece of it this is, from 0 on.
    pub number: u32,
    /// How many there are.
    pub count: u32,
    /// Where in the file it begins.
    pub offset: ByteLength,
    /// How much of the file it is.
    pub length: ByteLength,
    /// The length of the whole file.
    pub size: ByteLength,
    /// The BLAKE3 of the whole file.
    pub whole: [u8; 32],
}

impl PieceNote {
    /// Writes the description behind the content.
    ///
    /// # Errors
    /// What the disk says; when the path is too long for a description.
    pub fn write(&self, output: &mut dyn WriteFile) -> Result<()> {
        output.write_at(&self.bytes()?, self.length.exact())
    }

    /// Cuts the piece out of its whole file: the content, then the description.
    ///
    /// # Errors
    /// Those of `take`, and what the disk says.
    pub fn cut(&self, whole: &mut dyn ReadFile, mut take: impl FnMut(&[u8]) -> Result<()>) -> Result<()> {
        copying::for_each_part(whole, self.offset.exact(), Some(self.length), &mut take)?;
        take(&self.bytes()?)
    }

    /// The description, as it lies behind the content.
    fn bytes(&self) -> Result<Vec<u8>> {
        let (path, path_hex) = shown_with_bytes(&self.path);
        let text = Text {
            format: FORMAT,
            file: self.file,
            path,
            path_hex,
            number: self.number,
            pieces: self.count,
            offset: self.offset.exact(),
            length: self.length.exact(),
            size: self.size.exact(),
            blake3: hex::encode(self.whole),
        };
        let internal = |why: String| Error::new(Kind::Internal, "piece.write", why);
        let text = toml::to_string(&text).map_err(|e| internal(e.to_string()))?;
        let length = u32::try_from(text.len()).ok().filter(|length| *length <= LONGEST);
        let length =
            length.ok_or_else(|| internal(format!("{}: this path is too long for a piece", self.path)))?;
        let mut bytes = text.into_bytes();
        bytes.extend_from_slice(&length.to_le_bytes());
        bytes.extend_from_slice(MARK);
        Ok(bytes)
    }

    /// Reads the description of a piece; nothing if the file has none.
    ///
    /// # Errors
    /// When there is one that cannot be understood, contradicts itself or its file, or is of a newer format.
    pub fn read(disk: &dyn Disk, path: &RelPath) -> Result<Option<Self>> {
        let mut file = disk.open(path)?;
        let size = file.stat()?.size.exact();
        let Some(text) = read_text(&mut *file, size)? else { return Ok(None) };
        let wrong = |why: &str| {
            let message = format!(
                "{}: what this piece says about itself is wrong: {why}",
                full_path(disk, path).display()
            );
            Error::new(Kind::Corrupt, "piece.damaged", message)
        };
        let note = understand(&text).map_err(|why| wrong(&why))?;
        let expected = note.length.exact().saturating_add(text.len() as u64).saturating_add(TAIL);
        if expected != size {
            return Err(wrong("its length is another"));
        }
        Ok(Some(note))
    }
}

fn read_text(file: &mut dyn ReadFile, size: u64) -> Result<Option<Vec<u8>>> {
    let Some(tail_at) = size.checked_sub(TAIL) else { return Ok(None) };
    let mut tail = [0; TAIL as usize];
    if file.read_at(&mut tail, tail_at)? != tail.len() || &tail[4..] != MARK {
        return Ok(None);
    }
    let length = u32::from_le_bytes([tail[0], tail[1], tail[2], tail[3]]);
    let Some(text_at) = tail_at.checked_sub(u64::from(length)).filter(|_| length <= LONGEST) else {
        return Ok(None);
    };
    let mut text = vec![0; length as usize];
    Ok((file.read_at(&mut text, text_at)? == text.len()).then_some(text))
}

/// Reads a description; the reason in words where it is none.
///
/// # Errors
/// When it is no description of ours, or contradicts itself.
pub(crate) fn understand(text: &[u8]) -> std::result::Result<PieceNote, String> {
    let text = std::str::from_utf8(text).map_err(|_| "it is not text")?;
    let text: Text = toml::from_str(text).map_err(|e| e.message().to_string())?;
    if text.format > FORMAT {
        return Err(format!("it has format {}, this program knows formats up to {FORMAT}", text.format));
    }
    let bytes = match &text.path_hex {
        Some(digits) => hex::decode(digits).map_err(|_| "its path is not hexadecimal")?,
        None => text.path.clone().into_bytes(),
    };
    let path = RelPath::new(bytes).map_err(|why| format!("its path leads astray: {why}"))?;
    if path.is_root() || path.is_ours() {
        return Err("its path is none of a file".into());
    }
    let end = text.offset.checked_add(text.length).filter(|end| *end <= text.size);
    if text.number >= text.pieces || end.is_none() || text.length == 0 {
        return Err("its place in the file is impossible".into());
    }
    let mut whole = [0; 32];
    hex::decode_to_slice(&text.blake3, &mut whole).map_err(|_| "its checksum is none")?;
    Ok(PieceNote {
        file: text.file,
        path,
        number: text.number,
        count: text.pieces,
        offset: ByteLength::new(text.offset),
        length: ByteLength::new(text.length),
        size: ByteLength::new(text.size),
        whole,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use sieve_disk::RealDisk;

    fn note() -> PieceNote {
        PieceNote {
            file: Uuid::from_u128(7),
            path: RelPath::new(b"dawn/\xffhedge.wav".to_vec()).unwrap(),
            number: 1,
            count: 2,
            offset: ByteLength::new(4096),
            length: ByteLength::new(3),
            size: ByteLength::new(4099),
            whole: [9; 32],
        }
    }

    #[test]
    fn a_piece_says_what_it_is() {
        let folder = tempfile::tempdir().unwrap();
        let disk = RealDisk::open(folder.path()).unwrap();
        let path = RelPath::fixed("piece");
        let mut output = disk.create(&path).unwrap();
        output.write_at(b"abc", 0).unwrap();
        note().write(&mut *output).unwrap();
        assert_eq!(PieceNote::read(&disk, &path).unwrap(), Some(note()));
        output.set_length(20).unwrap();
        assert_eq!(PieceNote::read(&disk, &path).unwrap(), None, "it was cut short");
        let plain = RelPath::fixed("plain");
        disk.create(&plain).unwrap().write_at(b"no piece", 0).unwrap();
        assert_eq!(PieceNote::read(&disk, &plain).unwrap(), None);
    }

    const GOOD: &str = "format = 1\nfile = \"00000000-0000-0000-0000-000000000007\"\npath = \"a\"\nnumber = 0\npieces = 2\noffset = 0\nlength = 4\nsize = 8\nblake3 = \"0000000000000000000000000000000000000000000000000000000000000000\"\n";

    #[rstest]
    #[case("", "", true)]
    #[case("format = 1", "format = 2", false)]
    #[case("path = \"a\"", "path = \"../a\"", false)]
    #[case("path = \"a\"", "path = \".zinc-sieve/label.toml\"", false)]
    #[case("path = \"a\"", "path = \"\"", false)]
    #[case("number = 0", "number = 2", false)]
    #[case("length = 4", "length = 9", false)]
    #[case("length = 4", "length = 0", false)]
    #[case("offset = 0", "offset = 18446744073709551615", false)]
    #[case("size = 8", "size = 8\nmore = 1", false)]
    #[case("blake3 = \"00", "blake3 = \"0", false)]
    fn what_a_piece_says_is_not_believed_blindly(
        #[case] from: &str,
        #[case] to: &str,
        #[case] is_fine: bool,
    ) {
        assert!(GOOD.contains(from));
        assert_eq!(understand(GOOD.replacen(from, to, 1).as_bytes()).is_ok(), is_fine);
    }
}
