//! A line in the system's log, by the socket that all systems have for it (RFC 3164).

use std::os::unix::net::UnixDatagram;

use sieve_core::notice::{Event, Severity};

use super::words::{Failure, headline, place};

/// The facility of daemons.
const DAEMON: u8 = 3;

pub(super) fn tell(event: &Event) -> Result<(), Failure> {
    let socket = UnixDatagram::unbound().map_err(|e| format!("the system's log: {e}"))?;
    socket.send_to(line(event).as_bytes(), "/dev/log").map_err(|e| format!("the system's log: {e}"))?;
    Ok(())
}

fn line(event: &Event) -> String {
    // Critical, warning, notice.
    let level = match event.condition.severity {
        Severity::ActNow => 2,
        Severity::Soon => 4,
        Severity::Information => 5,
    };
    let place = place(event).map_or(String::new(), |place| format!(" ({place})"));
    format!("<{}>zinc-sieve: {}: {}{place}", DAEMON * 8 + level, event.pool, headline(event))
}
