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
}

impl Observer for Bars {
    fn event(&self, event: Event) {
        if !self.shown {
            return;
        }
        match event {
            Event::Stage { name, total, unit } => {
                let bar = ProgressBar::with_draw_target(Some(total), ProgressDrawTarget::stderr());
                let amounts = match unit {
                    Unit::Bytes => "{bytes}/{total_bytes} {bytes_per_sec}",
                    Unit::Files => "{pos}/{len} files",
                    Unit::Cells => "{pos}/{len} cells",
                };
                let template = format!("{{msg:>18}} {{bar:30}} {{percent:>3}} % {amounts} {{eta}}");
                if let Ok(style) = ProgressStyle::with_template(&template) {
                    bar.set_style(style);
                }
                bar.set_message(name);
                if let Some(old) = self.current.replace(Some(bar)) {
                    old.finish_and_clear();
                }
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
        if let Some(bar) = self.current.take() {
            bar.finish_and_clear();
        }
    }
}
