//! Progress on stderr, on a terminal only.

use std::cell::RefCell;
use std::io::IsTerminal;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use sieve_store::event::{Event, Observer, Unit};

/// Draws a bar for each stage.
pub(crate) struct Bars {
    current: RefCell<Option<ProgressBar>>,
    shown: bool,
}

impl Bars {
    pub(crate) fn new() -> Self {
        Self { current: RefCell::new(None), shown: std::io::stderr().is_terminal() }
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
                    Unit::Bytes => "{bytes}/{total_bytes} {bytes_per_sec}",
                    Unit::Files => "{pos}/{len} files",
                    Unit::Cells => "{pos}/{len} cells",
                };
                let template = match total {
                    0 => "{msg:>18} {spinner}".to_string(),
                    _ => format!("{{msg:>18}} {{bar:30}} {{percent:>3}} % {amounts} {{eta}}"),
                };
                if let Ok(style) = ProgressStyle::with_template(&template) {
                    bar.set_style(style);
                }
                bar.set_message(name);
                self.current.replace(Some(bar));
            }
            Event::Advanced { by } => {
                if let Some(bar) = self.current.borrow().as_ref() {
                    bar.inc(by);
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
