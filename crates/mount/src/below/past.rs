//! What programs take away through the mount, and parity still needs: it is held, as everything that is removed through us.
//!
//! A program that removes a file waits for the rename only; the record of it follows a moment later, for many at once, by
//! the same way as every other command writes ([`sieve_pool::held::record_beside`]).

use std::io::{Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::time::Duration;

use rustix::fs::{self as sys, AtFlags, Mode, OFlags, RenameFlags};
use rustix::io::Errno;
use sieve_catalogue::objects::ObjectRow;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_disk::machine::Machine;
use sieve_disk::{Disk, Lease, Stat, durable};
use sieve_pool::held::{Beside, DoneBeside, Watch, line_for, lines_path, record_beside};
use sieve_pool::journal::{self, Did, Entry};
use sieve_pool::pool::Pool;

use crate::below::branch::Branch;
use crate::tree::look::times_of;
use crate::{code_of, guarded, spec_of};

/// So long what was taken away may wait for its record, so that there are many of them.
const RECORD_EVERY: Duration = Duration::from_millis(300);
/// So many files are watched at once until they are recorded: each is an open file.
const WATCHED_AT_MOST: usize = 4096;
/// So long somebody waits for the record.
const PATIENCE: Duration = Duration::from_secs(2);
/// When the pool is at another work, the record is tried again after this.
const TRY_AGAIN: Duration = Duration::from_secs(1);

/// The past of a mounted volume.
pub(crate) struct Past {
    machine: Arc<dyn Machine>,
    home: Arc<dyn Disk>,
    file: PathBuf,
    waiting: Mutex<Waiting>,
    wake: Condvar,
    next: AtomicU64,
    run: u64,
}

#[derive(Default)]
struct Waiting {
    taken: Vec<DoneBeside>,
    /// What is being recorded.
    at_work: Option<Arc<Vec<DoneBeside>>>,
    /// Somebody waits for the record.
    is_urgent: bool,
    /// Why the last record failed.
    trouble: Option<String>,
    ends: bool,
}

/// What became of a content that is about to be written over.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kept {
    /// Nothing of it is needed, or it is held.
    Fine,
    /// It goes: its filesystem cannot share blocks, and it is too large to be copied while a program waits.
    Lost,
}

impl Past {
    pub(crate) fn of(pool: &Pool) -> Self {
        Self {
            machine: Arc::clone(&pool.machine),
            home: Arc::clone(&pool.home),
            file: pool.file.clone(),
            waiting: Mutex::default(),
            wake: Condvar::new(),
            next: AtomicU64::new(0),
            run: pool.machine.random(),
        }
    }

    /// A random number.
    pub(crate) fn random(&self) -> u64 {
        self.machine.random()
    }

    /// The content of a file that parity has is being written over: who shares rows with it is weaker until the next sync.
    pub(crate) fn tell_written_in_place(&self, branch: &Branch, path: &RelPath) {
        let mut entry = Entry::new(Did::WrittenInPlace).on([&branch.name]);
        entry.paths = vec![path.to_string()];
        // A journal that cannot be written stops nobody: the next look at the disk tells the same.
        let _ = journal::add(&*self.home, self.machine.now(), entry);
    }

    /// A held name that nobody has.
    fn place(&self) -> RelPath {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        OurPlace::Held.with(&format!("{:016x}{:016x}{number:08x}", self.machine.now(), self.run))
    }

    /// Says what a held name stands for. It need not be durable before the name is: who removes a file is not promised that
    /// it is removed before he syncs it.
    fn note(&self, branch: &Branch, held: &RelPath, original: &RelPath, replaced: bool) -> Result<(), Errno> {
        durable::make_own_folder(&**branch.disk(), &OurPlace::Held.path()).map_err(|e| code_of(&e))?;
        let flags = OFlags::WRONLY | OFlags::APPEND | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let notes = branch
            .at(&lines_path(), |folder, name| sys::openat(folder, name, flags, Mode::RUSR | Mode::WUSR))?;
        let line = format!("\n{}", line_for(held, original, self.machine.now(), replaced));
        std::fs::File::from(notes).write_all(line.as_bytes()).map_err(|e| of_io(&e))
    }

