//! A file that lies in pieces, read as one.

use sieve_core::lane::Rows;
use sieve_core::units::GRANULE;

use super::PiecedFile;
use sieve_disk::{Disk, ReadFile, Result, Stat};

/// All pieces of a file, open.
pub struct Joined {
    /// Where each begins, and how long it is.
    pieces: Vec<(u64, u64, Box<dyn ReadFile>)>,
    stat: Stat,
}

impl Joined {
    /// Opens all pieces of a file, each on its disk, in their order.
    ///
    /// # Errors
    /// When one of them is not there, or what a disk says.
    pub fn open<'d>(file: &PiecedFile, disks: impl Iterator<Item = &'d dyn Disk>) -> Result<Self> {
        let mut pieces = Vec::new();
        for (piece, disk) in file.pieces.iter().zip(disks) {
            let opened = disk.open(&piece.path)?;
            pieces.push((piece.note.offset.exact(), piece.note.length.exact(), opened));
        }
        match pieces.first() {
            Some((_, _, first)) => Ok(Self { stat: Self::stat_of(first.stat()?, file), pieces }),
            None => Err(super::write::no_whole(file)),
        }
    }

    /// How the file looks: as its first piece, but as long as all of them.
    pub fn stat_of(first: Stat, file: &PiecedFile) -> Stat {
        Stat { size: file.size, allocated: file.size, links: 1, ..first }
    }
}

impl ReadFile for Joined {
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> Result<usize> {
        let mut filled = 0;
        while filled < buffer.len() {
            let at = offset + filled as u64;
            let has = |(begin, length, _): &&mut (u64, u64, _)| (*begin..*begin + *length).contains(&at);
            let Some((begin, length, piece)) = self.pieces.iter_mut().find(has) else { break };
            let within = at - *begin;
            let left = usize::try_from(*length - within).unwrap_or(usize::MAX).min(buffer.len() - filled);
            match piece.read_at(&mut buffer[filled..filled + left], within)? {
                0 => break, // shorter than it says: who reads it misses the rest
                read => filled += read,
            }
        }
        Ok(filled)
    }

    fn stat(&self) -> Result<Stat> {
        Ok(self.stat)
    }

    /// All of it: a hole is read as zeros.
    fn data_ranges(&self) -> Result<Vec<Rows>> {
        Ok(vec![Rows::new(0, self.stat.size.exact().div_ceil(GRANULE))])
    }

    fn let_go(&self, _offset: u64, _length: u64) {
        self.pieces.iter().for_each(|(_, _, piece)| piece.let_go(0, 0));
    }
}
