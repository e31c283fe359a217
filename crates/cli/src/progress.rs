//! Progress on stderr, on a terminal only.

use std::cell::RefCell;
use std::io::IsTerminal;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use sieve_core::forecast::Duration;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};

use crate::human::size;
use crate::json;
use crate::signals::Listener;

json::named_line!("progress", Event);

/// How often what is drawn moves.
const TICK: std::time::Duration = std::time::Duration::from_millis(250);

/// Draws a bar for each stage.
pub(crate) struct Bars {
    current: RefCell<Option<ProgressBar>>,
    shown: bool,
}

impl Bars {
    pub(crate) fn new() -> Self {
        Self {
            current: RefCell::new(None),
            shown: std::io::stderr().is_terminal() && !crate::output::is_quiet(),
        }
    }

    fn clear(&self) {
        if let Some(bar) = self.current.take() {
            bar.finish_and_clear();
        }
    }
}

impl Observer for Bars {
    fn event(&self, event: Event) {
        if !self.shown {
            return;
        }
        match event {
            Event::Stage { name, total, unit } => {
                // The old bar goes first: it clears the line that the new one is drawn on.
                self.clear();
                let bar = ProgressBar::with_draw_target(Some(total), ProgressDrawTarget::stderr());
                let amounts = match unit {
                    Unit::Bytes => "{bytes} of {total_bytes}, {bytes_per_sec}, {elapsed} so far, {eta} left",
                    Unit::Files => "{pos} of {len} files, {elapsed} so far, {eta} left",
                    // How far it is in bytes, and what is left, is told by those who know the disks.
                    Unit::Cells => "{prefix}",
                };
                let template = match total {
                    0 => "{msg:>18} {spinner} {elapsed} so far".to_string(),
                    _ => format!("{{msg:>18}} {{bar:20}} {{percent:>3}} % {amounts}"),
                };
                if let Ok(style) = ProgressStyle::with_template(&template) {
                    bar.set_style(style);
                }
                // What stands still for a while goes on being counted.
                bar.enable_steady_tick(TICK);
                bar.set_message(name);
                self.current.replace(Some(bar));
            }
            Event::Advanced { by } => {
                if let Some(bar) = self.current.borrow().as_ref() {
                    bar.inc(by);
                }
            }
            Event::Progress { moved_bytes, bytes_per_second, remaining_seconds, elapsed_seconds, .. } => {
                if let Some(bar) = self.current.borrow().as_ref() {
                    bar.set_prefix(format!(
                        "{}, {}/s, {} so far, {} left",
                        size(ByteLength::new(moved_bytes)),
                        size(ByteLength::new(bytes_per_second as u64)),
                        Duration::from_seconds(elapsed_seconds),
                        Duration::from_seconds(remaining_seconds)
                    ));
                }
            }
            Event::Note { text } => {
                if let Some(bar) = self.current.borrow().as_ref() {
                    bar.println(text);
                }
            }
        }
    }
}

impl Drop for Bars {
    fn drop(&mut self) {
        self.clear();
    }
}

/// Who watches a long action: a bar on a terminal, or a program that reads one JSON object a line from stderr.
pub(crate) struct Watch {
    face: Face,
    /// Who listens to signals, from [`Self::begin`] on.
    stop: Option<Listener>,
}

enum Face {
    Bars(Bars),
    Lines,
}

impl Watch {
    /// Somebody who looks on while it is planned.
    pub(crate) fn new(events: bool) -> Self {
        Self { face: if events { Face::Lines } else { Face::Bars(Bars::new()) }, stop: None }
    }

    /// Somebody who looks on while it is done, and asks it to stop when a signal says so.
    ///
    /// # Errors
    /// When signals cannot be taken.
    pub(crate) fn begin(events: bool) -> Result<Self> {
        Ok(Self { stop: Some(Listener::begin()?), ..Self::new(events) })
    }
}

/// A wait that nobody can measure, until it is dropped: it is told what is worked out, and for how long so far.
pub(crate) fn thinking(what: &'static str) -> Watch {
    let watch = Watch::new(false);
    watch.event(Event::Stage { name: what, total: 0, unit: Unit::Files });
    watch
}

impl Observer for Watch {
    fn event(&self, event: Event) {
        log(&event);
        match &self.face {
            Face::Bars(bars) => bars.event(event),
            Face::Lines => {
                if let Ok(line) = json::text(&event) {
                    crate::output::record_aside(&line);
                }
            }
        }
    }

    fn is_stopped(&self) -> bool {
        self.stop.as_ref().is_some_and(Listener::is_asked_to_stop)
    }
}

/// What is worth a line in a log.
fn log(event: &Event) {
    match event {
        Event::Stage { name, total, unit } => tracing::info!(total, ?unit, "{name}"),
        Event::Note { text } => tracing::warn!("{text}"),
        Event::Advanced { .. } | Event::Progress { .. } => tracing::trace!(?event),
    }
}
