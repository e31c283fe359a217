//! What a fuzzer throws at the program: any bytes, where a disk, a pool file or a caller may have put them. Each function
//! fails only where something that must hold does not.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use sieve_catalogue::Catalogue;
use sieve_catalogue::piece_note::PieceNote;
use sieve_catalogue::{label, replica};
use sieve_core::code::{Decoder, Encoder};
use sieve_core::gf256::{Kernel, Start, mul_add};
use sieve_core::path::RelPath;
use sieve_core::pool::parse;
use sieve_core::sync::CellGeometry;
use sieve_core::units::{ByteLength, CellIndex, CheckpointId, DiskId, ParityIndex, Slot};
use sieve_disk::machine::{Clock, RealMachine};
use sieve_disk::{Disk, RealDisk};
use sieve_rows::image::{ImageLimits, Part, PartPlace};
use uuid::Uuid;

use crate::scratch;

/// Something that bytes are thrown at.
pub type Target = fn(&[u8]);

/// All of them, with the names of their corpora.
pub const TARGETS: [(&str, Target); 7] = [
    ("label", label_of_any_bytes),
    ("replica", replica_of_any_bytes),
    ("piece", piece_of_any_bytes),
    ("segment-table", table_of_any_bytes),
    ("pool-file", pool_file_of_any_bytes),
    ("kernels", kernels_agree),
    ("erase-and-reconstruct", what_is_erased_comes_back),
];

#[expect(clippy::disallowed_methods, reason = "what a hostile disk holds, behind the back of the program")]
fn disk_with(folder: &Path, name: &str, bytes: &[u8]) -> Arc<dyn Disk> {
    let place = folder.join(".zinc-sieve").join(name);
    std::fs::create_dir_all(place.parent().expect("it has one")).expect("folders can be made");
    std::fs::write(place, bytes).expect("the file can be written");
    Arc::new(RealDisk::open(folder).expect("the folder exists"))
}

/// A label is read or refused; what is read has a place in a volume.
pub fn label_of_any_bytes(bytes: &[u8]) {
    let folder = scratch();
    let disk = disk_with(folder.path(), "label.toml", bytes);
    match label::read(&*disk) {
        Ok(Some(label)) => assert!(usize::from(label.slot) < sieve_core::units::MAX_SLOTS),
        Ok(None) => panic!("there is a label"),
        Err(error) => assert!(error.message.contains("label"), "{error}"),
    }
}

/// A replica is taken up or refused, and the parts of the catalogue that everything else relies on can be asked.
pub fn replica_of_any_bytes(bytes: &[u8]) {
    let folder = scratch();
    let stamp = replica::Stamp { number: 3, id: CheckpointId::new(0x1234) };
    let disk = disk_with(folder.path(), "replica-000000000003-0000000000001234.sqlite", bytes);
    assert_eq!(replica::newest_on(&*disk).expect("the folder can be listed"), Some(stamp));
    let machine = Arc::new(RealMachine { clock: Clock::Real });
    if let Err(error) = replica::fetch_private(&*disk, stamp, machine.clone()) {
        assert!(!error.message.is_empty());
    }
    let copy = folder.path().join(".zinc-sieve/replica-000000000003-0000000000001234.sqlite");
    // Under another name it may be what it says it is.
    if let Ok(catalogue) = Catalogue::open(&copy, machine) {
        read_around(&catalogue);
    }
}

/// A piece of a file is taken for one, or not; what is taken for one has a place in its file, and its path leads nowhere
/// but into the volume.
pub fn piece_of_any_bytes(bytes: &[u8]) {
    let folder = scratch();
    let disk = disk_with(folder.path(), "pieces/any", bytes);
    match PieceNote::read(&*disk, &RelPath::fixed(".zinc-sieve/pieces/any")) {
        Ok(Some(note)) => {
            assert!(note.number < note.count && note.length > ByteLength::ZERO);
            assert!(note.offset.plus(note.length) <= note.size);
            assert!(note.length.exact() < bytes.len() as u64, "the description is behind the content");
            assert!(!note.path.is_root() && !note.path.is_ours());
            assert!(note.path.components().all(|name| name != b".." && name != b"." && !name.is_empty()));
        }
        Ok(None) => {}
        Err(error) => assert!(error.message.contains("piece"), "{error}"),
    }
}

fn read_around(catalogue: &Catalogue) {
    use sieve_catalogue::{disks, intents, nodes, parity_state};
    let reading = catalogue.reading();
    // Errors are answers too; panics are not.
    let members = disks::all(reading).unwrap_or_default();
    let _ = intents::all(reading);
    for row in members {
        let _ = parity_state::lane(reading, row.id);
        let _ = nodes::for_each(reading, row.id, |_, _| Ok(()));
        let _ = parity_state::parity_cells(reading, &row.volume);
        let _ = disks::geometry(reading, &row.volume);
    }
}

