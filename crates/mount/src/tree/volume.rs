//! The volume as one tree: what lies where, by path and by number.

use std::os::fd::OwnedFd;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, OnceLock};

use rustix::fs::{FileType, Stat};
use rustix::io::Errno;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::EntryKind;
use sieve_pool::pieces::PiecedFile;
use sieve_pool::pool::Pool;

use crate::below::branch::Branch;
use crate::below::content::Computer;
use crate::below::intents::Intents;
use crate::below::judge::Judge;
use crate::below::knowledge::{Absent, AbsentThing, Knowledge};
use crate::below::past::Past;
use crate::below::places::Places;
use crate::code_of;
use crate::files::handles::OpenFiles;
use crate::tree::look::Look;
use crate::tree::nodes::Nodes;
use crate::tree::number::Number;

/// What is done in the volume by whom.
#[derive(Clone, Copy, Debug)]
pub struct Caller {
    /// The user.
    pub uid: u32,
    /// His group.
    pub gid: u32,
}

/// A mounted volume.
pub struct Volume {
    pub(crate) spec: VolumeSpec,
    pub(crate) branches: Vec<Branch>,
    /// Members that were not there when it was mounted.
    missing: Vec<DiskId>,
    pub(crate) nodes: Nodes,
    pub(crate) knowledge: Knowledge,
    pub(crate) judge: Judge,
    pub(crate) computer: Computer,
    pub(crate) past: Past,
    pub(crate) places: Places,
    pub(crate) intents: Intents,
    pub(crate) files: OpenFiles,
    /// One file is moved at a time.
    pub(crate) moving: Mutex<()>,
    is_read_only: bool,
    /// Files are read and written by the kernel on their disks.
    passes: AtomicBool,
    /// Where the kernel takes notices, as far as it is told without being asked.
    door: OnceLock<OwnedFd>,
    /// The kernel collects writes, and knows itself where a file ends.
    collects: AtomicBool,
    pub(crate) has_copies: bool,
    parities: usize,
}

/// What lies at a path.
pub(crate) enum Found {
    /// A folder: on these branches.
    Folder(Vec<(usize, Stat)>),
    /// A file, symlink or special file; a further copy of a mirrored file is another matter.
    Thing(usize, Stat),
    /// A file in pieces, with how it looks.
    Pieced(Arc<PiecedFile>, Look),
    /// Something of a disk that is not there.
    Absent(Box<Absent>),
}

/// A name in a folder.
pub(crate) struct Entry {
    pub(crate) name: Vec<u8>,
    pub(crate) kind: FileType,
    pub(crate) number: Number,
}

impl Volume {
    /// Opens the members of a volume by their labels.
    ///
    /// # Errors
    /// When none of its disks is there; what a disk or the database says.
    pub fn open(pool: Pool, volume: &str, is_read_only: bool) -> sieve_disk::Result<Self> {
        let spec = pool.volume(Some(volume))?;
        let intents = Intents::new(&pool.home, volume);
        let (mut branches, mut missing) = (Vec::new(), Vec::new());
        for member in pool.file_members(volume) {
            if member.state.is_usable() {
                branches.push(Branch::open(member)?);
            } else {
                missing.push(member.row.id);
            }
        }
        if branches.is_empty() {
            let message = format!("no disk of volume {volume} is there");
            return Err(sieve_disk::Error::new(sieve_disk::Kind::Safety, "mount.no-disk", message)
                .remedy("zinc-sieve status"));
        }
        Ok(Self {
            has_copies: spec.copies > 1 || spec.cache.copies > 1,
            parities: spec.parity.len(),
            places: Places::new(spec.clone(), branches.len()),
            computer: Computer::new(&pool, volume),
            past: Past::of(&pool),
            intents,
            judge: Judge::of(&pool, volume),
            knowledge: Knowledge::of(pool, &spec),
            spec,
            branches,
            missing,
            nodes: Nodes::default(),
            files: OpenFiles::default(),
            moving: Mutex::default(),
            is_read_only,
            passes: AtomicBool::new(false),
            door: OnceLock::new(),
            collects: AtomicBool::new(false),
        })
    }

