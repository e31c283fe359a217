//! `bench`: what this machine's processor and memory allow.

use std::time::Duration;

use sieve_core::gf256::Kernel;
use sieve_core::units::Rate;
use sieve_store::bench::{CodeFigures, Shape, code_figures};
use sieve_store::{Error, Kind, Result};

use super::Context;
use crate::exit::Outcome;
use crate::human::Table;
use crate::json;

pub(super) fn run(context: &Context, kernel: Option<&str>, quick: bool) -> Result<Outcome> {
    let kernels = match kernel {
        Some(name) => vec![Kernel::named(name).ok_or_else(|| unknown(name))?],
        None => Kernel::available(),
    };
    let time = Duration::from_millis(if quick { 1 } else { 100 });
    let figures: Vec<CodeFigures> =
        kernels.into_iter().map(|kernel| code_figures(kernel, Shape { time, ..Shape::default() })).collect();
    if context.json {
        json::print(&figures)?;
    } else {
        show(&figures);
    }
    Ok(Outcome::Fine)
}

fn unknown(name: &str) -> Error {
    let there: Vec<&str> = Kernel::available().into_iter().map(Kernel::name).collect();
    Error::new(Kind::Usage, "bench.kernel", format!("this processor has no kernel `{name}`"))
        .remedy(format!("one of these: {}", there.join(", ")))
}

fn show(figures: &[CodeFigures]) {
    anstream::println!(
        "The erasure code in memory, 8 data disks, blocks of 256 KiB, one thread: bytes of data per second, and as a share\nof the roofline, a plain sum of the same bytes in registers.\n"
    );
    let mut table =
        Table::new(&["kernel", ">roofline", ">1 parity", ">2", ">4", ">8", ">two lost back", ">update of 2"]);
    for figures in figures {
        let shown = |rate: Rate| {
            format!("{rate} ({:.2})", rate.per_second() / figures.roofline.per_second().max(1.0))
        };
        let encode =
            |parities: usize| figures.encode.get(parities - 1).map_or("-".into(), |rate| shown(*rate));
        table.row([
            figures.kernel.to_string(),
            figures.roofline.to_string(),
            encode(1),
            encode(2),
            encode(4),
            encode(8),
            shown(figures.reconstruct_two),
            figures.update_two.to_string(),
        ]);
    }
    table.print();
    anstream::println!("\nThe last one is used: {}.", Kernel::best().name());
}
