//! How an event is said, whichever way it goes.

use sieve_core::notice::{Event, Moment};

/// Why somebody could not be told, in words.
pub(crate) type Failure = String;

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