    /// The kernel reads and writes files on their disks by itself, as far as it may.
    pub(crate) fn set_passes(&self, passes: bool) {
        self.passes.store(passes, Ordering::Relaxed);
    }

    /// Whether it does.
    pub fn passes(&self) -> bool {
        self.passes.load(Ordering::Relaxed)
    }

    pub(crate) fn set_door(&self, door: OwnedFd) {
        // There is one for as long as it is mounted.
        let _ = self.door.set(door);
    }

    /// Somebody changed the disks and says so: the kernel looks every name up again before it uses it.
    pub(crate) fn look_anew(&self) {
        /// A new epoch of names (FUSE_NOTIFY_INC_EPOCH); kernels before 6.16 do not know it, and find out within a second.
        const NEW_EPOCH: i32 = 8;
        const LENGTH: u32 = 16;
        for branch in &self.branches {
            branch.forget_folders();
        }
        if let Some(door) = self.door.get() {
            let mut notice = Vec::with_capacity(LENGTH as usize);
            notice.extend_from_slice(&LENGTH.to_ne_bytes());
            notice.extend_from_slice(&NEW_EPOCH.to_ne_bytes());
            notice.extend_from_slice(&0_u64.to_ne_bytes());
            let _ = rustix::io::write(door, &notice);
        }
    }

    pub(crate) fn set_collects(&self, collects: bool) {
        self.collects.store(collects, Ordering::Relaxed);
    }

    pub(crate) fn kernel_appends(&self) -> bool {
        self.collects.load(Ordering::Relaxed)
    }

    /// Whether a disk has so much room that what is written to it need not go on elsewhere.
    pub(crate) fn has_headroom(&self, position: usize) -> bool {
        let branch = &self.branches[position];
        let Ok(room) = branch.room() else { return false };
        let (total, free) = (room.f_blocks * room.f_frsize, room.f_bavail * room.f_frsize);
        branch.capacity.is_none() && free >= self.spec.mount.headroom_of(ByteLength::new(total)).exact()
    }

    /// Makes the names in a folder durable, on every disk that has it.
    pub(crate) fn sync_folder(&self, number: Number) -> Result<(), Errno> {
        let path = self.path_of(number)?;
        for (_, branch) in self.alive() {
            match crate::below::past::sync_folder(branch, &path) {
                Err(Errno::NOENT | Errno::NOTDIR) => {}
                other => other?,
            }
        }
        Ok(())
    }

    /// The branches that answer, with their positions.
    pub(crate) fn alive(&self) -> impl Iterator<Item = (usize, &Branch)> {
        self.branches.iter().enumerate().filter(|(_, branch)| branch.lives())
    }

    /// The disks that are not there, or died since.
    pub(crate) fn absent_disks(&self) -> Vec<DiskId> {
        let dead = self.branches.iter().filter(|branch| !branch.lives()).map(|branch| branch.id);
        self.missing.iter().copied().chain(dead).collect()
    }

    /// Whether more disks are away than parity bears: then nothing is changed, for each change would cost more.
    pub(crate) fn is_beyond_parity(&self) -> bool {
        let absent = self.absent_disks().len();
        absent > 0 && !self.has_copies && absent > self.parities
    }

    /// Refuses what would change something, where nothing may be.
    pub(crate) fn for_writing(&self) -> Result<(), Errno> {
        if self.is_read_only || self.is_beyond_parity() { Err(Errno::ROFS) } else { Ok(()) }
    }

    /// Whether a content at a path is to be held before it goes. With a disk away all are: its rebuild needs them.
    pub(crate) fn holds(&self, path: &RelPath) -> bool {
        self.spec.holds(path) || !self.absent_disks().is_empty()
    }

