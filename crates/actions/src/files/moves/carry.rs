//! What the disks do for files that move: copies made, read back, and named; several at a time, without the catalogue.

use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, mpsc};
use std::time::Duration;

use sieve_core::checksum::ContentSum;
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use sieve_catalogue::objects::ObjectRow;
use sieve_disk::copying;
use sieve_disk::copying::{CHANGED, copy_verified};
use sieve_disk::durable;
use sieve_disk::event::{Event, Observer};
use sieve_disk::machine::Machine;
use sieve_disk::{Attributes, Disk, ReadFile, Stat};
use sieve_disk::{Error, Result};
use sieve_pool::held;
use sieve_pool::held::{Watch, Watcher};
use sieve_pool::looks::looks_of;

/// So many files are under way at once: one is read while another waits for its folder.
const AT_ONCE: usize = 2;

/// So often it is told how far they are.
const TICK: Duration = Duration::from_millis(100);

/// A file that is to move, with everything that is known about it.
pub(super) struct Task {
    /// Where it lies.
    pub(super) disk: Arc<dyn Disk>,
    pub(super) object: ObjectRow,
    pub(super) names: Vec<RelPath>,
    pub(super) attributes: Attributes,
    /// What it held when it was checksummed.
    pub(super) known: Option<ContentSum>,
    /// Its other copies, which leave with it.
    pub(super) others: Vec<Other>,
    pub(super) targets: Vec<Target>,
}

/// Another copy of a file that moves.
pub(super) struct Other {
    pub(super) name: String,
    pub(super) disk: Arc<dyn Disk>,
    pub(super) path: RelPath,
}

/// A disk that a copy goes to, and an unfinished file there.
pub(super) struct Target {
    pub(super) id: DiskId,
    pub(super) name: String,
    pub(super) disk: Arc<dyn Disk>,
    pub(super) temporary: RelPath,
}

/// A file whose copies have their names.
pub(super) struct Carried {
    pub(super) sum: ContentSum,
    /// The sources, watched for writers since before the first byte was read: the one that was read, and its other copies.
    pub(super) watched: Vec<Watch>,
    /// For each target how the copy looks, and its granules that are no holes.
    pub(super) copies: Vec<(DiskId, Stat, Vec<Rows>)>,
}

/// Why a file stays where it is.
pub(super) enum Stays {
    /// In words.
    Because(String),
    /// It was asked to stop before the copies were whole.
    Stopped,
    /// Something failed.
    Failed(Error),
}

impl From<Error> for Stays {
    fn from(error: Error) -> Self {
        if error.is_stop() { Self::Stopped } else { Self::Failed(error) }
    }
}

type Outcome = std::result::Result<Carried, Stays>;

/// Carries all of them, and tells how each ended, in their order; after a failure no further one is begun.
///
/// `meanwhile` is done while they are on their way; what it says comes back as well. Nobody is woken for a single file:
/// they are many, and small.
pub(super) fn all<T>(
    tasks: &[&Task],
    machine: &dyn Machine,
    observer: &dyn Observer,
    meanwhile: impl FnOnce() -> T,
) -> (Vec<Option<Outcome>>, T) {
    let (next, is_over, carried) = (AtomicUsize::new(0), AtomicBool::new(false), AtomicU64::new(0));
    let is_stopped = AtomicBool::new(false);
    let mut outcomes: Vec<Option<Outcome>> = tasks.iter().map(|_| None).collect();
    let watcher = Watcher::new(machine);
    let work = |at_work: mpsc::Sender<()>| {
        let mut done = Vec::new();
        while let Some((position, task)) = take(&next, &is_over, tasks) {
            let outcome =
                carry(task, machine, &watcher, &Counter { carried: &carried, is_over: &is_stopped });
            if matches!(outcome, Err(Stays::Failed(_) | Stays::Stopped)) {
                is_over.store(true, Ordering::Relaxed);
            }
            done.push((position, outcome));
        }
        drop(at_work);
        done
    };
    let (work, carried, is_stopped) = (&work, &carried, &is_stopped);
    std::thread::scope(|scope| {
        // What hangs up when the last of them has ended.
        let (at_work, ended) = mpsc::channel::<()>();
        let start = |_| {
            let at_work = at_work.clone();
            scope.spawn(move || work(at_work))
        };
        let workers: Vec<_> = (0..AT_ONCE.min(tasks.len())).map(start).collect();
        drop(at_work);
        let tell = || match carried.swap(0, Ordering::Relaxed) {
            0 => {}
            by => observer.event(Event::Advanced { by }),
        };
        let heed = || is_stopped.fetch_or(observer.is_stopped(), Ordering::Relaxed);
        let done = meanwhile();
        while ended.recv_timeout(TICK) == Err(mpsc::RecvTimeoutError::Timeout) {
            tell();
            heed();
        }
        for worker in workers {
            let done = worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            done.into_iter().for_each(|(position, outcome)| outcomes[position] = Some(outcome));
        }
        tell();
        (outcomes, done)
    })
}

