//! What the program takes from the outside: disks, the time, chance. Tests hand in another machine.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};

use sieve_core::gf256::Kernel;

use crate::Result;
use crate::{Disk, RealDisk};

/// The machine that a pool is on.
pub trait Machine: Send + Sync {
    /// Opens the disk mounted at `path`.
    ///
    /// # Errors
    /// When there is no folder there, or it cannot be opened.
    fn open_disk(&self, path: &Path) -> Result<Arc<dyn Disk>>;

    /// Nanoseconds since 1970.
    fn now(&self) -> i64;

    /// A random number.
    fn random(&self) -> u64;

    /// The device and inode of every file that somebody else has open.
    fn open_files(&self) -> HashSet<(u64, u64)> {
        crate::open_files()
    }

    /// The instructions that computing parity uses.
    fn kernel(&self) -> Kernel {
        Kernel::best()
    }

    /// Called right before the catalogue commits: a simulated machine may lose power here.
    ///
    /// # Errors
    /// When the machine is off.
    fn before_commit(&self) -> Result<()>;
}

/// What says how late it is.
#[derive(Clone, Copy, Debug)]
pub enum Clock {
    /// That of the machine.
    Real,
    /// One that stands, for tests; in nanoseconds since 1970.
    Fixed(i64),
    /// One that begins there, and at each look is a nanosecond later: for sessions in which what comes after something else
    /// has to be seen to have come after it.
    Ticking(i64),
}

/// The machine the program runs on.
pub struct RealMachine {
    /// How late it is.
    pub clock: Clock,
}

/// Looks at a ticking clock so far.
static LOOKS: AtomicI64 = AtomicI64::new(0);

impl Machine for RealMachine {
    fn open_disk(&self, path: &Path) -> Result<Arc<dyn Disk>> {
        Ok(Arc::new(RealDisk::open(path)?))
    }

    fn now(&self) -> i64 {
        match self.clock {
            Clock::Fixed(at) => at,
            Clock::Ticking(from) => from.saturating_add(LOOKS.fetch_add(1, Ordering::Relaxed)),
            Clock::Real => {
                let elapsed = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
                i64::try_from(elapsed.as_nanos()).unwrap_or(i64::MAX)
            }
        }
    }

    fn random(&self) -> u64 {
        uuid::Uuid::new_v4().as_u64_pair().0
    }

    fn before_commit(&self) -> Result<()> {
        Ok(())
    }
}
