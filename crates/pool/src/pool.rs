//! An open pool: its file, its catalogue, its members.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rusqlite::Connection;
use sieve_core::gf256::Kernel;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::pool::{PoolSpec, VolumeSpec};
use sieve_core::suggest::unknown;
use sieve_core::units::{ByteLength, DiskId};

use crate::journal::{self, Did, Entry, PATHS};
use crate::member::{Member, recognise};
use crate::writer::{LongWriter, ShortWriter};
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
pub use sieve_catalogue::pool_file::home_folder;
use sieve_catalogue::replica;
use sieve_catalogue::replica::Stamp;
use sieve_catalogue::{Catalogue, Identity, disks, intents, parity_state};
use sieve_disk::Disk;
use sieve_disk::durable;
use sieve_disk::machine::Machine;
use sieve_disk::restraint::Restraint;
use sieve_disk::{Error, Kind, Result};
use sieve_rows::places::Places;

/// An open pool.
pub struct Pool {
    /// What its file says.
    pub spec: PoolSpec,
    /// Where its file is.
    pub file: PathBuf,
    /// The machine it is on.
    pub machine: Arc<dyn Machine>,
    /// The folder of its file.
    pub home: Arc<dyn Disk>,
    /// What it knows.
    pub catalogue: Catalogue,
    /// Who it is.
    pub identity: Identity,
    /// Its members, as they were found.
    pub members: Vec<Member>,
    /// What was noticed on the way, in words.
    pub notes: Vec<String>,
    /// What the pool file says and is not so, or not yet, in words; also among the notes.
    pub differs: Vec<String>,
    /// Folders of members whose content the last scan could not see.
    pub out_of_sight: RefCell<BTreeMap<DiskId, Vec<RelPath>>>,
    /// The locks that are held.
    pub hold: Hold,
    /// The job of the agenda that has something done; nothing where somebody typed it.
    pub job: Option<String>,
    restraint: Restraint,
}

/// The locks of a reader that leaves what it saw.
pub(crate) struct QuietMoment<'a> {
    pool: &'a Pool,
    _locks: (LongWriter, ShortWriter),
}

impl Drop for QuietMoment<'_> {
    fn drop(&mut self) {
        self.pool.catalogue.stop_leaving();
    }
}

/// Nobody else is at work as long as this is kept.
#[must_use = "as soon as it is dropped, somebody else may begin"]
pub struct Alone {
    _short: Option<ShortWriter>,
    _long: Option<LongWriter>,
}

/// The locks that are held for a pool.
pub enum Hold {
    /// None: it is only read.
    Nothing,
    /// The turn of the short writers.
    Short(ShortWriter),
    /// That of the one long writer.
    Long(LongWriter),
}

/// Where the catalogue of a pool file is.
pub fn catalogue_path(pool_file: &Path) -> PathBuf {
    home_folder(pool_file).join(".zinc-sieve/catalogue.sqlite")
}

impl Pool {
    /// Opens what there is: finds the catalogue and recognises the members. Whether the pool file speaks of that is for
    /// [`crate::open`] to see, which everybody else calls. Nothing is changed (L3), and
    /// what was begun and not finished is left to who holds the locks: whoever takes [`Pool::lock_long`] or [`Pool::lock_short`].
    ///
    /// # Errors
    /// When the pool was never created, or its catalogue is older than, or at odds with, what its disks say.
    pub(crate) fn open(machine: Arc<dyn Machine>, file: &Path, spec: PoolSpec) -> Result<Self> {
        let home = machine.open_disk(home_folder(file))?;
        let mut notes = Vec::new();
        let path = catalogue_path(file);
        let catalogue = if path.exists() {
            Catalogue::open_to_read(&path, Arc::clone(&machine))?
        } else {
            let (catalogue, note) = newest_replica(&machine, &spec)?;
            notes.push(note);
            catalogue
        };
        let pending = intents::all(catalogue.reading())?;
        if pending.iter().any(|(_, intent)| *intent == Intent::Create) {
            let message = "the creation of this pool was interrupted";
            return Err(Error::new(Kind::Safety, "pool.half-created", message)
                .remedy("run `zinc-sieve create` again: it goes on where it stopped"));
        }
        if disks::all(catalogue.reading())?.is_empty() && pending.is_empty() {
            // Its last volume was dissolved; a pool without members has nothing to know.
            return Err(not_created(&spec.name));
        }
        let mut pool = Self::assemble(machine, file, spec, home, catalogue)?;
        pool.notes = notes;
        pool.refuse_other_histories()?;
        Ok(pool)
    }

