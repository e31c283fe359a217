//! What was told of a pool, kept beside its catalogue: `.zinc-sieve/notices.json`.

use sieve_core::layout::OurPlace;
use sieve_core::notice::Book;
use sieve_disk::durable;
use sieve_disk::{Disk, Error, Kind, LockGuard, Result, read_small};

/// The book while it is changed: whoever else wants to waits for his turn.
pub struct OpenBook<'a> {
    /// What was told.
    pub book: Book,
    home: &'a dyn Disk,
    _lock: Box<dyn LockGuard>,
}

/// Reads what was told; nothing where nothing was.
///
/// # Errors
/// When the file is damaged or newer.
pub fn read(home: &dyn Disk) -> Result<Book> {
    let path = OurPlace::Notices.path();
    if home.stat(&path)?.is_none() {
        return Ok(Book::default());
    }
    let place = sieve_disk::full_path(home, &path);
    let corrupt = |why: String| {
        Error::new(Kind::Corrupt, "notices.damaged", format!("{}: {why}", place.display()))
            .remedy("remove this file: what holds now is told once more then")
    };
    let book: Book =
        serde_json::from_slice(&read_small(home, &path, 16 << 20)?).map_err(|e| corrupt(e.to_string()))?;
    if book.format > Book::FORMAT {
        return Err(corrupt("this file is of a newer format".into()));
    }
    Ok(book)
}

/// Opens the book to change it; nothing where somebody else is at it.
///
/// # Errors
/// As [`read`]; what the disk says.
pub fn open(home: &dyn Disk) -> Result<Option<OpenBook<'_>>> {
    durable::make_own_folder(home, &OurPlace::Folder.path())?;
    let Some(lock) = home.lock(&OurPlace::NoticesLock.path())? else { return Ok(None) };
    Ok(Some(OpenBook { book: read(home)?, home, _lock: lock }))
}

impl OpenBook<'_> {
    /// Writes it down.
    ///
    /// # Crash safety
    /// The old one stays whole until the new one is durable.
    ///
    /// # Errors
    /// What the disk says.
    pub fn write(&self) -> Result<()> {
        let text = serde_json::to_vec_pretty(&self.book)
            .map_err(|e| Error::new(Kind::Internal, "notices.write", format!("the notices: {e}")))?;
        durable::write_file(self.home, &OurPlace::Notices.path(), &text)
    }
}