/// A parity table is read or counts as damaged; no cell is handed out whose checksum does not hold.
pub fn table_of_any_bytes(bytes: &[u8]) {
    let folder = scratch();
    let disk = disk_with(folder.path(), "parity/table", bytes);
    let geometry = CellGeometry::with_cell(1 << 20).expect("a power of two");
    let (member, index) = (DiskId::new(1), ParityIndex::new(0));
    let limits = ImageLimits::for_bytes(ByteLength::new(64 << 20), geometry);
    let place = PartPlace { member, cells: 0..u32::MAX, limits };
    match Part::open(disk, place, (Uuid::nil(), index, geometry), |_| Ok(true)) {
        Ok(part) => {
            for cell in 0..4 {
                for checkpoint in [0, 1, u64::MAX] {
                    let read = part.read(CellIndex::new(cell), CheckpointId::new(checkpoint));
                    assert!(read.is_none(), "there are no segments to read from");
                }
            }
        }
        Err(error) => assert!(error.message.contains("newer"), "{error}"),
    }
}

/// A pool file is read or has mistakes, each of which points into it.
pub fn pool_file_of_any_bytes(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let parsed = parse(text);
    assert!(parsed.spec.is_some() || !parsed.mistakes.is_empty());
    for mistake in &parsed.mistakes {
        assert!(mistake.line(text) <= text.lines().count() + 1);
    }
    if let Some(spec) = parsed.spec.filter(|_| parsed.mistakes.is_empty()) {
        for name in spec.volumes.iter().flat_map(|volume| volume.members()) {
            assert!(spec.disk(name).is_some(), "a member that is no disk");
        }
    }
}

/// A byte at a time from the input; zeros when it ends.
struct Taken<'a>(&'a [u8]);

impl Taken<'_> {
    fn byte(&mut self) -> u8 {
        let (first, rest) = self.0.split_first().unwrap_or((&0, &[]));
        self.0 = rest;
        *first
    }

    fn below(&mut self, end: usize) -> usize {
        (usize::from(self.byte()) << 8 | usize::from(self.byte())) % end
    }

    fn bytes(&mut self, length: usize) -> Vec<u8> {
        (0..length).map(|_| self.byte()).collect()
    }
}

/// Every set of instructions computes what the readable reference does, at any length and any place in memory.
pub fn kernels_agree(bytes: &[u8]) {
    let mut input = Taken(bytes);
    let (targets, sources) = (1 + input.below(8), 1 + input.below(12));
    let (length, shift) = (input.below(1500), input.below(64));
    let start = if input.byte() & 1 == 0 { Start::Zero } else { Start::Present };
    let factors: Vec<Vec<u8>> = (0..targets).map(|_| input.bytes(sources)).collect();
    let former: Vec<Vec<u8>> = (0..targets).map(|_| input.bytes(length)).collect();
    let read: Vec<Vec<u8>> = (0..sources).map(|_| input.bytes(length + shift)).collect();
    let mut expected = former.clone();
    for (target, factors) in expected.iter_mut().zip(&factors) {
        if matches!(start, Start::Zero) {
            target.fill(0);
        }
        for (source, factor) in read.iter().zip(factors) {
            mul_add(target, &source[shift..], *factor);
        }
    }
    for kernel in Kernel::available() {
        let mut found = former.clone();
        kernel.combine(
            &mut found.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(),
            &read.iter().map(|source| &source[shift..]).collect::<Vec<_>>(),
            &factors.iter().map(Vec::as_slice).collect::<Vec<_>>(),
            start,
        );
        assert_eq!(found, expected, "{kernel:?}");
    }
}

/// Any lanes that are erased come back from any sufficient set of parities.
pub fn what_is_erased_comes_back(bytes: &[u8]) {
    let mut input = Taken(bytes);
    let (lanes, parities) = (1 + input.below(12), 1 + input.below(8));
    let length = 1 + input.below(200);
    let mut slots: BTreeSet<u8> = BTreeSet::new();
    while slots.len() < lanes {
        let wish = input.byte() % 248;
        let free = (wish..248).chain(0..wish).find(|slot| !slots.contains(slot));
        slots.extend(free);
    }
    let slots: Vec<Slot> = slots.into_iter().map(Slot::new).collect();
    let mut indices: Vec<ParityIndex> = (0..8).map(ParityIndex::new).collect();
    while indices.len() > parities {
        indices.remove(input.below(indices.len()));
    }
    let contents: Vec<Vec<u8>> = (0..lanes).map(|_| input.bytes(length)).collect();
    let mut computed = vec![vec![0; length]; parities];
    let kernel = Kernel::best();
    Encoder::new(kernel, &indices, &slots).encode(
        &mut computed.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(),
        &contents.iter().map(Vec::as_slice).collect::<Vec<_>>(),
    );
    let mut known: Vec<usize> = (0..lanes).collect();
    let mut missing = Vec::new();
    for _ in 0..input.below(parities.min(lanes) + 1) {
        missing.push(known.remove(input.below(known.len())));
    }
    let of = |lanes: &[usize]| lanes.iter().map(|lane| slots[*lane]).collect::<Vec<_>>();
    let decoder = Decoder::new(kernel, &of(&missing), &indices, &of(&known)).expect("there are enough");
    let mut found = vec![vec![0; length]; missing.len()];
    decoder.decode(
        &mut found.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(),
        &computed.iter().map(Vec::as_slice).collect::<Vec<_>>(),
        &known.iter().map(|lane| contents[*lane].as_slice()).collect::<Vec<_>>(),
    );
    for (lane, bytes) in missing.iter().zip(&found) {
        assert_eq!(*bytes, contents[*lane]);
    }
}