    /// Takes a file's name away: it is held from then on.
    pub(crate) fn hold(&self, branch: &Branch, path: &RelPath, replaced: bool) -> Result<(), Errno> {
        let (held, before, watch) = self.begin(branch, path, replaced)?;
        branch.at(&held, |to, to_name| {
            branch.at(path, |from, name| sys::renameat_with(from, name, to, to_name, RenameFlags::NOREPLACE))
        })?;
        let what = Beside::Held { original: path.clone(), at: held, is_copy: false, replaced };
        self.add(DoneBeside { disk: branch.id, before, what, watch: Mutex::new(watch) });
        Ok(())
    }

    /// Gives a file that is about to be renamed over a held name beside its own, so that its name is never missing, and runs
    /// `rename`.
    pub(crate) fn hold_replaced(
        &self,
        branch: &Branch,
        path: &RelPath,
        rename: impl FnOnce() -> Result<(), Errno>,
    ) -> Result<(), Errno> {
        let (held, before, watch) = self.begin(branch, path, true)?;
        let linked = branch.at(&held, |to, to_name| {
            branch.at(path, |from, name| sys::linkat(from, name, to, to_name, AtFlags::empty()))
        });
        match linked {
            // A filesystem without hard links: the name is missing for a moment.
            Err(Errno::PERM | Errno::NOTSUP | Errno::MLINK) => {
                self.hold(branch, path, true)?;
                return rename();
            }
            other => other?,
        }
        if let Err(errno) = rename() {
            branch.at(&held, |folder, name| sys::unlinkat(folder, name, AtFlags::empty()))?;
            return Err(errno);
        }
        let what = Beside::Held { original: path.clone(), at: held, is_copy: false, replaced: true };
        self.add(DoneBeside { disk: branch.id, before, what, watch: Mutex::new(watch) });
        Ok(())
    }

    fn begin(
        &self,
        branch: &Branch,
        path: &RelPath,
        replaced: bool,
    ) -> Result<(RelPath, Stat, Option<Watch>), Errno> {
        let (before, watch) = self.before(branch, path)?;
        let held = self.place();
        self.note(branch, &held, path, replaced)?;
        Ok((held, before, watch))
    }

    /// What a file is before something is done to it, and watched from now on. What was done to it a moment ago and is not
    /// recorded yet is one with what comes now.
    fn before(&self, branch: &Branch, path: &RelPath) -> Result<(Stat, Option<Watch>), Errno> {
        let now = branch.disk().stat(path).map_err(|e| code_of(&e))?.ok_or(Errno::NOENT)?;
        let mut waiting = guarded(&self.waiting);
        let is_it = |done: &DoneBeside| {
            (done.disk, done.before.inode) == (branch.id, now.inode)
                && matches!(&done.what, Beside::Kept { at } if at == path)
        };
        if let Some(position) = waiting.taken.iter().position(is_it) {
            let earlier = waiting.taken.swap_remove(position);
            let watch = guarded(&earlier.watch).take();
            return Ok((earlier.before, watch));
        }
        drop(waiting);
        Ok((now, self.watch(branch, path)))
    }

    /// Does something to a file that moves its change time and nothing of its content: `to` is its name afterwards.
    pub(crate) fn keeping<T>(
        &self,
        branch: &Branch,
        path: &RelPath,
        to: &RelPath,
        work: impl FnOnce() -> Result<T, Errno>,
    ) -> Result<T, Errno> {
        let (before, watch) = self.before(branch, path)?;
        let done = work()?;
        let what = Beside::Kept { at: to.clone() };
        self.add(DoneBeside { disk: branch.id, before, what, watch: Mutex::new(watch) });
        Ok(done)
    }

    /// Without it, what is held is read before it is trusted.
    fn watch(&self, branch: &Branch, path: &RelPath) -> Option<Watch> {
        if guarded(&self.waiting).taken.len() >= WATCHED_AT_MOST {
            return None;
        }
        let file = branch.disk().open(path).ok()?;
        matches!(file.lease(), Ok(Lease::Granted)).then_some(Watch::Leased(file))
    }

