//! How much of the machine a long action may take, and being asked to stop.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use sieve_disk::{Error, Kind, Restraint, Result};
use sieve_pool::pool::Pool;

use crate::args::RestraintArguments;

/// From now on this command takes no more than it is allowed, while it plans as well.
pub(crate) fn hold(arguments: &RestraintArguments, pool: &mut Pool) {
    if arguments.idle && !sieve_disk::become_idle() {
        crate::say_aside!("note: the system does not lower the priority of disk accesses here");
    }
    pool.restrain(Restraint { memory: arguments.memory, rate: arguments.limit });
}

/// A flag that SIGINT and SIGTERM set. Before it is taken they end the program, as they do elsewhere: a plan is thrown
/// away, and a question needs no answer.
///
/// # Errors
/// When signals cannot be taken.
pub(crate) fn stop_on_signals() -> Result<Arc<AtomicBool>> {
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
        signal_hook::flag::register(signal, Arc::clone(&stop))
            .map_err(|e| Error::new(Kind::Internal, "signal", e.to_string()))?;
    }
    Ok(stop)
}
