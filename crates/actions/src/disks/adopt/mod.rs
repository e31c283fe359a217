//! A pool that comes from elsewhere: recognised by the labels of its disks, with the newest catalogue that they carry, and
//! a pool file that names where they are now.

mod plan;
mod pool_text;

pub use plan::{AdoptPlan, AdoptReport, AdoptedMember, CatalogueSource, PoolFileSource, Prepared};
use pool_text::text;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::pool::parse;

use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::label;
use sieve_catalogue::label::Label;
use sieve_catalogue::pool_file;
use sieve_catalogue::replica;
use sieve_catalogue::replica::Stamp;
use sieve_catalogue::{Catalogue, disks, parity_state};
use sieve_disk::durable;
use sieve_disk::event::Observer;
use sieve_disk::machine::Machine;
use sieve_disk::{Disk, plain_path};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::journal::{Did, Entry};
use sieve_pool::member::is_of_its_volume;
use sieve_pool::pool::{catalogue_path, home_folder, put_in_place};
use sieve_pool::scan;
use sieve_pool::writer::LongWriter;

/// A folder with a label.
struct Labelled {
    at: String,
    disk: Arc<dyn Disk>,
    label: Label,
    stamp: Option<Stamp>,
}

/// Recognises the pool of these folders.
///
/// # Errors
/// When no folder has a label, they are of several pools or of two histories, one is a copy of another, or the pool file is
/// that of another pool.
pub fn plan(machine: &Arc<dyn Machine>, file: &Path, folders: &[PathBuf]) -> Result<Prepared> {
    let (mut found, mut passed_over) = (Vec::new(), Vec::new());
    for folder in folders {
        match open(&**machine, folder)? {
            Some(labelled) => found.push(labelled),
            // All mounts of a machine are easily named; not each of them is a member.
            None => passed_over.push(folder.display().to_string()),
        }
    }
    if found.is_empty() && !passed_over.is_empty() {
        let message = format!("{}: no label, so no member of a pool", passed_over.join(", "));
        return Err(Error::new(Kind::Usage, "adopt.no-label", message).remedy(
            "a disk with ordinary files joins a volume with: zinc-sieve grow NAME --as data --at DIR",
        ));
    }
    refuse_mixtures(&found)?;
    let newest = found.iter().filter(|f| f.stamp.is_some()).max_by_key(|f| f.stamp);
    let Some((newest, stamp)) = newest.and_then(|found| Some((found, found.stamp?))) else {
        let message = "none of these disks carries a catalogue";
        return Err(Error::new(Kind::Corrupt, "adopt.no-catalogue", message)
            .remedy("name the other disks of the pool as well"));
    };
    let replica = replica::fetch_private(&*newest.disk, stamp, Arc::clone(machine))?;
    refuse_two_histories(&replica, newest, &found)?;
    let home = home_catalogue(machine, file, &replica, newest)?;
    let source = match &home {
        Home::Ahead(_) => CatalogueSource::Home,
        Home::None | Home::Older => CatalogueSource::Replica {
            disk: newest.label.disk_name.clone(),
            replaces_older: matches!(home, Home::Older),
        },
    };
    // Who belongs to the pool is what the catalogue says that is used.
    let (catalogue, is_taken) = match home {
        Home::Ahead(here) => (*here, false),
        Home::None | Home::Older => (replica, true),
    };
    let rows = disks::all(catalogue.reading())?;
    let members = members(&rows, &found)?;
    let (text, pool_file) = text(file, &catalogue, &rows, &members)?;
    let plan = AdoptPlan {
        pool: catalogue.identity()?.name,
        members,
        checkpoint: stamp.number,
        catalogue: source,
        pool_file,
        passed_over,
    };
    Ok(Prepared { plan, text, take: is_taken.then_some(catalogue) })
}

/// Opens a folder; nothing where it has no label.
fn open(machine: &dyn Machine, folder: &Path) -> Result<Option<Labelled>> {
    let path = plain_path(folder).map_err(|e| {
        let mut error = Error::io("adopt.folder", folder, e);
        error.kind = Kind::Usage;
        error.remedy("mount the disk there")
    })?;
    let disk = machine.open_disk(&path).map_err(|mut error| {
        error.kind = Kind::Usage;
        error.remedy("mount the disk there")
    })?;
    let Some(label) = label::read(&*disk)? else { return Ok(None) };
    let at = path.to_str().map(str::to_string).ok_or_else(|| {
        let message = format!("{}: the pool file can name only paths that are text", path.display());
        Error::new(Kind::Usage, "adopt.folder", message)
    })?;
    let stamp = replica::newest_on(&*disk)?;
    Ok(Some(Labelled { at, disk, label, stamp }))
}

