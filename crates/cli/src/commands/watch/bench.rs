//! `bench`: what this machine's processor and memory allow.

use std::time::Duration;

use clap::Args;
use sieve_actions::measure::bench::{CodeFigures, PoolFigures, Shape, code_figures, pool_figures};
use sieve_core::gf256::Kernel;
use sieve_core::units::{ByteLength, Rate};
use sieve_disk::{Error, Kind, Result};

use crate::commands::context::Context;
use crate::commands::watch::work::{self, WorkArguments};
use crate::exit::Outcome;
use crate::human::{Table, size, units};
use crate::progress::thinking;
use crate::{json, load};

json::list!("bench", Bench { kernels: CodeFigures });
json::named!("bench-disks", PoolFigures);

/// What is measured.
#[derive(Args)]
pub(crate) struct BenchArguments {
    /// Measure the disks of the pool, one at a time and all at once; they are only read
    #[arg(long, conflicts_with = "kernel")]
    pub(crate) read_disks: bool,
    /// How much is read of each disk
    #[arg(long, value_name = "SIZE", default_value = "256 MB", requires = "read_disks", value_parser = ByteLength::parse)]
    pub(crate) amount: ByteLength,
    /// Only this set of instructions
    #[arg(long, value_name = "NAME")]
    pub(crate) kernel: Option<String>,
    /// Measure for a moment only: to see that it works
    #[arg(long, hide = true)]
    pub(crate) quick: bool,
    #[command(flatten)]
    pub(crate) work: WorkArguments,
}

pub(crate) fn run(context: &Context, arguments: &BenchArguments) -> Result<Outcome> {
    match arguments {
        BenchArguments { work, .. } if work.work => work::run(context, work),
        BenchArguments { read_disks: true, amount, .. } => disks(context, *amount),
        BenchArguments { kernel, quick, .. } => machine(context, kernel.as_deref(), *quick),
    }
}

fn machine(context: &Context, kernel: Option<&str>, quick: bool) -> Result<Outcome> {
    let kernels = match kernel {
        Some(name) => vec![Kernel::named(name).ok_or_else(|| unknown(name))?],
        None => Kernel::available(),
    };
    let time = Duration::from_millis(if quick { 1 } else { 100 });
    let thinking = thinking("timing the code");
    let figures: Vec<CodeFigures> =
        kernels.into_iter().map(|kernel| code_figures(kernel, Shape { time, ..Shape::default() })).collect();
    drop(thinking);
    if context.json {
        json::print(&Bench { kernels: &figures })?;
    } else {
        show(&figures);
    }
    Ok(Outcome::Fine)
}

/// How fast the disks of the pool are read.
fn disks(context: &Context, amount: ByteLength) -> Result<Outcome> {
    let pool = load::pool(&context.pool)?;
    let thinking = thinking("reading the disks");
    let figures = pool_figures(&pool, amount)?;
    drop(thinking);
    if context.json {
        json::print(&figures)?;
    } else {
        show_disks(&figures);
    }
    Ok(Outcome::Fine)
}

fn show_disks(figures: &PoolFigures) {
    crate::say!("Read from the disks, as far as the system does not have it in memory:\n");
    let mut table = Table::new(&["disk", "?role", ">read", ">alone", ">all at once"]);
    let shown = |rate: Option<Rate>| rate.map_or("-".into(), units::rate);
    for disk in &figures.disks {
        table.row([
            disk.disk.clone(),
            disk.role.word().into(),
            size(disk.sample),
            shown(disk.alone),
            shown(disk.together),
        ]);
    }
    table.print();
    let sum: f64 = figures.disks.iter().filter_map(|disk| disk.together).map(Rate::per_second).sum();
    crate::say!(
        "\nAll disks together {}; the processor checksums {} with one thread and {} with all.",
        units::rate(Rate::from_per_second(sum)),
        units::rate(figures.hash_one),
        units::rate(figures.hash_all)
    );
    let holder = if sum > figures.hash_all.per_second() { "the processor" } else { "the disks" };
    crate::say!("A pass over all disks is held up by {holder}.");
}

fn unknown(name: &str) -> Error {
    let there: Vec<&str> = Kernel::available().into_iter().map(Kernel::name).collect();
    Error::new(Kind::Usage, "bench.kernel", format!("this processor has no kernel `{name}`"))
        .remedy(format!("one of these: {}", there.join(", ")))
}

fn show(figures: &[CodeFigures]) {
    crate::say!(
        "The erasure code in memory, 8 data disks, blocks of 256 KiB, one thread: bytes of data per second, and as a share\nof the roofline, a plain sum of the same bytes in registers.\n"
    );
    let mut table = Table::new(&[
        "kernel",
        ">roofline",
        ">1 parity",
        ">2",
        "?>4",
        "?>8",
        ">two lost back",
        "?>update of 2",
    ]);
    for figures in figures {
        let shown = |rate: Rate| {
            format!(
                "{} ({:.2})",
                units::rate(rate),
                rate.per_second() / figures.roofline.per_second().max(1.0)
            )
        };
        let encode =
            |parities: usize| figures.encode.get(parities - 1).map_or("-".into(), |rate| shown(*rate));
        table.row([
            figures.kernel.to_string(),
            units::rate(figures.roofline),
            encode(1),
            encode(2),
            encode(4),
            encode(8),
            shown(figures.reconstruct_two),
            units::rate(figures.update_two),
        ]);
    }
    table.print();
    crate::say!("\nThe last one is used: {}.", Kernel::best().name());
}