    /// The path of a number.
    pub(crate) fn path(&self, number: Number) -> Result<RelPath, Errno> {
        self.nodes.path(number).ok_or(Errno::STALE)
    }

    /// The path of a name in a folder.
    pub(crate) fn child(&self, parent: Number, name: &[u8]) -> Result<RelPath, Errno> {
        if name.len() > 255 {
            return Err(Errno::NAMETOOLONG);
        }
        let folder = self.path(parent)?;
        let path = folder.join(name).map_err(|_| Errno::INVAL)?;
        if folder.is_root() && crate::below::branch::is_never_shown(name) {
            Err(Errno::PERM)
        } else {
            Ok(path)
        }
    }

    /// What lies at a path: of several disks the first one has it; of a folder all.
    pub(crate) fn find(&self, path: &RelPath) -> Result<Option<Found>, Errno> {
        let mut folders = Vec::new();
        for (position, branch) in self.alive() {
            match branch.stat(path) {
                Ok(Some(stat)) if FileType::from_raw_mode(stat.st_mode) == FileType::Directory => {
                    folders.push((position, stat));
                }
                Ok(Some(stat)) if folders.is_empty() => return Ok(Some(Found::Thing(position, stat))),
                Ok(_) => {}
                Err(_) if !branch.lives() => {}
                Err(errno) => return Err(errno),
            }
        }
        if !folders.is_empty() {
            return Ok(Some(Found::Folder(folders)));
        }
        if let Some(file) = self.knowledge.pieced().map_err(|e| code_of(&e))?.get(path) {
            return Ok(Some(Found::Pieced(Arc::clone(file), self.look_of_pieces(file)?)));
        }
        let absent = self.absent_disks();
        if absent.is_empty() {
            return Ok(None);
        }
        let absent = self.knowledge.absent(&absent, path).map_err(|e| code_of(&e))?;
        Ok(absent.map(Box::new).map(Found::Absent))
    }

    /// All branches that have a file: more than one only where the volume makes copies.
    pub(crate) fn copies_of(&self, path: &RelPath, first: usize) -> Result<Vec<usize>, Errno> {
        if !self.has_copies {
            return Ok(vec![first]);
        }
        let mut copies = Vec::new();
        for (position, branch) in self.alive() {
            let stat = branch.stat(path)?;
            if stat.is_some_and(|stat| FileType::from_raw_mode(stat.st_mode) != FileType::Directory) {
                copies.push(position);
            }
        }
        Ok(copies)
    }

    /// How what was found looks; a folder keeps the number that the kernel knows it by.
    pub(crate) fn look(&self, found: &Found, known: Option<Number>) -> Look {
        match found {
            Found::Folder(copies) => {
                let number = |(position, stat): &(usize, Stat)| self.number(*position, stat);
                // Also by the number that it had while it lay on no disk that is there.
                let is_known =
                    |known: &Number| known.is_of_path() || copies.iter().any(|copy| number(copy) == *known);
                let number = known.filter(is_known).unwrap_or_else(|| number(&copies[0]));
                let stats: Vec<&Stat> = copies.iter().map(|(_, stat)| stat).collect();
                Look::of_folder(number, &stats).expect("it was found on a disk")
            }
            Found::Thing(position, stat) => Look::of(self.number(*position, stat), stat),
            Found::Pieced(_, look) => *look,
            Found::Absent(absent) => match &absent.what {
                AbsentThing::File(object, attributes) => {
                    Look::of_absent_file(self.nodes.shown(absent.number), object, attributes)
                }
                AbsentThing::Other(node) => Look::of_absent_node(absent.number, node),
            },
        }
    }

    /// The number of something on a branch.
    pub(crate) fn number(&self, position: usize, stat: &Stat) -> Number {
        self.nodes.shown(Number::on(self.branches[position].id, stat.st_ino))
    }

