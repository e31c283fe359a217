//! How much of the machine a long action may take.

use sieve_disk::Restraint;
use sieve_pool::pool::Pool;

use crate::args::RestraintArguments;

/// From now on this command takes no more than it is allowed, while it plans as well.
pub(crate) fn hold(arguments: &RestraintArguments, pool: &mut Pool) {
    if arguments.idle && !sieve_disk::become_idle() {
        crate::say_aside!("note: the system does not lower the priority of disk accesses here");
    }
    pool.restrain(Restraint { memory: arguments.memory, rate: arguments.limit });
}