fn refuse_mixtures(found: &[Labelled]) -> Result<()> {
    let Some(first) = found.first() else {
        return Err(Error::new(Kind::Usage, "adopt.nothing", "no folder is named"));
    };
    if let Some(other) = found.iter().find(|f| f.label.pool != first.label.pool) {
        let message = format!(
            "{} is disk {} of pool `{}`, and {} is disk {} of another pool, `{}`",
            first.at,
            first.label.disk_name,
            first.label.pool_name,
            other.at,
            other.label.disk_name,
            other.label.pool_name
        );
        return Err(Error::new(Kind::Usage, "adopt.pools", message).remedy("adopt one pool at a time"));
    }
    for (position, labelled) in found.iter().enumerate() {
        let twin = found[..position].iter().find(|other| other.label.disk == labelled.label.disk);
        if let Some(twin) = twin {
            let message = format!(
                "{} and {} both show the label of {}: one is a copy",
                twin.at, labelled.at, labelled.label.disk_name
            );
            return Err(Error::new(Kind::Safety, "adopt.twice", message).remedy("unmount the copy"));
        }
    }
    Ok(())
}

/// Every disk has to know only what the newest one knows.
fn refuse_two_histories(catalogue: &Catalogue, newest: &Labelled, found: &[Labelled]) -> Result<()> {
    let mut apart = Vec::new();
    for labelled in found {
        let Some(stamp) = labelled.stamp else { continue };
        if !parity_state::knows(catalogue.reading(), stamp.id)? {
            apart.push(labelled);
        }
    }
    if apart.is_empty() {
        return Ok(());
    }
    let names = |list: &mut dyn Iterator<Item = &Labelled>| {
        list.map(|f| f.label.disk_name.as_str()).collect::<Vec<_>>().join(", ")
    };
    let number = |labelled: &Labelled| labelled.stamp.map_or(0, |stamp| stamp.number);
    let others = names(&mut apart.iter().copied());
    let with = names(&mut found.iter().filter(|f| !apart.iter().any(|a| a.label.disk == f.label.disk)));
    let message = format!(
        "this pool was changed in two places: {with} went on to checkpoint {}, {others} to checkpoint {}, each without the other",
        number(newest),
        apart.iter().map(|labelled| number(labelled)).max().unwrap_or(0)
    );
    Err(Error::new(Kind::Safety, "adopt.two-histories", message).remedy(format!(
        "nothing is merged by itself: adopt the half that is right alone, look what the other half has besides (its files are ordinary files), and rebuild its disks ({others} or {with}) when that is saved"
    )))
}

enum Home {
    /// There is no catalogue beside the pool file.
    None,
    /// It knows all that the disks know.
    Ahead(Box<Catalogue>),
    /// The disks know more.
    Older,
}

/// How the catalogue beside the pool file, if there is one, stands to the newest one of the disks.
fn home_catalogue(
    machine: &Arc<dyn Machine>,
    file: &Path,
    newest: &Catalogue,
    on: &Labelled,
) -> Result<Home> {
    let path = catalogue_path(file);
    if !path.exists() {
        return Ok(Home::None);
    }
    let here = Catalogue::open_to_read(&path, Arc::clone(machine))?;
    if here.identity()?.pool != on.label.pool {
        let message = format!("{} belongs to another pool, `{}`", file.display(), here.identity()?.name);
        return Err(Error::new(Kind::Safety, "adopt.other-pool", message)
            .remedy("name a pool file of its own: --pool FILE, in another folder"));
    }
    let stamp = on.stamp.map(|stamp| stamp.id);
    if let Some(id) = stamp
        && parity_state::knows(here.reading(), id)?
    {
        return Ok(Home::Ahead(Box::new(here)));
    }
    let is_known = match parity_state::head(here.reading())? {
        Some(head) => parity_state::knows(newest.reading(), head.id)?,
        None => true,
    };
    if is_known {
        return Ok(Home::Older);
    }
    let message = format!(
        "the catalogue here ({}) and the one on {} went separate ways: each knows checkpoints that the other does not",
        path.display(),
        on.label.disk_name
    );
    Err(Error::new(Kind::Safety, "adopt.two-histories", message).remedy(
        "nothing is merged by itself: if the disks are right, move the catalogue here away and adopt again",
    ))
}

