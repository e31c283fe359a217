//! `measure`: real copies into each landing and back.

use sieve_actions::measure::landings as measure;
use sieve_actions::measure::landings::Figures;
use sieve_core::units::ByteLength;
use sieve_disk::Result;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, size, units};
use crate::progress::Bars;
use crate::{json, load};

json::list!("measure", Measured { landings: Figures });

pub(crate) fn run(context: &Context, amount: ByteLength, volume: Option<&str>) -> Result<Outcome> {
    let mut pool = load::pool(&context.pool)?;
    sieve_actions::begin_long(&mut pool, "measure")?;
    let volume = pool.volume(volume)?;
    let bars = Bars::new();
    let measured = measure::measure(&pool, &volume, amount, &bars)?;
    drop(bars);
    if context.json {
        json::print(&Measured { landings: &measured })?;
    } else {
        show(&measured, amount);
    }
    Ok(Outcome::Fine)
}

fn show(measured: &[Figures], amount: ByteLength) {
    crate::say!("{} to each landing and back, made durable; nothing of it stays:\n", size(amount));
    let mut table = Table::new(&["landing", "disk", ">in", ">back"]);
    for figures in measured {
        table.row([
            figures.landing.word().into(),
            figures.disk.clone(),
            units::rate(figures.write),
            units::rate(figures.read),
        ]);
    }
    table.print();
    crate::say!("\n`zinc-sieve ingest` takes these figures from now on.");
}