    /// Takes the lock of the long writer and those of the members, but for the disks that are lost, and looks at everything
    /// again (L2). From then on the catalogue may be written. Where nobody else is at work, what comes back says so as long
    /// as it is kept: what was left half done may be finished then (L4).
    ///
    /// # Errors
    /// When another command is at such a work.
    pub fn lock_long(&mut self, what: &str, lost: &[DiskId]) -> Result<Option<Alone>> {
        self.end();
        let mut writer = LongWriter::begin(&*self.home, what)?;
        self.look_again()?;
        let others = self.members.iter().filter(|m| !lost.contains(&m.row.id));
        // What takes no writes is locked by that; whoever needs it for writing refuses it in words.
        writer.lock_members(others.filter_map(|m| Some(&**m.writable().ok()?)), what)?;
        self.hold = Hold::Long(writer);
        Ok(ShortWriter::try_begin(&*self.home)?.map(|turn| Alone { _short: Some(turn), _long: None }))
    }

    /// As [`Self::lock_long`], with the turn of the short writers, beside whom one long one may be at work.
    ///
    /// # Errors
    /// When another short writer does not finish within a minute.
    pub fn lock_short(&mut self) -> Result<Option<Alone>> {
        self.end();
        let turn = ShortWriter::begin(&*self.home)?;
        self.look_again()?;
        self.hold = Hold::Short(turn);
        Ok(LongWriter::try_home(&*self.home)?.map(|writer| Alone { _short: None, _long: Some(writer) }))
    }

