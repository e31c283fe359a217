//! The made-up world of Fernhollow: a bird-sound archive, written by a seeded generator.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::Path;

use sieve_disk::{Error, Result};

use super::stage::{Stage, entries, make_folder, write_file};

const BIRDS: [&str; 8] =
    ["wren", "robin", "blackbird", "song-thrush", "chiffchaff", "dunnock", "nuthatch", "blackcap"];
const PLANTS: [&str; 6] =
    ["hart-s-tongue", "male-fern", "wood-sorrel", "dog-violet", "ramsons", "yellow-archangel"];

/// Makes the disks, the pool file, what is on alder already, and a memory card full of files.
pub(super) fn build(stage: &Stage) -> Result<()> {
    let mut pool = String::from("# The archive at Fernhollow.\n[pool]\nname = \"fernhollow\"\n");
    for (name, bay, serial, about) in [
        ("alder", "A1", "TW12-88Q4K7", "bought = \"2025-03-14\"\nprice = \"229 EUR\"\nbatch = \"march\"\n"),
        ("beech", "A2", "TW12-88Q9M2", "bought = \"2025-03-14\"\nprice = \"229 EUR\"\nbatch = \"march\"\n"),
        ("cedar", "B1", "KS08-31V7C5", ""),
        ("oak", "C2", "TW12-90R1X3", ""),
    ] {
        let path = stage.path("disks").join(name);
        make_folder(&path)?;
        write!(
            pool,
            "\n[[disk]]\nname = \"{name}\"\npath = \"{}\"\ncapacity = \"80 MB\"\nbay = \"{bay}\"\nserial = \"{serial}\"\n{about}simulated = true   # a folder stands in for the disk\n",
            path.display()
        )
        .expect("writing to text works");
    }
    pool += "\n[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]\n";
    pool += "\n[[case]]\nname = \"tower\"\nbays = [[\"A1\", \"A2\"], [\"B1\", \"B2\"], [\"-\", \"C2\"]]   # rows from the top\n";
    write_file(&stage.path("pool.toml"), pool.as_bytes())?;
    for number in 1..=12 {
        let text = format!("Fernhollow, walk {number}: mist in the lower wood, wind from the west.\n")
            .repeat(number * 40);
        let path = stage.path(format!("disks/alder/field-notes/walk-{number:02}.txt"));
        write_file(&path, text.as_bytes())?;
        set_age(&path, 400 - 9 * number as u64)?;
    }
    write_file(
        &stage.path("disks/alder/field-notes/draft.txt"),
        "Not to be kept.\n".repeat(20_000).as_bytes(),
    )?;
    super::machine::write(stage)?;
    fill_card(stage)
}

fn fill_card(stage: &Stage) -> Result<()> {
    for day in 1..=4 {
        for (number, bird) in BIRDS.iter().enumerate() {
            for take in 1..=3 {
                let name = format!("card/dawn-chorus/2031-05-{day:02}/{bird}-{take}.flac");
                noise(&stage.path(&name), 60_000 + 37_000 * ((number * 5 + take * 3 + day) % 9))?;
            }
        }
    }
    for nest in 1..=6 {
        for clip in 1..=10 {
            let name = format!("card/nest-cams/box-{nest}/clip-{clip:02}.mkv");
            noise(&stage.path(&name), 40_000 + 61_000 * ((nest * 7 + clip * 3) % 6))?;
        }
    }
    noise(&stage.path("card/nest-cams/box-3/whole-night.mkv"), 4_600_000)?;
    for plant in PLANTS {
        for sheet in 1..=14 {
            noise(
                &stage.path(format!("card/herbarium/{plant}/sheet-{sheet:02}.tiff")),
                20_000 + 1_900 * sheet,
            )?;
        }
    }
    for bird in BIRDS {
        noise(&stage.path(format!("card/new/2031-05-05/{bird}-1.flac")), 150_000)?;
    }
    Ok(())
}

/// What happens after the first sync, besides what is put and removed.
pub(super) fn live_on(stage: &Stage) -> Result<()> {
    copy_tree(stage)?;
    let clip = first_file(&stage.path("disks/cedar/nest-cams"))?;
    let bytes = std::fs::read(&clip).map_err(|e| Error::io("demo.read", &clip, e))?;
    write_file(&clip, &bytes[..bytes.len() / 2])?;
    let shown = clip.strip_prefix(stage.path("")).unwrap_or(&clip).display().to_string();
    stage.say(&format!("(somebody cuts {shown} to half its length)\n"));
    Ok(())
}

/// The demo keeps its own copy of cedar as of the sync, to compare with later.
fn copy_tree(stage: &Stage) -> Result<()> {
    for ((disk, path), bytes) in stage.contents()? {
        if disk == "cedar" {
            write_file(&stage.path("as-of-the-sync").join(path), &bytes)?;
        }
    }
    Ok(())
}

/// Cedar's files as of the sync.
pub(super) fn contents_at_sync(stage: &Stage) -> Result<BTreeMap<String, Vec<u8>>> {
    let root = stage.path("as-of-the-sync");
    let mut found = BTreeMap::new();
    let mut folders = vec![root.clone()];
    while let Some(folder) = folders.pop() {
        for path in entries(&folder)? {
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let relative = path.strip_prefix(&root).unwrap_or(&path).to_string_lossy().into_owned();
            found.insert(relative, std::fs::read(&path).map_err(|e| Error::io("demo.read", &path, e))?);
        }
    }
    Ok(found)
}

fn first_file(folder: &Path) -> Result<std::path::PathBuf> {
    match entries(folder)?.into_iter().next() {
        Some(path) if path.is_dir() => first_file(&path),
        Some(path) => Ok(path),
        None => {
            let why = std::io::Error::from(std::io::ErrorKind::NotFound);
            Err(Error::io("demo.world", folder, why))
        }
    }
}

/// Field notes are older than the demo.
fn set_age(path: &Path, days: u64) -> Result<()> {
    let walked = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_773_000_000 - days * 86_400);
    let file = std::fs::File::options().write(true).open(path);
    file.and_then(|f| f.set_modified(walked)).map_err(|e| Error::io("demo.write", path, e))
}

/// Bytes that no compression shrinks, and the same in every run: the extended output of BLAKE3 of the file's name.
pub(super) fn noise(path: &Path, length: usize) -> Result<()> {
    let name = path.file_name().unwrap_or_default().as_encoded_bytes();
    let folder = path.parent().and_then(Path::file_name).unwrap_or_default().as_encoded_bytes();
    let mut hasher = blake3::Hasher::new();
    hasher.update(folder).update(name);
    let mut bytes = vec![0; length];
    hasher.finalize_xof().fill(&mut bytes);
    write_file(path, &bytes)
}
