//! What the disks do for files that move: copies made, read back, and named; several at a time, without the catalogue.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::time::Duration;

use sieve_core::checksum::ContentSum;
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use sieve_catalogue::objects::ObjectRow;
use sieve_disk::copying;
use sieve_disk::copying::{CHANGED, copy_hashed};
use sieve_disk::durable::{self, Written};
use sieve_disk::event::{Event, Observer};
use sieve_disk::machine::Machine;
use sieve_disk::{Attributes, Disk, ReadFile, Stat, WriteFile};
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

/// So many files become durable in one wait,
const BATCH: usize = 128;
/// and so many bytes.
const BATCH_BYTES: u64 = 256 << 20;

/// A file whose copies are made, and have no names yet.
struct Copied {
    source: WatchedSource,
    sum: ContentSum,
    /// For each target the copy, open.
    copies: Vec<Box<dyn WriteFile>>,
}

/// Carries all of them, and tells how each ended, in their order; after a failure no further one is begun. Batch by batch the
/// copies are made, become durable in one wait for each disk, and are read back before they get their names.
///
/// `meanwhile` is done while they are on their way; what it says comes back as well.
pub(super) fn all<T>(
    tasks: &[&Task],
    machine: &dyn Machine,
    observer: &dyn Observer,
    meanwhile: impl FnOnce() -> T,
) -> (Vec<Option<Outcome>>, T) {
    let (watcher, crew) = (Watcher::new(machine), Crew::default());
    let mut outcomes: Vec<Option<Outcome>> = tasks.iter().map(|_| None).collect();
    let (mut meanwhile, mut said, mut begun) = (Some(meanwhile), None, 0);
    while begun < tasks.len() && !crew.is_over.load(Ordering::Relaxed) {
        let batch = &tasks[begun..begun + batch_of(&tasks[begun..])];
        let copy = |task: &Task| crew.heed(copy(task, &watcher, &crew));
        let (copied, now) =
            crew.work(batch.to_vec(), observer, copy, || meanwhile.take().map(|meanwhile| meanwhile()));
        said = said.or(now);
        let mut durable = Vec::new();
        for (position, made) in make_durable(batch, copied).into_iter().enumerate() {
            match made {
                Some(Ok(copied)) => durable.push((begun + position, copied)),
                Some(Err(stays)) => outcomes[begun + position] = Some(Err(stays)),
                None => {}
            }
        }
        // What is copied is finished, whatever happened to the others.
        let is_over = crew.is_over.swap(false, Ordering::Relaxed);
        let finish = |(position, copied): (usize, Copied)| {
            (position, crew.heed(finish(tasks[position], copied, machine, &crew)))
        };
        let finished = crew.work(durable, observer, finish, || ()).0;
        finished.into_iter().flatten().for_each(|(position, outcome)| outcomes[position] = Some(outcome));
        crew.is_over.fetch_or(is_over, Ordering::Relaxed);
        begun += batch.len();
    }
    let said = said.or_else(|| meanwhile.take().map(|meanwhile| meanwhile()));
    (outcomes, said.expect("it was done with the first batch, or just now"))
}

fn batch_of(tasks: &[&Task]) -> usize {
    let mut bytes = 0_u64;
    let is_within = |task: &&&Task| {
        bytes = bytes.saturating_add(task.object.size.exact());
        bytes <= BATCH_BYTES
    };
    tasks.iter().take(BATCH).take_while(is_within).count().max(1)
}

/// Waits once for each disk that copies went to.
fn make_durable(tasks: &[&Task], mut copied: Vec<Option<Made>>) -> Vec<Option<Made>> {
    let mut written = Written::default();
    for (task, made) in tasks.iter().zip(&mut copied) {
        let copies = made.iter_mut().flatten().flat_map(|copied| &mut copied.copies);
        for (target, copy) in task.targets.iter().zip(copies) {
            written.add(target.id, &target.disk, copy);
        }
    }
    let failures =
        written.sync_each().filter_map(|(id, synced)| Some((id, synced.err())).filter(|f| f.1.is_some()));
    let mut failed: BTreeMap<DiskId, Option<Error>> = failures.collect();
    for (task, made) in tasks.iter().zip(&mut copied) {
        let failure = task.targets.iter().find(|target| failed.contains_key(&target.id));
        if let (Some(Ok(_)), Some(target)) = (&made, failure) {
            // The first of them tells what the disk said.
            let error = failed.get_mut(&target.id).and_then(Option::take);
            *made = Some(Err(error.map_or(Stays::Stopped, Stays::Failed)));
        }
    }
    copied
}

type Made = std::result::Result<Copied, Stays>;

/// Those who carry, several at a time, and what they tell each other.
#[derive(Default)]
struct Crew {
    /// Something failed: nothing further is begun.
    is_over: AtomicBool,
    is_stopped: AtomicBool,
    carried: AtomicU64,
}

impl Crew {
    fn heed<T>(&self, outcome: std::result::Result<T, Stays>) -> std::result::Result<T, Stays> {
        if matches!(outcome, Err(Stays::Failed(_) | Stays::Stopped)) {
            self.is_over.store(true, Ordering::Relaxed);
        }
        outcome
    }