fn take<'t>(next: &AtomicUsize, is_over: &AtomicBool, tasks: &[&'t Task]) -> Option<(usize, &'t Task)> {
    if is_over.load(Ordering::Relaxed) {
        return None;
    }
    let position = next.fetch_add(1, Ordering::Relaxed);
    tasks.get(position).map(|task| (position, *task))
}

/// Adds up what was carried, and hears when to stop: the observer itself belongs to one thread.
struct Counter<'a> {
    carried: &'a AtomicU64,
    is_over: &'a AtomicBool,
}

impl Observer for Counter<'_> {
    fn event(&self, event: Event) {
        if let Event::Advanced { by } = event {
            self.carried.fetch_add(by, Ordering::Relaxed);
        }
    }

    fn is_stopped(&self) -> bool {
        self.is_over.load(Ordering::Relaxed)
    }
}

/// Copies one file to where it goes, and gives the copies their names.
fn carry(task: &Task, machine: &dyn Machine, watcher: &Watcher<'_>, observer: &dyn Observer) -> Outcome {
    let carried = open_source(task, watcher).and_then(|mut source| {
        let (sum, data) = copy(task, &mut source, observer)?;
        check_before_naming(task, &source, &sum.whole)?;
        let copies = name_copies(task, machine, data)?;
        Ok(Carried { sum, watched: source.watched(), copies })
    });
    if matches!(carried, Err(Stays::Because(_) | Stays::Stopped)) {
        discard(task)?;
    }
    carried
}

/// A source that is what the catalogue has, and that nobody writes to.
pub(super) struct WatchedSource {
    /// What is read.
    file: Box<dyn ReadFile>,
    is_leased: bool,
    others: Vec<Watch>,
}

impl WatchedSource {
    pub(super) fn file(&mut self) -> &mut dyn ReadFile {
        &mut *self.file
    }

    /// Whether nobody began to write since it was opened.
    fn is_steady(&self) -> bool {
        (!self.is_leased || self.file.lease_holds()) && self.others.iter().all(Watch::holds)
    }

    /// What keeps watching until the sources are gone.
    pub(super) fn watched(self) -> Vec<Watch> {
        let first = if self.is_leased { Watch::Leased(self.file) } else { Watch::Looked };
        std::iter::once(first).chain(self.others).collect()
    }
}

fn is_written() -> Stays {
    Stays::Because(held::IS_WRITTEN.into())
}

/// Opens the source with its other copies, each with a lease before anything is read: a writer that has one of them open
/// or mapped could else change what was read already without moving a time.
pub(super) fn open_source(task: &Task, watcher: &Watcher<'_>) -> std::result::Result<WatchedSource, Stays> {
    let first = &task.names[0];
    let opened = task.disk.open(first);
    let looks = match &opened {
        Ok(file) => Some(file.stat()?),
        Err(_) => task.disk.stat(first)?,
    };
    if looks.is_none_or(|stat| !task.object.matches(&stat)) {
        return Err(Stays::Because(held::HAS_CHANGED.into()));
    }
    let (file, is_leased) = match watcher.watch_open(opened?)?.ok_or_else(is_written)? {
        Watch::Leased(file) => (file, true),
        Watch::Looked => (task.disk.open(first)?, false),
    };
    let mut others = Vec::new();
    for other in &task.others {
        others.push(watcher.watch(&*other.disk, &other.path)?.ok_or_else(is_written)?);
    }
    Ok(WatchedSource { file, is_leased, others })
}

