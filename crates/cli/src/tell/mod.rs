//! Telling somebody of a notice, by the ways that the pool file names.
//!
//! A way that fails is told so, tried again the next time, and never stops the work. No error carries a password, nor the path
//! of an address, in which there may be one.

mod command;
mod mail;
mod post;
mod system_log;

use sieve_core::notice::{Event, Moment};
use sieve_core::pool::{Channel, ChannelSpec};

/// Why somebody could not be told, in words.
pub(crate) type Failure = String;

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
    serde_json::to_string(event).map_err(|e| format!("it cannot be written as JSON: {e}"))
}

/// What it is about, in a line: names on a disk may hold anything, and a line is one.
pub(crate) fn headline(event: &Event) -> String {
    let moment = match event.moment {
        Moment::Begins => String::new(),
        Moment::GoesOn => "still: ".into(),
        Moment::Ends => "over: ".into(),
        Moment::Test => "a test: ".into(),
    };
    let text = format!("{moment}{}", event.condition.text);
    sieve_core::path::shown(text.as_bytes())
}

/// Where a disk is, for whoever goes to the case.
pub(crate) fn place(event: &Event) -> Option<String> {
    let condition = &event.condition;
    let disk = condition.disk.as_ref()?;
    let bay = condition.bay.as_ref().map_or(String::new(), |bay| format!(", bay {bay}"));
    let serial = condition.serial_tail.as_ref().map_or(String::new(), |tail| format!(", serial …{tail}"));
    Some(format!("{disk}{bay}{serial}"))
}