    /// Does the work on all items, and tells what came of each, in their order; none for those that nobody began.
    ///
    /// Nobody is woken for a single file: they are many, and small.
    fn work<I: Send, R: Send, T>(
        &self,
        items: Vec<I>,
        observer: &dyn Observer,
        work: impl Fn(I) -> R + Sync,
        meanwhile: impl FnOnce() -> T,
    ) -> (Vec<Option<R>>, T) {
        let mut outcomes: Vec<Option<R>> = items.iter().map(|_| None).collect();
        let workers = AT_ONCE.min(items.len());
        let items = Mutex::new(items.into_iter().enumerate());
        let next = || {
            let mut items = items.lock().unwrap_or_else(PoisonError::into_inner);
            if self.is_over.load(Ordering::Relaxed) { None } else { items.next() }
        };
        let all = |at_work: mpsc::Sender<()>| {
            let done: Vec<(usize, R)> =
                std::iter::from_fn(next).map(|(position, item)| (position, work(item))).collect();
            drop(at_work);
            done
        };
        let all = &all;
        std::thread::scope(|scope| {
            // What hangs up when the last of them has ended.
            let (at_work, ended) = mpsc::channel::<()>();
            let start = |_| {
                let at_work = at_work.clone();
                scope.spawn(move || all(at_work))
            };
            let workers: Vec<_> = (0..workers).map(start).collect();
            drop(at_work);
            let tell = || match self.carried.swap(0, Ordering::Relaxed) {
                0 => {}
                by => observer.event(Event::Advanced { by }),
            };
            let said = meanwhile();
            while ended.recv_timeout(TICK) == Err(mpsc::RecvTimeoutError::Timeout) {
                tell();
                self.is_stopped.fetch_or(observer.is_stopped(), Ordering::Relaxed);
            }
            for worker in workers {
                let done = worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
                done.into_iter().for_each(|(position, outcome)| outcomes[position] = Some(outcome));
            }
            tell();
            (outcomes, said)
        })
    }
}

/// Adds up what was carried, and hears when to stop: the observer itself belongs to one thread.
impl Observer for Crew {
    fn event(&self, event: Event) {
        if let Event::Advanced { by } = event {
            self.carried.fetch_add(by, Ordering::Relaxed);
        }
    }

    fn is_stopped(&self) -> bool {
        self.is_stopped.load(Ordering::Relaxed)
    }
}

/// Copies one file to where it goes.
fn copy(task: &Task, watcher: &Watcher<'_>, observer: &dyn Observer) -> Made {
    let made = open_source(task, watcher).and_then(|mut source| {
        let (sum, copies) = make_copies(task, &mut source, observer)?;
        Ok(Copied { source, sum, copies })
    });
    discard_where_it_stays(task, made)
}

/// Reads the durable copies of a file back, and gives them their names.
fn finish(task: &Task, copied: Copied, machine: &dyn Machine, observer: &dyn Observer) -> Outcome {
    let Copied { source, sum, copies } = copied;
    let name = || {
        let mut data = Vec::new();
        for (target, mut copy) in task.targets.iter().zip(copies) {
            data.push(copying::read_back(&*target.disk, &mut *copy, &sum, observer)?);
        }
        check_before_naming(task, &source, &sum.whole)?;
        let copies = name_copies(task, machine, data)?;
        Ok(Carried { sum, watched: source.watched(), copies })
    };
    let carried = name();
    discard_where_it_stays(task, carried)
}

fn discard_where_it_stays<T>(
    task: &Task,
    outcome: std::result::Result<T, Stays>,
) -> std::result::Result<T, Stays> {
    if matches!(outcome, Err(Stays::Because(_) | Stays::Stopped)) {
        discard(task)?;
    }
    outcome
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
    // A copy that becomes another's is taken from who has it (L5).
    let is_kept = |stat: &Stat| task.targets.iter().all(|target| target.disk.may_give_to(stat.uid));
    if !looks.as_ref().is_some_and(is_kept) {
        return Err(Stays::Because(held::IS_OF_ANOTHER.into()));
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

fn make_copies(
    task: &Task,
    source: &mut WatchedSource,
    observer: &dyn Observer,
) -> std::result::Result<(ContentSum, Vec<Box<dyn WriteFile>>), Stays> {
    let mut sum: Option<ContentSum> = None;
    let mut copies = Vec::new();
    for target in &task.targets {
        let (size, disk) = (task.object.size, &*target.disk);
        let copied = copy_hashed(source.file(), size, disk, &target.temporary, &task.attributes, observer);
        let (copy, found) = match copied {
            Err(error) if error.code == CHANGED => return Err(is_written()),
            other => other?,
        };
        if sum.as_ref().is_some_and(|sum| *sum != found) {
            return Err(is_written());
        }
        sum = Some(found);
        copies.push(copy);
    }
    let sum = sum.ok_or_else(|| Stays::Because("it has nowhere to go".into()))?;
    Ok((sum, copies))
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
