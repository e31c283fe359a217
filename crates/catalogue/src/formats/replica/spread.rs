//! Writing the same file to several disks at once: it is made once, and each disk takes it at its own pace.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread;

use sieve_core::layout::OurPlace;
use sieve_disk::{Disk, Error, Kind, Result};

/// So much goes to the disks at a time.
const STEP: usize = 1 << 20;
/// So many steps the fastest disk may be ahead of the slowest.
const AHEAD: usize = 4;

/// What the file is made of: its bytes, and that it is whole.
enum Piece {
    Bytes(Arc<Vec<u8>>),
    End,
}

/// Writes what `produce` emits to an unfinished file on each disk, makes it durable, and lets `publish` give it its name.
/// The answers are in the order of the disks; a disk that fails does not hold up the others.
pub(super) fn spread(
    disks: &[&dyn Disk],
    produce: impl FnOnce(&mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()>,
    publish: impl Fn(&dyn Disk) -> Result<()> + Sync,
) -> Result<Vec<Result<()>>> {
    thread::scope(|scope| {
        let mut outputs = Vec::new();
        let mut writers = Vec::new();
        for disk in disks {
            let (output, pieces) = sync_channel(AHEAD);
            outputs.push(output);
            let publish = &publish;
            writers.push(scope.spawn(move || {
                let written = write(*disk, &pieces).and_then(|()| publish(*disk));
                if written.is_err() {
                    clear(*disk)?;
                }
                written
            }));
        }
        let produced = feed(&outputs, produce);
        drop(outputs);
        let answers = writers.into_iter().map(|writer| match writer.join() {
            Ok(answer) => answer,
            Err(panic) => std::panic::resume_unwind(panic),
        });
        let answers: Vec<Result<()>> = answers.collect();
        produced.map(|()| answers)
    })
}

fn feed(
    outputs: &[SyncSender<Piece>],
    produce: impl FnOnce(&mut dyn FnMut(&[u8]) -> Result<()>) -> Result<()>,
) -> Result<()> {
    // A disk that failed takes nothing any more; why, it says itself.
    let send = |piece: &dyn Fn() -> Piece| outputs.iter().for_each(|output| drop(output.send(piece())));
    let mut gathered = Vec::with_capacity(STEP);
    produce(&mut |bytes| {
        gathered.extend_from_slice(bytes);
        if gathered.len() >= STEP {
            let step = Arc::new(std::mem::replace(&mut gathered, Vec::with_capacity(STEP)));
            send(&|| Piece::Bytes(Arc::clone(&step)));
        }
        Ok(())
    })?;
    let rest = Arc::new(gathered);
    send(&|| Piece::Bytes(Arc::clone(&rest)));
    send(&|| Piece::End);
    Ok(())
}

fn write(disk: &dyn Disk, pieces: &Receiver<Piece>) -> Result<()> {
    let mut file = disk.modify(&OurPlace::ReplicaNew.path())?;
    file.set_length(0)?;
    let mut offset = 0;
    loop {
        match pieces.recv() {
            Ok(Piece::Bytes(bytes)) => {
                file.write_at(&bytes, offset)?;
                offset += bytes.len() as u64;
            }
            Ok(Piece::End) => return file.sync(),
            // Only what is whole gets a name.
            Err(_) => {
                return Err(Error::new(Kind::Io, "replica.broken-off", "the catalogue could not be read"));
            }
        }
    }
}

/// What there is of a file that failed would only take room.
fn clear(disk: &dyn Disk) -> Result<()> {
    let new = OurPlace::ReplicaNew.path();
    if disk.stat(&new)?.is_some() { disk.remove_file(&new) } else { Ok(()) }
}
