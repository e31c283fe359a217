//! How much of the machine a long action may take, and being asked to stop.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use sieve_store::pipeline::Restraint;
use sieve_store::{Error, Kind, Result};

use crate::args::RestraintArguments;

/// Takes up what the user allows; from now on a signal asks the action to stop at its next checkpoint.
///
/// # Errors
/// When signals cannot be taken.
pub(crate) fn begin(arguments: &RestraintArguments) -> Result<Restraint> {
    let stop = stop_on_signals()?;
    if arguments.idle && !sieve_store::disk::become_idle() {
        crate::say_aside!("note: the system does not lower the priority of disk accesses here");
    }
    Ok(Restraint { memory: arguments.memory, rate: arguments.limit, stop })
}

/// A flag that SIGINT and SIGTERM set.
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