    /// A moment in which nobody else is at work and nothing is unfinished: what a reader saw since `seen` may be left in the
    /// catalogue, where the next one finds it. Nothing where there is no such moment: then it keeps it to itself (L3).
    pub(crate) fn quiet_moment(&self, seen: Option<i64>) -> Option<QuietMoment<'_>> {
        let seen = seen?;
        let long = LongWriter::try_home(&*self.home).ok()??;
        let short = ShortWriter::try_begin(&*self.home).ok()??;
        let is_as_seen = self.catalogue.seen() == Some(seen);
        let is_finished = intents::all(self.catalogue.reading()).is_ok_and(|pending| pending.is_empty());
        let is_quiet = is_as_seen && is_finished && self.catalogue.begin_leaving();
        is_quiet.then_some(QuietMoment { pool: self, _locks: (long, short) })
    }

    /// Lets the locks go.
    pub fn end(&mut self) {
        self.hold = Hold::Nothing;
    }

    /// A long work was begun.
    ///
    /// # Errors
    /// When it was not: a mistake in the program.
    pub fn expect_long(&self) -> Result<()> {
        if matches!(self.hold, Hold::Long(_)) { Ok(()) } else { Err(without_lock()) }
    }

    /// A work was begun, short or long.
    ///
    /// # Errors
    /// When it was not: a mistake in the program.
    pub fn expect_writing(&self) -> Result<()> {
        if matches!(self.hold, Hold::Nothing) { Err(without_lock()) } else { Ok(()) }
    }

    /// What was known before the lock was had is known no longer.
    fn look_again(&mut self) -> Result<()> {
        let path = catalogue_path(&self.file);
        if !path.exists() {
            put_in_place(&*self.home, &path, &self.catalogue)?;
            self.catalogue = Catalogue::open(&path, Arc::clone(&self.machine))?;
        }
        self.catalogue.become_writing()?;
        let identity = self.catalogue.identity()?;
        if identity.pool != self.identity.pool {
            let message = format!("{} is another pool's now", self.file.display());
            return Err(Error::new(Kind::Safety, "pool.changed", message).remedy("look, then run this again"));
        }
        self.identity = identity;
        let rows = disks::all(self.catalogue.reading())?;
        self.members =
            recognise(&*self.machine, &self.catalogue, self.identity.pool, rows, &self.spec.disks)?;
        self.limit_members();
        self.refuse_other_histories()
    }

    /// Puts the parts together, without looking at histories or intents.
    pub fn assemble(
        machine: Arc<dyn Machine>,
        file: &Path,
        spec: PoolSpec,
        home: Arc<dyn Disk>,
        catalogue: Catalogue,
    ) -> Result<Self> {
        let identity = catalogue.identity()?;
        let rows = disks::all(catalogue.reading())?;
        let members = recognise(&*machine, &catalogue, identity.pool, rows, &spec.disks)?;
        let notes = Vec::new();
        Ok(Self {
            spec,
            file: file.into(),
            machine,
            home,
            catalogue,
            identity,
            members,
            notes,
            differs: Vec::new(),
            out_of_sight: RefCell::default(),
            hold: Hold::Nothing,
            job: None,
            restraint: Restraint::default(),
        })
    }

    /// Adds a line to the journal, as of now.
    ///
    /// # Errors
    /// What the disk says.
    pub fn tell(&self, entry: Entry) -> Result<()> {
        journal::add(&*self.home, self.machine.now(), Entry { job: self.job.clone(), ..entry })
    }

    /// Adds what was done to paths on a disk to the journal, in as many lines as it takes.
    ///
    /// # Errors
    /// What the disk says.
    pub fn tell_paths(&self, did: &Did, disk: &str, paths: &[RelPath]) -> Result<()> {
        paths.chunks(PATHS).try_for_each(|some| {
            let mut entry = Entry::new(did.clone()).on([disk]);
            entry.paths = some.iter().map(ToString::to_string).collect();
            self.tell(entry)
        })
    }

    /// From now on nothing that is done with this pool takes more than this of the machine.
    pub fn restrain(&mut self, restraint: Restraint) {
        self.restraint = restraint;
        self.limit_members();
    }

    /// How much may be taken of the machine.
    pub const fn restraint(&self) -> Restraint {
        self.restraint
    }

    /// Members that are opened anew keep to the limit.
    fn limit_members(&self) {
        let disks = self.members.iter().filter_map(|member| member.disk.as_ref());
        disks.for_each(|disk| disk.flow().limit(self.restraint.rate));
    }

    /// Reads the members' rows anew, after they changed.
    ///
    /// # Errors
    /// What the database says.
    pub fn refresh_rows(&mut self) -> Result<()> {
        for row in disks::all(self.catalogue.reading())? {
            if let Some(member) = self.members.iter_mut().find(|m| m.row.id == row.id) {
                let is_brought_up = member.row.replica != row.replica;
                member.row = row;
                if let Some(disk) = member.disk.as_ref().filter(|_| is_brought_up) {
                    member.replica = replica::newest_on(&**disk)?;
                }
            }
        }
        Ok(())
    }

    /// The catalogue has to be the newest there is, and of the one history.
    fn refuse_other_histories(&self) -> Result<()> {
        let Some(head) = parity_state::head(self.catalogue.reading())? else { return Ok(()) };
        for member in self.members.iter().filter(|m| m.state.is_usable()) {
            let Some(disk) = &member.disk else { continue };
            let Some(found) = replica::newest_on(&**disk)? else { continue };
            if parity_state::knows(self.catalogue.reading(), found.id)? {
                continue;
            }
            return Err(self.other_history(
                member,
                &**disk,
                found,
                Stamp { number: head.number, id: head.id },
            ));
        }
        Ok(())
    }

    fn other_history(&self, member: &Member, disk: &dyn Disk, found: Stamp, head: Stamp) -> Error {
        let name = &member.row.name;
        let here = self.catalogue.path().display();
        let continues = replica::fetch_private(disk, found, Arc::clone(&self.machine))
            .and_then(|c| parity_state::knows(c.reading(), head.id));
        match continues {
            Ok(true) => Error::new(
                Kind::Safety,
                "catalogue.older",
                format!(
                    "the catalogue here ({here}) is an older copy: it ends at checkpoint {}, and disk {name} knows checkpoint {}",
                    head.number, found.number
                ),
            )
            .remedy("`zinc-sieve adopt` with the folders of its disks takes the newest one, and keeps this one beside it"),
            Ok(false) => Error::new(
                Kind::Safety,
                "catalogue.two-histories",
                format!(
                    "disk {name} and the catalogue here ({here}) went separate ways: each knows checkpoints that the other does not (here up to {}, there up to {})",
                    head.number, found.number
                ),
            )
            .remedy(format!("decide which one is right; if it is the disks', move {here} away; if it is this one, disconnect {name} and rebuild it")),
            Err(error) => Error::new(
                Kind::Safety,
                "catalogue.unknown-history",
                format!("disk {name} knows checkpoint {} that the catalogue here does not, and its replica cannot be read: {error}", found.number),
            )
            .remedy(format!("disconnect {name}, look with `zinc-sieve fate`, and rebuild it")),
        }
    }

    /// The member of that number.
    ///
    /// # Errors
    /// When the catalogue contradicts itself.
    pub fn member(&self, id: DiskId) -> Result<&Member> {
        self.members.iter().find(|m| m.row.id == id).ok_or_else(|| {
            sieve_catalogue::corrupt(format!(
                "the catalogue refers to disk number {id}, which does not exist"
            ))
        })
    }

    /// The member of that name.
    ///
    /// # Errors
    /// When there is none; the message lists those there are.
    pub fn member_named(&self, name: &str) -> Result<&Member> {
        self.members.iter().find(|m| m.row.name == name).ok_or_else(|| {
            let message = unknown("disk", name, self.members.iter().map(|m| m.row.name.as_str()));
            Error::new(Kind::Usage, "disk.unknown", message)
        })
    }

    /// The members of a volume in a role, by slot.
    pub fn members_of<'a>(&'a self, volume: &'a str, role: Role) -> impl Iterator<Item = &'a Member> {
        self.members.iter().filter(move |m| m.row.volume == volume && m.row.role == role)
    }

    /// The members of a volume that its files lie on: data disks, then caches.
    pub fn file_members<'a>(&'a self, volume: &'a str) -> impl Iterator<Item = &'a Member> {
        self.members.iter().filter(move |m| m.row.volume == volume && m.row.role.holds_files())
    }

    /// How much the data disks of a volume hold, and how much it may hold; nothing where nobody said so.
    ///
    /// # Errors
    /// What the database says.
    pub fn size_limit(&self, volume: &VolumeSpec) -> Result<Option<(ByteLength, ByteLength)>> {
        let Some(limit) = volume.limit else { return Ok(None) };
        let (mut used, mut space) = (ByteLength::ZERO, ByteLength::ZERO);
        for member in self.members_of(&volume.name, Role::Data) {
            used = used.plus(member.used_bytes(&self.catalogue)?);
            space = space.plus(member.usable_bytes().unwrap_or_default());
        }
        Ok(Some((used, limit.of(space))))
    }

    /// The volumes that exist: those of the pool file that have members.
    pub fn volumes(&self) -> Vec<VolumeSpec> {
        let has_members = |v: &&VolumeSpec| self.members.iter().any(|m| m.row.volume == v.name);
        self.spec.volumes.iter().filter(has_members).cloned().collect()
    }

    /// The volume of that name, or the only one.
    ///
    /// # Errors
    /// When there is none of that name, or no name was given and there are several.
    pub fn volume(&self, name: Option<&str>) -> Result<VolumeSpec> {
        let volumes = self.volumes();
        let names = volumes.iter().map(|v| v.name.as_str()).collect::<Vec<_>>().join(", ");
        let usage = |message: String| Error::new(Kind::Usage, "volume.unknown", message);
        match name {
            Some(name) => volumes
                .into_iter()
                .find(|v| v.name == name)
                .ok_or_else(|| usage(unknown("volume", name, names.split(", ")))),
            None if volumes.len() == 1 => Ok(volumes.into_iter().next().expect("there is one")),
            None => Err(usage(format!("there are several volumes ({names}): choose with --volume NAME"))),
        }
    }
}

