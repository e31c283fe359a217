//! What changed between two checkpoints: the pages of the catalogue that differ.
//!
//! All numbers are little endian. A header of 128 bytes: magic, format (u32), page size (u32), pages of the whole catalogue
//! afterwards (u32), pages in this file (u32), the checkpoint before and the one after (number u64 and id u64 each), the state
//! afterwards (32 bytes); the rest is zero. Then each page: its number (u32) and its bytes. At the end the BLAKE3 of all that.

use blake3::Hasher;
use sieve_core::units::CheckpointId;
use sieve_disk::{Error, Kind, ReadFile, Result, WriteFile};

use super::chain::Stamp;

const MAGIC: &[u8; 16] = b"catalogue pages\n";
const FORMAT: u32 = 1;
pub(super) const HEADER: usize = 128;
const HASH: usize = 32;

/// The first bytes of the BLAKE3 of a page.
pub(super) type PageHash = [u8; 16];

pub(super) fn hash_of(page: &[u8]) -> PageHash {
    blake3::hash(page).as_bytes().first_chunk().copied().unwrap_or_default()
}

/// All of a catalogue in one hash: that of the hashes of its pages.
#[derive(Default)]
pub(super) struct State(Hasher);

impl State {
    pub(super) fn add(&mut self, page: &PageHash) {
        self.0.update(page);
    }

    pub(super) fn finish(&self) -> [u8; HASH] {
        *self.0.finalize().as_bytes()
    }
}

/// What the header says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Header {
    pub(super) page_size: u32,
    /// Pages of the catalogue afterwards.
    pub(super) pages: u32,
    /// Pages that are in the file.
    pub(super) changed: u32,
    pub(super) before: Stamp,
    pub(super) after: Stamp,
    pub(super) state: [u8; HASH],
}

impl Header {
    pub(super) fn encode(&self) -> [u8; HEADER] {
        let mut bytes = Vec::with_capacity(HEADER);
        bytes.extend(MAGIC);
        for number in [FORMAT, self.page_size, self.pages, self.changed] {
            bytes.extend(number.to_le_bytes());
        }
        for stamp in [self.before, self.after] {
            bytes.extend(stamp.number.to_le_bytes());
            bytes.extend(stamp.id.get().to_le_bytes());
        }
        bytes.extend(self.state);
        bytes.resize(HEADER, 0);
        bytes.try_into().expect("it was resized")
    }

    fn decode(bytes: &[u8; HEADER]) -> Option<Self> {
        let four = |at: usize| bytes[at..].first_chunk().map(|b| u32::from_le_bytes(*b));
        let eight = |at: usize| bytes[at..].first_chunk().map(|b| u64::from_le_bytes(*b));
        let stamp = |at: usize| Some(Stamp { number: eight(at)?, id: CheckpointId::new(eight(at + 8)?) });
        let is_ours = bytes.starts_with(MAGIC) && four(16)? == FORMAT;
        is_ours.then_some(Self {
            page_size: four(20)?,
            pages: four(24)?,
            changed: four(28)?,
            before: stamp(32)?,
            after: stamp(48)?,
            state: *bytes[64..].first_chunk()?,
        })
    }

    /// How long a file with this header is.
    pub(super) fn file_length(&self) -> u64 {
        (HEADER + HASH) as u64 + u64::from(self.changed) * (4 + u64::from(self.page_size))
    }
}

/// Makes the file as it is written, piece by piece.
pub(super) struct Writer<'a> {
    hasher: Hasher,
    emit: &'a mut dyn FnMut(&[u8]) -> Result<()>,
}

impl<'a> Writer<'a> {
    pub(super) fn begin(header: &Header, emit: &'a mut dyn FnMut(&[u8]) -> Result<()>) -> Result<Self> {
        let mut writer = Self { hasher: Hasher::new(), emit };
        writer.write(&header.encode())?;
        Ok(writer)
    }

    fn write(&mut self, bytes: &[u8]) -> Result<()> {
        self.hasher.update(bytes);
        (self.emit)(bytes)
    }

    pub(super) fn page(&mut self, number: u32, bytes: &[u8]) -> Result<()> {
        self.write(&number.to_le_bytes())?;
        self.write(bytes)
    }

    pub(super) fn finish(self) -> Result<()> {
        (self.emit)(self.hasher.finalize().as_bytes())
    }
}

/// Applies the changes in `file` to a copy that is at the checkpoint before, and has so many pages of that size. What the
/// copy is after an error is nobody's.
pub(super) fn apply(
    file: &mut dyn ReadFile,
    copy: &mut dyn WriteFile,
    expected: (Stamp, Stamp),
    pages: (u32, u32),
) -> Result<Header> {
    let mut input = Input { file, offset: 0, hasher: Hasher::new() };
    let mut bytes = [0; HEADER];
    input.read(&mut bytes)?;
    let header = Header::decode(&bytes).ok_or_else(|| damaged("it is none"))?;
    let (page_size, before) = pages;
    if (header.before, header.after) != expected || header.page_size != page_size {
        return Err(damaged("it is not what its name says"));
    }
    let grown = header.pages.saturating_sub(before);
    if input.file.stat()?.size.exact() != header.file_length() || grown > header.changed || header.pages == 0
    {
        return Err(damaged("its length is wrong"));
    }
    let mut page = vec![0; page_size as usize];
    for _ in 0..header.changed {
        let mut number = [0; 4];
        input.read(&mut number)?;
        input.read(&mut page)?;
        let number = u32::from_le_bytes(number);
        if !(1..=header.pages).contains(&number) {
            return Err(damaged("it has a page that the catalogue does not have"));
        }
        copy.write_at(&page, u64::from(number - 1) * u64::from(page_size))?;
    }
    let found = *input.hasher.finalize().as_bytes();
    let mut hash = [0; HASH];
    input.read(&mut hash)?;
    if hash != found {
        return Err(damaged("its checksum does not hold"));
    }
    copy.set_length(u64::from(header.pages) * u64::from(page_size))?;
    Ok(header)
}

struct Input<'a> {
    file: &'a mut dyn ReadFile,
    offset: u64,
    hasher: Hasher,
}

impl Input<'_> {
    fn read(&mut self, bytes: &mut [u8]) -> Result<()> {
        let mut filled = 0;
        while filled < bytes.len() {
            match self.file.read_at(&mut bytes[filled..], self.offset)? {
                0 => return Err(damaged("it is too short")),
                count => {
                    filled += count;
                    self.offset += count as u64;
                }
            }
        }
        self.hasher.update(bytes);
        Ok(())
    }
}

pub(super) fn damaged(why: &str) -> Error {
    Error::new(Kind::Corrupt, "replica.damaged", format!("this part of a replica is damaged: {why}"))
}
