//! What the program takes from the outside: disks, the time, chance. Tests hand in another machine.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;
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

/// The machine the program runs on.
pub struct RealMachine {
    /// The time that tests want it to be, in nanoseconds since 1970.
    pub fixed_now: Option<i64>,
}

impl Machine for RealMachine {
    fn open_disk(&self, path: &Path) -> Result<Arc<dyn Disk>> {
        Ok(Arc::new(RealDisk::open(path)?))
    }

    fn now(&self) -> i64 {
        self.fixed_now.unwrap_or_else(|| {
            let elapsed = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
            i64::try_from(elapsed.as_nanos()).unwrap_or(i64::MAX)
        })
    }

    fn random(&self) -> u64 {
        uuid::Uuid::new_v4().as_u64_pair().0
    }

    fn before_commit(&self) -> Result<()> {
        Ok(())
    }
}