fn members(rows: &[DiskRow], found: &[Labelled]) -> Result<Vec<AdoptedMember>> {
    for labelled in found {
        let row = rows.iter().find(|row| row.uuid == labelled.label.disk);
        let says = |label: &Label| (label.role, label.slot, label.first_cell);
        let has_place = |row: &DiskRow| {
            says(&labelled.label) == (row.role, row.slot, row.first_cell)
                && is_of_its_volume(&labelled.label, row)
        };
        match row {
            Some(row) if has_place(row) => {}
            Some(row) => {
                let message = format!(
                    "{}: the label claims {} slot {} of {}, and the pool knows {} as {} slot {} of {}",
                    labelled.at,
                    labelled.label.role.word(),
                    labelled.label.slot,
                    labelled.label.volume,
                    row.name,
                    row.role.word(),
                    row.slot,
                    row.volume
                );
                return Err(Error::new(Kind::Corrupt, "adopt.label", message)
                    .remedy("leave this disk out, and rebuild it from the others"));
            }
            None => {
                let message = format!(
                    "{} was disk {} of this pool until it was replaced, or left",
                    labelled.at, labelled.label.disk_name
                );
                return Err(Error::new(Kind::Safety, "adopt.retired", message)
                    .remedy("leave it out, and wipe it before it is used again"));
            }
        }
    }
    let of = |row: &DiskRow| {
        let labelled = found.iter().find(|f| f.label.disk == row.uuid);
        AdoptedMember {
            name: row.name.clone(),
            volume: row.volume.clone(),
            role: row.role,
            at: labelled.map(|f| f.at.clone()),
            checkpoint: labelled.and_then(|f| Some(f.stamp?.number)),
        }
    };
    Ok(rows.iter().map(of).collect())
}

/// Makes it a working pool here.
///
/// # Crash safety
/// The catalogue is put in its place whole, an older one kept beside it; then the pool file. Running it again goes on. On the
/// disks nothing is written.
///
/// # Errors
/// What a disk or the database says.
pub fn execute(
    machine: &Arc<dyn Machine>,
    file: &Path,
    prepared: Prepared,
    observer: &dyn Observer,
) -> Result<AdoptReport> {
    let Prepared { plan, text, take } = prepared;
    let home = machine.open_disk(home_folder(file))?;
    let lock = LongWriter::begin(&*home, "adopt")?;
    if let Some(replica) = take {
        take_catalogue(machine, &*home, file, &replica)?;
    }
    pool_file::write(&*home, file, &text)?;
    drop(lock);
    let spec = parse(&text).spec.ok_or_else(|| {
        Error::new(Kind::Internal, "pool-file.mistakes", "the pool file was without mistakes a moment ago")
    })?;
    let mut pool = sieve_pool::open(Arc::clone(machine), file, spec)?;
    crate::begin_long(&mut pool, "adopt")?;
    let scans = scan::scan_all(&pool, |_| true, observer)?;
    let report = AdoptReport { plan, scans };
    pool.tell(Entry::new(Did::Adopt).detail(&report)?)?;
    Ok(report)
}

fn take_catalogue(
    machine: &Arc<dyn Machine>,
    home: &dyn Disk,
    file: &Path,
    replica: &Catalogue,
) -> Result<()> {
    durable::make_own_folder(home, &OurPlace::Folder.path())?;
    let path = catalogue_path(file);
    if path.exists() {
        keep_older(machine, home, &path)?;
    }
    put_in_place(home, &path, replica)
}

/// The older catalogue gets another name, with all that was in its log.
fn keep_older(machine: &Arc<dyn Machine>, home: &dyn Disk, path: &Path) -> Result<()> {
    let older = Catalogue::open(path, Arc::clone(machine))?;
    let number = parity_state::head(older.reading())?.map_or(0, |head| head.number);
    sieve_catalogue::empty_log(older.reading())?;
    drop(older);
    let kept = OurPlace::Folder
        .path()
        .join(format!("catalogue-until-{number}.sqlite").as_bytes())
        .expect("digits make a valid name");
    if home.stat(&kept)?.is_none() {
        home.link(&OurPlace::Catalogue.path(), &kept)?;
        durable::sync_parents(home, [&kept])?;
    }
    for suffix in ["-wal", "-shm"] {
        let name = format!(".zinc-sieve/catalogue.sqlite{suffix}");
        let name = RelPath::new(name.as_str()).expect("a valid name");
        if home.stat(&name)?.is_some() {
            home.remove_file(&name)?;
        }
    }
    Ok(())
}