    fn look_of_pieces(&self, file: &PiecedFile) -> Result<Look, Errno> {
        let first = file.pieces.first().ok_or(Errno::IO)?;
        let object = self.knowledge.object_at(first.disk, &first.path).map_err(|e| code_of(&e))?;
        let object = object.ok_or(Errno::IO)?;
        let attributes = self.knowledge.attributes(&object).map_err(|e| code_of(&e))?;
        let mut look = Look::of_absent_file(Number::on(first.disk, object.inode), &object, &attributes);
        let branch = self.branches.iter().find(|branch| branch.id == first.disk && branch.lives());
        if let Some(stat) = branch.map(|branch| branch.stat(&first.path)).transpose()?.flatten() {
            look = Look::of(look.number, &stat);
        }
        look.size = file.size.exact();
        look.blocks = look.size.div_ceil(512);
        Ok(look)
    }

    /// What lies at a name, which the kernel knows from then on.
    pub(crate) fn lookup(&self, parent: Number, name: &[u8]) -> Result<Look, Errno> {
        if self.path(parent)?.is_root() && crate::below::branch::is_never_shown(name) {
            return Err(Errno::NOENT);
        }
        let path = self.child(parent, name)?;
        let found = self.find(&path)?.ok_or(Errno::NOENT)?;
        let look = self.look(&found, self.nodes.at(parent, name));
        self.nodes.learn(parent, name, look.number);
        Ok(look)
    }

    /// How something looks by its number. Where it is another thing by now, the kernel looks the name up again.
    pub(crate) fn look_at(&self, number: Number) -> Result<Look, Errno> {
        let path = if number == Number::ROOT { RelPath::ROOT } else { self.path(number)? };
        let found = self.find(&path)?.ok_or(Errno::STALE)?;
        let mut look = self.look(&found, Some(number));
        if number == Number::ROOT {
            look.number = Number::ROOT;
        }
        if look.number == number { Ok(look) } else { Err(Errno::STALE) }
    }

    /// The names in a folder: of all disks, of those that are not there, and the files in pieces. Each once.
    pub(crate) fn list(&self, number: Number) -> Result<Vec<Entry>, Errno> {
        let folder = if number == Number::ROOT { RelPath::ROOT } else { self.path(number)? };
        let mut found: std::collections::HashMap<Vec<u8>, (FileType, Number)> =
            std::collections::HashMap::new();
        let mut is_there = false;
        for (_, branch) in self.alive() {
            let listed = match branch.list(&folder) {
                Ok(Some(listed)) => listed,
                Ok(None) => continue,
                Err(_) if !branch.lives() => continue,
                Err(errno) => return Err(errno),
            };
            is_there = true;
            for entry in listed {
                let number = self.nodes.shown(Number::on(branch.id, entry.inode));
                found.entry(entry.name).or_insert((entry.kind, number));
            }
        }
        let absent = self.absent_disks();
        if !absent.is_empty() {
            for (name, kind, number) in self.knowledge.absent_in(&absent, &folder).map_err(|e| code_of(&e))? {
                is_there = true;
                let is_hidden = folder.is_root() && crate::below::branch::is_never_shown(&name);
                if !is_hidden {
                    found.entry(name).or_insert((crate::tree::look::file_type(kind), number));
                }
            }
        }
        for (path, file) in self.knowledge.pieced().map_err(|e| code_of(&e))?.iter() {
            if path.parent().as_ref() == Some(&folder) {
                let look = self.look_of_pieces(file)?;
                found.entry(path.file_name().to_vec()).or_insert((FileType::RegularFile, look.number));
            }
        }
        let is_known_absent = || {
            let known = self.knowledge.absent(&absent, &folder).map_err(|e| code_of(&e))?;
            Ok(
                matches!(known, Some(Absent { what: AbsentThing::Other(node), .. }) if node.kind == EntryKind::Folder),
            )
        };
        if !is_there && !folder.is_root() && !is_known_absent()? {
            return Err(Errno::STALE);
        }
        Ok(found.into_iter().map(|(name, (kind, number))| Entry { name, kind, number }).collect())
    }
}
