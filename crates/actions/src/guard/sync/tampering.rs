//! Parity segments that somebody else wrote to, or that a crash left in doubt, are read before they are used.

use sieve_catalogue::parity_state;
use sieve_disk::Result;
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;

use sieve_pool::images::open_images;

/// Checks the cells of every segment file that does not look as we left it; what is damaged is computed anew.
pub(super) fn check_parity(pool: &Pool, volume: &str) -> Result<Vec<String>> {
    let mut found = Vec::new();
    let expected = parity_state::parity_cells(pool.catalogue.reading(), volume)?;
    let images = open_images(pool, volume, &[])?;
    for part in images.iter().flat_map(ParityImage::parts) {
        let id = part.member();
        if let Some(damage) = part.damage() {
            let name = &pool.member(id)?.row.name;
            found.push(format!("parity on {name}: {damage}; all of it is computed anew"));
            continue;
        }
        for (number, stat) in part.segments()? {
            let reading = pool.catalogue.reading();
            let untouched =
                stat.map(|stat| parity_state::segment_matches(reading, id, number, &stat)).transpose()?;
            if untouched == Some(true) {
                continue;
            }
            let damaged: Vec<_> = part
                .cells_in(number)
                .into_iter()
                .filter(|cell| {
                    let id = expected.at(u64::from(cell.get())).filter(|id| part.has(*cell, *id));
                    id.is_some_and(|id| part.read(*cell, id).is_none())
                })
                .collect();
            pool.catalogue.transaction(|t| {
                for cell in &damaged {
                    parity_state::set_damaged_parity(t, id, *cell, true)?;
                }
                stat.map_or(Ok(()), |stat| parity_state::set_segment(t, id, number, &stat))
            })?;
            let name = &pool.member(id)?.row.name;
            let told = damaged
                .iter()
                .map(|cell| format!("parity on {name}: cell {cell} is damaged; it is computed anew"));
            found.extend(told);
        }
    }
    Ok(found)
}
