//! Telling somebody of a notice, by the ways that the pool file names.
//!
//! A way that fails is told so, tried again the next time, and never stops the work. No error carries a password, nor the path
//! of an address, in which there may be one.

mod command;
mod mail;
mod post;
mod system_log;
mod words;

use sieve_core::notice::Event;
use sieve_core::pool::{Channel, ChannelSpec};

use crate::json;

json::named_line!("notice-event", Event);

pub(crate) use words::{Failure, headline, place};

/// Tells one event by one way.
///
/// # Errors
/// Why it could not be told.
pub(crate) fn tell(channel: &ChannelSpec, event: &Event) -> Result<(), Failure> {
    match &channel.channel {
        Channel::Command { command } => command::tell(command, &document(event)?),
        Channel::Mail { .. } => mail::tell(&channel.channel, event),
        Channel::Post { url } => post::tell(url, &document(event)?),
        Channel::SystemLog => system_log::tell(event),
    }
}

/// An event as JSON.
fn document(event: &Event) -> Result<String, Failure> {
    json::text(event).map_err(|e| e.message)
}
