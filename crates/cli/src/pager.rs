//! A screen at a time: on a terminal, what only is read goes through the program that `$PAGER` names, or `less`.

use std::io::{IsTerminal, Write};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};

use crate::signals::Listener;

/// What is asked of `less` where its user asked for nothing: leave at once if it all fits, show colours, leave it on screen.
const LESS: &str = "FRX";

enum State {
    Off,
    /// It begins with the first line.
    Wanted,
    /// The key that interrupts belongs to the pager meanwhile, which is left by its own key: if this program ended by it, the
    /// shell and the pager would read from one terminal.
    On(Child, Option<Listener>),
}

static PAGER: Mutex<State> = Mutex::new(State::Off);

fn state() -> std::sync::MutexGuard<'static, State> {
    PAGER.lock().unwrap_or_else(PoisonError::into_inner)
}

/// From the first line on, where somebody looks at a terminal.
pub(crate) fn begin() {
    if std::io::stdout().is_terminal() {
        *state() = State::Wanted;
    }
}

/// Takes text, if there is a pager; nothing where there is none.
pub(crate) fn write(text: &str) -> Option<std::io::Result<()>> {
    let mut state = state();
    if matches!(*state, State::Wanted) {
        *state = start().map_or(State::Off, |child| State::On(child, Listener::to_the_key().ok()));
    }
    let State::On(child, _) = &mut *state else { return None };
    let input = child.stdin.as_mut()?;
    // The pipe is no terminal, and what is behind it is one.
    let choice = match anstream::AutoStream::choice(&std::io::stdout()) {
        colorchoice::ColorChoice::Never => colorchoice::ColorChoice::Never,
        _ => colorchoice::ColorChoice::AlwaysAnsi,
    };
    Some(anstream::AutoStream::new(input as &mut dyn Write, choice).write_all(text.as_bytes()))
}

/// Waits until it has been read.
pub(crate) fn end() {
    if let State::On(mut child, _listener) = std::mem::replace(&mut *state(), State::Off) {
        drop(child.stdin.take());
        // However it ends, what it was given is shown.
        let _ = child.wait();
    }
}

/// Nothing where there is no such program: the result is printed at once then.
fn start() -> Option<Child> {
    let named = std::env::var("PAGER").unwrap_or_else(|_| "less".into());
    let mut words = named.split_whitespace();
    let mut command = Command::new(words.next()?);
    command.args(words).stdin(Stdio::piped());
    if std::env::var_os("LESS").is_none() {
        command.env("LESS", LESS);
    }
    command.spawn().ok()
}