    /// Keeps the content of a file that is about to be written to in place: shared with it where the filesystem can, copied
    /// up to a size where it cannot.
    pub(crate) fn keep_content(
        &self,
        branch: &Branch,
        path: &RelPath,
        object: &ObjectRow,
        copies_up_to: u64,
    ) -> Result<Kept, Errno> {
        let before = branch.disk().stat(path).map_err(|e| code_of(&e))?.ok_or(Errno::NOENT)?;
        // What changed since parity took it is not its past any more; a change time alone says nothing of the content.
        if !object.matches_but_for_ctime(&before) || guarded(&self.waiting).has(branch, path) {
            return Ok(Kept::Fine);
        }
        if before.links > 1 {
            // The catalogue knows one content by all its names: with a copy under one of them it would know two by one.
            return Ok(Kept::Lost);
        }
        let source = branch.open_file(path, OFlags::RDONLY)?;
        let held = self.place();
        self.note(branch, &held, path, true)?;
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let copy =
            branch.at(&held, |folder, name| sys::openat(folder, name, flags, Mode::RUSR | Mode::WUSR))?;
        let is_kept = fill(&source, &copy, before.size.exact(), copies_up_to)
            .and_then(|is_kept| Ok(is_kept && looks_alike(branch, &source, &copy, path, &before)?));
        if !matches!(is_kept, Ok(true)) {
            branch.at(&held, |folder, name| sys::unlinkat(folder, name, AtFlags::empty()))?;
            // A full disk is no reason to refuse the writer: the past goes, and that is told.
            return match is_kept {
                Ok(_) | Err(Errno::NOSPC | Errno::DQUOT) => Ok(Kept::Lost),
                Err(errno) => Err(errno),
            };
        }
        let what = Beside::Held { original: path.clone(), at: held, is_copy: true, replaced: true };
        self.add(DoneBeside { disk: branch.id, before, what, watch: Mutex::default() });
        Ok(Kept::Fine)
    }

    fn add(&self, taken: DoneBeside) {
        guarded(&self.waiting).taken.push(taken);
        self.wake.notify_one();
    }

    /// Somebody is about to write to a file that was renamed a moment ago: it is not watched any more, and what it holds will be
    /// read before it is trusted.
    pub(crate) fn let_write(&self, branch: &Branch, inode: u64) {
        let waiting = guarded(&self.waiting);
        let at_work = waiting.at_work.iter().flat_map(|done| done.iter());
        let is_it = |done: &&DoneBeside| {
            (done.disk, done.before.inode) == (branch.id, inode) && matches!(done.what, Beside::Kept { .. })
        };
        waiting.taken.iter().chain(at_work).filter(is_it).for_each(|done| drop(guarded(&done.watch).take()));
    }

    /// How many wait to be recorded.
    pub(crate) fn waiting(&self) -> usize {
        guarded(&self.waiting).taken.len()
    }

    /// Why it could not be recorded when that was last tried.
    pub(crate) fn trouble(&self) -> Option<String> {
        guarded(&self.waiting).trouble.clone()
    }

    /// Records what was taken, until [`Self::end`].
    pub(crate) fn record(&self) {
        let mut pause = RECORD_EVERY;
        loop {
            let (taken, ends) = self.next(pause);
            let recorded = if taken.is_empty() { Ok(()) } else { self.record_now(&taken) };
            let is_recorded = recorded.is_ok();
            pause = if is_recorded { RECORD_EVERY } else { TRY_AGAIN };
            let mut waiting = guarded(&self.waiting);
            waiting.at_work = None;
            waiting.is_urgent = false;
            waiting.trouble = recorded.err().map(|error| error.message);
            if let Some(mut again) = Arc::into_inner(taken).filter(|_| !is_recorded) {
                // It lies where the next scan finds it; until then it is tried again.
                again.append(&mut waiting.taken);
                again.truncate(16 * WATCHED_AT_MOST);
                waiting.taken = again;
            }
            drop(waiting);
            self.wake.notify_all();
            if ends {
                return;
            }
        }
    }

    /// Waits until there is something to record, and a moment longer for what comes with it, unless somebody waits for it.
    fn next(&self, pause: Duration) -> (Arc<Vec<DoneBeside>>, bool) {
        let idle = |waiting: &mut Waiting| waiting.taken.is_empty() && !waiting.ends;
        let unhurried = |waiting: &mut Waiting| !waiting.is_urgent && !waiting.ends;
        let whole = std::sync::PoisonError::into_inner;
        let waiting = self.wake.wait_while(guarded(&self.waiting), idle).unwrap_or_else(whole);
        let more = self.wake.wait_timeout_while(waiting, pause, unhurried);
        let (mut waiting, _) = more.unwrap_or_else(std::sync::PoisonError::into_inner);
        let taken = Arc::new(std::mem::take(&mut waiting.taken));
        waiting.at_work = Some(Arc::clone(&taken));
        (taken, waiting.ends)
    }

