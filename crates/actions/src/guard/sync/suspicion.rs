//! A sync throws the only way back away: what looks like an accident stops it.

use sieve_catalogue::contents::{self, Fallen};
use sieve_core::pool::Share;
use sieve_core::units::DiskId;

use sieve_catalogue::label::Role;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;
use sieve_pool::scan::ScanReport;

use super::report::Options;

/// Fewer files than this are never an accident by their number alone; their bytes may say so.
const FEWEST: u64 = 4;

const ONE_GONE: &str = "is gone or has length zero";
const MANY_GONE: &str = "are gone or have length zero";

/// A sync of what cannot be seen would take it for deleted (L7).
pub(super) fn refuse_out_of_sight(scans: &[ScanReport]) -> Result<()> {
    let Some((scan, why)) = scans.iter().find_map(|scan| Some((scan, scan.out_of_sight.first()?))) else {
        return Ok(());
    };
    let message = format!("{why}: what the last sync knew there on disk {} cannot be seen", scan.disk);
    Err(Error::new(Kind::Safety, "scan.out-of-sight", message).remedy(
        "unmount what lies over it, or make it readable, then run this again; what was known there is kept",
    ))
}

/// Stops before what looks like an accident.
pub(super) fn refuse_suspicious(pool: &Pool, options: &Options) -> Result<()> {
    suspicion(pool, &options.accept)?.map_or(Ok(()), Err)
}

/// Compares with the last sync: contents of the snapshot whose file is gone, empty, or holds something else now. What was
/// removed or replaced through us is held, and no accident.
///
/// # Errors
/// What the database says.
pub fn suspicion(pool: &Pool, accept: &[String]) -> Result<Option<Error>> {
    for member in pool.members.iter().filter(|m| m.row.role == Role::Data) {
        let name = &member.row.name;
        if accept.contains(name) {
            continue;
        }
        let volume = pool.spec.volumes.iter().find(|v| v.name == member.row.volume);
        let limit = volume.map(|v| v.stop_when_gone);
        let mut fallen = contents::fallen(pool.catalogue.reading(), member.row.id)?;
        // What we took to another disk of the volume is no accident, and not lost by a sync.
        if told(&fallen, limit).is_some() {
            let others = pool.members_of(&member.row.volume, Role::Data).map(|other| other.row.id);
            let others: Vec<DiskId> = others.filter(|id| *id != member.row.id).collect();
            fallen = contents::fallen_everywhere(pool.catalogue.reading(), member.row.id, &others)?;
        }
        let Some((what, how)) = told(&fallen, limit) else { continue };
        let message = format!(
            "{what} that the last sync knew on disk {name} {how}; a sync now would give up the only way to get that back"
        );
        return Ok(Some(Error::new(Kind::Safety, "sync.suspicious", message).remedy(format!(
            "if that was an accident, do not sync: zinc-sieve restore --list shows what can be had back, zinc-sieve restore PATH brings it back; if it is right: zinc-sieve sync --accept {name}"
        ))));
    }
    Ok(None)
}

/// What looks like an accident, in words: what, and how it looks.
fn told(fallen: &Fallen, limit: Option<Share>) -> Option<(String, &'static str)> {
    let exceeded = |part: u64, whole: u64| limit.is_some_and(|share| share.exceeded_by(part, whole));
    let ((files, bytes), (gone, gone_bytes)) = (fallen.total, fallen.gone);
    let (overwritten, overwritten_bytes) = fallen.overwritten;
    if files > 0 && gone == files {
        return Some(("every file".into(), ONE_GONE));
    }
    if gone >= FEWEST && exceeded(gone, files) {
        return Some((format!("{gone} of {files} files"), MANY_GONE));
    }
    if exceeded(gone_bytes, bytes) {
        let share = gone_bytes.saturating_mul(100) / bytes.max(1);
        let how = if gone == 1 { ONE_GONE } else { MANY_GONE };
        return Some((format!("{gone} of {files} files ({share} % of the bytes)"), how));
    }
    let fallen = gone + overwritten;
    // A single large file that is edited is no accident; many that change at once may be.
    let by_bytes = exceeded(gone_bytes + overwritten_bytes, bytes);
    (fallen >= FEWEST && overwritten > 0 && (exceeded(fallen, files) || by_bytes))
        .then(|| (format!("{fallen} of {files} files"), "are gone, empty or overwritten"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case((12, 1200), (9, 900), (0, 0), true)]
    #[case((12, 1200), (3, 300), (0, 0), false)]
    #[case((30, 1000), (1, 970), (0, 0), true)]
    #[case((30, 1000), (0, 0), (1, 970), false)]
    #[case((30, 1000), (0, 0), (28, 30), true)]
    #[case((30, 1000), (2, 5), (14, 30), true)]
    #[case((2, 100), (2, 100), (0, 0), true)]
    #[case((3, 90), (1, 30), (0, 0), false)]
    #[case((0, 0), (0, 0), (0, 0), false)]
    fn shares_of_files_and_of_bytes_count(
        #[case] total: (u64, u64),
        #[case] gone: (u64, u64),
        #[case] overwritten: (u64, u64),
        #[case] is_suspicious: bool,
    ) {
        let fallen = Fallen { total, gone, overwritten };
        assert_eq!(told(&fallen, Some(Share::percent(50))).is_some(), is_suspicious);
    }
}
