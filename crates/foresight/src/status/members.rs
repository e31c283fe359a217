//! How the members of a pool are.

use sieve_catalogue::parity_state;
use sieve_disk::Result;
use sieve_pool::images::open_images;
use sieve_pool::member::{Member, State};
use sieve_pool::pool::Pool;

use super::report::{Advice, DiskStatus};

/// How each disk of a pool is.
///
/// # Errors
/// What the database says.
pub fn disks(pool: &Pool) -> Result<Vec<DiskStatus>> {
    pool.members.iter().map(|member| disk_status(pool, member)).collect()
}

fn disk_status(pool: &Pool, member: &Member) -> Result<DiskStatus> {
    let is_present = member.state == State::Present;
    Ok(DiskStatus {
        name: member.row.name.clone(),
        volume: member.row.volume.clone(),
        role: member.row.role,
        state: member.state.clone(),
        advice: (!is_present).then(|| Advice::from(member.refusal())),
        bay: member.spec.as_ref().and_then(|s| s.bay.clone()),
        serial: member.spec.as_ref().and_then(|s| s.serial.clone()),
        used: member.used_bytes(&pool.catalogue)?,
        free: member.free_bytes(&pool.catalogue)?,
        scanned_at: member.row.scanned_at,
        read_only: member.filesystem.as_ref().is_some_and(|f| f.read_only),
    })
}

/// Parity that is expected on a drive and is not valid there, in words: its table was damaged, or the drive is new.
///
/// # Errors
/// What a disk or the database says.
pub fn tables(pool: &Pool) -> Result<Vec<String>> {
    let mut found = Vec::new();
    for volume in pool.volumes() {
        let expected = parity_state::parity_cells(pool.catalogue.reading(), &volume.name)?;
        for image in open_images(pool, &volume.name, &[])? {
            for part in image.parts() {
                let name = &pool.member(part.member())?.row.name;
                let missing = part.missing(&expected).len();
                match (part.damage(), missing) {
                    (Some(why), _) => found.push(format!("parity on {name}: {why}: nothing on it guards anything; the next sync computes it anew")),
                    (None, 0) => {}
                    (None, cells) => found.push(format!(
                        "parity on {name}: {cells} cells are not valid (its table is damaged, or they were never computed): the next sync computes them"
                    )),
                }
            }
        }
    }
    Ok(found)
}