    /// Records at once, and waits for that, but not for long; whether all of it is recorded.
    pub(crate) fn record_soon(&self) -> bool {
        let mut waiting = guarded(&self.waiting);
        waiting.is_urgent = !waiting.taken.is_empty();
        self.wake.notify_all();
        let at_it = |waiting: &mut Waiting| !waiting.taken.is_empty() || waiting.at_work.is_some();
        let waited = self.wake.wait_timeout_while(waiting, PATIENCE, at_it);
        let (waiting, timeout) = waited.unwrap_or_else(std::sync::PoisonError::into_inner);
        drop(waiting);
        !timeout.timed_out()
    }

    fn record_now(&self, taken: &[DoneBeside]) -> sieve_disk::Result<()> {
        let mut pool = sieve_pool::open(Arc::clone(&self.machine), &self.file, spec_of(&self.file)?)?;
        sieve_actions::begin_short(&mut pool)?;
        record_beside(&pool, taken)
    }

    /// What waits is recorded once more, and then no more.
    pub(crate) fn end(&self) {
        guarded(&self.waiting).ends = true;
        self.wake.notify_all();
    }
}

impl Waiting {
    fn has(&self, branch: &Branch, path: &RelPath) -> bool {
        let is_it =
            |done: &DoneBeside| matches!(&done.what, Beside::Held { original, .. } if original == path);
        let at_work = self.at_work.iter().flat_map(|done| done.iter());
        self.taken.iter().chain(at_work).any(|done| done.disk == branch.id && is_it(done))
    }
}

/// Brings a content into an empty file; false where it is too large for that.
fn fill(source: &OwnedFd, copy: &OwnedFd, size: u64, copies_up_to: u64) -> Result<bool, Errno> {
    match sys::ioctl_ficlone(copy, source) {
        Ok(()) => return Ok(true),
        Err(Errno::OPNOTSUPP | Errno::NOTTY | Errno::INVAL | Errno::XDEV | Errno::NOSYS) => {}
        Err(errno) => return Err(errno),
    }
    if size > copies_up_to {
        return Ok(false);
    }
    let file = |fd: &OwnedFd| fd.try_clone().map(std::fs::File::from).map_err(|e| of_io(&e));
    let mut from = file(source)?.take(size);
    let copied = std::io::copy(&mut from, &mut file(copy)?).map_err(|e| of_io(&e))?;
    sys::fdatasync(copy)?;
    Ok(copied == size)
}

/// Gives a copy the attributes of what it was made of; whether that did not change meanwhile.
fn looks_alike(
    branch: &Branch,
    source: &OwnedFd,
    copy: &OwnedFd,
    path: &RelPath,
    before: &Stat,
) -> Result<bool, Errno> {
    let stat = sys::fstat(source)?;
    sys::fchown(copy, Some(sys::Uid::from_raw(stat.st_uid)), Some(sys::Gid::from_raw(stat.st_gid)))
        .or_else(|errno| if errno == Errno::PERM { Ok(()) } else { Err(errno) })?;
    sys::fchmod(copy, Mode::from_raw_mode(stat.st_mode))?;
    sys::futimens(copy, &times_of(&stat))?;
    let after = branch.disk().stat(path).map_err(|e| code_of(&e))?;
    Ok(after.is_some_and(|after| {
        (after.inode, after.size, after.mtime, after.ctime)
            == (before.inode, before.size, before.mtime, before.ctime)
    }))
}

fn of_io(error: &std::io::Error) -> Errno {
    Errno::from_io_error(error).unwrap_or(Errno::IO)
}

/// Makes names of a folder durable.
pub(crate) fn sync_folder(branch: &Branch, path: &RelPath) -> Result<(), Errno> {
    match sys::fsync(branch.folder(path)?.as_fd()) {
        Err(Errno::INVAL) => Ok(()),
        other => other,
    }
}
