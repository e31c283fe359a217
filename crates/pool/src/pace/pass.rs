//! What a pass over rows moves.

use sieve_catalogue::label::Role;
use sieve_core::amounts::Amounts;
use sieve_core::units::{ByteLength, CellIndex, GRANULE};
use sieve_rows::window::Snapshot;

use crate::images::cells_by_disk;
use crate::member::Member;
use crate::pool::Pool;

/// What is moved at most on each disk that takes part in a pass over these cells: of a data disk as far as its lane reaches, of
/// a parity drive the cells that belong there.
pub fn amounts_of_pass(
    pool: &Pool,
    volume: &str,
    snapshot: &Snapshot,
    cells: &[CellIndex],
    takes_part: impl Fn(&Member) -> bool,
) -> Amounts {
    let cell_bytes = snapshot.geometry.cell_bytes();
    let most = cells.len() as u64 * cell_bytes;
    let mut amounts = Amounts::new();
    for member in pool.members_of(volume, Role::Data).filter(|member| takes_part(member)) {
        let lane = snapshot.lanes.iter().find(|lane| lane.disk == member.row.id);
        let reach = lane.map_or(0, |lane| lane.map.end().saturating_mul(GRANULE));
        amounts.set(&member.row.name, ByteLength::new(reach.min(most)));
    }
    for (member, count) in cells_by_disk(pool, volume, cells).filter(|(member, _)| takes_part(member)) {
        amounts.set(&member.row.name, ByteLength::new(count * cell_bytes));
    }
    amounts
}