fn copy(
    task: &Task,
    source: &mut WatchedSource,
    observer: &dyn Observer,
) -> std::result::Result<(ContentSum, Vec<Vec<Rows>>), Stays> {
    let mut sum: Option<ContentSum> = None;
    let mut ranges = Vec::new();
    for target in &task.targets {
        let (size, disk) = (task.object.size, &*target.disk);
        let copied = copy_verified(source.file(), size, disk, &target.temporary, &task.attributes, observer);
        let (found, data) = match copied {
            Err(error) if error.code == CHANGED => return Err(is_written()),
            other => other?,
        };
        if sum.as_ref().is_some_and(|sum| *sum != found) {
            return Err(is_written());
        }
        sum = Some(found);
        ranges.push(data);
    }
    let sum = sum.ok_or_else(|| Stays::Because("it has nowhere to go".into()))?;
    Ok((sum, ranges))
}

/// What was copied has to be what the catalogue knows, still what the source is, and what its other copies are.
pub(super) fn check_before_naming(
    task: &Task,
    source: &WatchedSource,
    whole: &[u8; 32],
) -> std::result::Result<(), Stays> {
    if task.known.as_ref().is_some_and(|known| known.whole != *whole) {
        return Err(Stays::Because("its content is not what was checksummed: zinc-sieve verify".into()));
    }
    if !source.is_steady() || task.disk.stat(&task.names[0])?.is_none_or(|stat| !task.object.matches(&stat)) {
        return Err(is_written());
    }
    for other in &task.others {
        let mut copy = other.disk.open(&other.path)?;
        let size = copy.stat()?.size;
        if copying::checksum(&mut *copy, size, |_| Ok(()))?.is_none_or(|sum| sum.whole != *whole) {
            return Err(Stays::Because(format!("its copy on {} has another content", other.name)));
        }
    }
    Ok(())
}

fn discard(task: &Task) -> Result<()> {
    for target in &task.targets {
        if target.disk.stat(&target.temporary)?.is_some() {
            target.disk.remove_file(&target.temporary)?;
        }
    }
    Ok(())
}

/// Most folders are there already, so that the name is tried first.
fn give_name(
    task: &Task,
    target: &Target,
    name: &RelPath,
    give: impl Fn() -> Result<()>,
) -> std::result::Result<(), Stays> {
    let outcome = match (give(), name.parent()) {
        (Err(error), Some(parent)) if error.io_kind() == Some(std::io::ErrorKind::NotFound) => {
            durable::make_folders(&*target.disk, &parent, |folder| looks_of(&*task.disk, folder))?;
            give()
        }
        (outcome, _) => outcome,
    };
    match outcome {
        Err(error) if error.io_kind() == Some(std::io::ErrorKind::AlreadyExists) => {
            Err(Stays::Because(format!("the same name is on {}, with another content", target.name)))
        }
        other => Ok(other?),
    }
}

fn name_copies(
    task: &Task,
    machine: &dyn Machine,
    data: Vec<Vec<Rows>>,
) -> std::result::Result<Vec<(DiskId, Stat, Vec<Rows>)>, Stays> {
    let mut given = Vec::new();
    let copies = name_all(task, data, &mut given);
    if matches!(copies, Err(Stays::Because(_))) {
        // The names that were given so far go again; the source has them.
        for (disk, name, inode) in given {
            held::discard(disk, machine.random(), name, |stat, _| Ok(stat.inode == inode))?;
        }
    }
    copies
}

fn name_all<'t>(
    task: &'t Task,
    data: Vec<Vec<Rows>>,
    given: &mut Vec<(&'t dyn Disk, &'t RelPath, u64)>,
) -> std::result::Result<Vec<(DiskId, Stat, Vec<Rows>)>, Stays> {
    let (first, further) = task.names.split_first().expect("a file that moves has a name");
    let mut copies = Vec::new();
    for (target, data) in task.targets.iter().zip(data) {
        let gone = || Stays::Because("somebody took it away".into());
        let made = target.disk.stat(&target.temporary)?.ok_or_else(gone)?;
        give_name(task, target, first, || target.disk.rename(&target.temporary, first))?;
        given.push((&*target.disk, first, made.inode));
        for name in further {
            give_name(task, target, name, || target.disk.link(first, name))?;
            given.push((&*target.disk, name, made.inode));
        }
        // What has the name now need not be ours any more.
        let stat = target.disk.stat(first)?.filter(|stat| stat.inode == made.inode).ok_or_else(gone)?;
        if (stat.size, stat.mtime) != (made.size, made.mtime) {
            return Err(Stays::Because("its copy was changed at once".into()));
        }
        copies.push((target.id, stat, data));
    }
    Ok(copies)
}