impl Places for Pool {
    fn disk(&self, id: DiskId) -> Option<&Arc<dyn Disk>> {
        self.member(id).ok()?.usable().ok()
    }

    fn reading(&self) -> &Connection {
        self.catalogue.reading()
    }

    fn kernel(&self) -> Kernel {
        self.machine.kernel()
    }

    fn turns(&self) -> bool {
        self.members.iter().any(Member::turns)
    }
}

#[expect(clippy::disallowed_methods, reason = "a passing copy beside the catalogue, on no member")]
/// Removes a copy of the catalogue that is not needed any more, with what the database keeps beside it.
pub fn remove_passing(path: &Path) {
    for suffix in ["", "-wal", "-shm"] {
        let mut name = path.as_os_str().to_os_string();
        name.push(suffix);
        // There may be none.
        let _ = std::fs::remove_file(PathBuf::from(name));
    }
}

fn not_created(name: &str) -> Error {
    let message = format!("the pool `{name}` has not been created yet: none of its disks has a label");
    Error::new(Kind::Usage, "pool.not-created", message).remedy("zinc-sieve create")
}

/// A pool is what its labels say: without a catalogue here, the newest replica on the members is read.
fn newest_replica(machine: &Arc<dyn Machine>, spec: &PoolSpec) -> Result<(Catalogue, String)> {
    let mut candidates = Vec::new();
    for disk_spec in &spec.disks {
        let Some(place) = disk_spec.path.as_deref() else { continue };
        let Ok(disk) = machine.open_disk(Path::new(place)) else { continue };
        let Ok(Some(label)) = label::read(&*disk) else { continue };
        if let Ok(Some(stamp)) = replica::newest_on(&*disk) {
            candidates.push((stamp, label, disk));
        }
    }
    candidates.sort_by_key(|(stamp, ..)| std::cmp::Reverse(*stamp));
    let Some((_, newest, _)) = candidates.first() else {
        return Err(not_created(&spec.name));
    };
    let pool = newest.pool;
    if let Some((_, other, disk)) = candidates.iter().find(|(_, label, _)| label.pool != pool) {
        let message = format!(
            "the disks of this pool file belong to different pools: {} is of `{}`, others of `{}`",
            disk.root().display(),
            other.pool_name,
            newest.pool_name
        );
        return Err(
            Error::new(Kind::Safety, "pool.mixed", message).remedy("correct the paths in the pool file")
        );
    }
    let mut last = None;
    for (stamp, label, disk) in &candidates {
        match replica::fetch_private(&**disk, *stamp, Arc::clone(machine)) {
            Ok(catalogue) if catalogue.identity()?.pool == pool => {
                let (number, name) = (stamp.number, &label.disk_name);
                let note = format!(
                    "there is no catalogue here: this is the newest replica, checkpoint {number} on {name}"
                );
                return Ok((catalogue, note));
            }
            Ok(_) => {}
            Err(error) => last = Some(error),
        }
    }
    Err(last.unwrap_or_else(|| {
        Error::new(
            Kind::Corrupt,
            "replica.none",
            "none of the replicas on the disks is of the pool that its label names",
        )
    }))
}

/// Makes a replica that was read the catalogue of this pool file.
///
/// # Crash safety
/// It gets its name when it is whole and durable; a crash leaves an unfinished copy that the next one overwrites.
pub fn put_in_place(home: &dyn Disk, path: &Path, replica: &Catalogue) -> Result<()> {
    durable::make_own_folder(home, &OurPlace::Folder.path())?;
    let copy = path.with_extension("taken");
    remove_passing(&copy);
    replica.copy_to(&copy)?;
    let from = OurPlace::CatalogueTaken.path();
    durable::publish_over(home, &from, &OurPlace::Catalogue.path())
}

fn without_lock() -> Error {
    Error::new(Kind::Internal, "pool.no-lock", "this writes without the lock of the pool")
}
