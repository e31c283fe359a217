//! The plans side by side, as a person reads them.

use std::collections::BTreeMap;

use sieve_core::design::{DesignDisk, Figures, Recommendation, Speed, YEARS_OF_USE};
use sieve_core::forecast::Forecast;
use sieve_core::pool::Price;
use sieve_core::suggest;

use crate::human::{Table, odds, size, style, two_digits, units};

pub(super) fn show(
    disks: &[DesignDisk],
    all: &[Figures],
    shown: &[usize],
    found: Option<&Recommendation>,
    survive: usize,
) {
    show_choice(all, found, survive);
    let listed: Vec<String> = disks.iter().map(|d| format!("{} {}", d.name, size(d.size))).collect();
    crate::say!("\n{} disks: {}\n", disks.len(), suggest::listed(listed.iter().map(String::as_str)));
    show_table(all, shown, found);
    crate::say!(
        "\n  Usable space, and its share of all; how many disks may die with nothing lost; how likely it is to lose anything in a year by disks that fail; what is lost when one more dies, on average and at worst."
    );
    let shown: Vec<&Figures> = shown.iter().map(|position| &all[*position]).collect();
    if shown.iter().any(|f| f.is_for_comparison) {
        crate::say!("  † compared only: this program does not build it");
    }
    if shown.len() < all.len() {
        crate::say!(
            "  beaten in everything by one of these, or compared only: {} more (--all)",
            all.len() - shown.len()
        );
    }
    if shown.iter().any(|f| f.price_per_saved_tb.is_some()) {
        crate::say!(
            "  A saved TB: what each terabyte costs that a plan keeps from being lost, beyond the largest plan that survives less, with disks used for {YEARS_OF_USE:.0} years."
        );
    }
    show_bottlenecks(&shown);
    crate::say!("  Hours are likely ones; if the disks are busy besides, count on 40 % more.");
    show_additions(&shown);
}

fn show_choice(all: &[Figures], found: Option<&Recommendation>, survive: usize) {
    match found {
        Some(r) => {
            let chosen = &all[r.position];
            crate::answer!(
                "{}: {} usable, {} may die with nothing lost",
                style::paint(style::HEAD, format!("Recommended: {}", chosen.name)),
                size(chosen.plan.usable),
                units::disks(chosen.survives as u64)
            );
            r.reasons.iter().for_each(|reason| crate::say!("  - {reason}"));
        }
        None => crate::answer!(
            "{}",
            style::paint(style::WATCH, format!("No plan survives the loss of {survive} disks."))
        ),
    }
}

/// The plans side by side.
fn show_table(all: &[Figures], shown: &[usize], found: Option<&Recommendation>) {
    let mut table = Table::new(&[
        "",
        "plan",
        ">usable",
        "???>of raw",
        ">may die",
        "?>loss a year",
        "?>loses",
        "??>worst",
        ">writes",
        "??>reads",
        ">sync",
        ">rebuild",
        "?>per TB",
        "??>a saved TB",
    ]);
    for (position, f) in shown.iter().map(|position| (*position, &all[*position])) {
        let chosen = found.is_some_and(|r| r.position == position);
        let percent = |share: f64| format!("{:.0} %", share * 100.0);
        let style = match (chosen, f.is_for_comparison) {
            (true, _) => style::WELL,
            (false, true) => style::FAINT,
            (false, false) => anstyle::Style::new(),
        };
        let cells = [
            if chosen { "→" } else { "" }.to_string(),
            format!("{}{}", f.name, mark(f)),
            size(f.plan.usable),
            percent(f.share_of_raw),
            f.survives.to_string(),
            odds(f.risk.any_in_a_year).replace("about ", "").replace("less than", "<"),
            percent(f.one_more.average),
            percent(f.one_more.worst),
            speed(&f.write),
            speed(&f.read),
            hours(f.first_sync.as_ref()),
            hours(f.rebuild.as_ref()),
            f.price_per_tb
                .as_ref()
                .map_or("-".into(), |price| format!("{:.0} {}", price.amount(), price.currency)),
            price_of_saving(f.price_per_saved_tb.as_ref()),
        ];
        table.styled_row(cells.map(|cell| (cell, style)));
    }
    table.leave_blanks_out();
    table.print();
}

/// What holds the plans up, each thing once.
fn show_bottlenecks(all: &[&Figures]) {
    let mut held: BTreeMap<(&str, &str), Vec<&str>> = BTreeMap::new();
    for figures in all {
        let causes = (figures.write.bottleneck.as_str(), figures.read.bottleneck.as_str());
        held.entry(causes).or_default().push(&figures.name);
    }
    crate::say!(
        "  Speeds are one client's, with large files; in brackets what the disks alone would do. What holds them up:"
    );
    let everything = held.len() == 1;
    for ((write, read), plans) in held {
        let who = if everything { "every plan".into() } else { plans.join(", ") };
        match write == read {
            true => crate::say!("    {write}: {who}"),
            false => crate::say!("    {write} (writes), {read} (reads): {who}"),
        }
    }
}

/// What arrives; where the network holds it up, in brackets what the disks alone would do, in the same unit.
fn speed(speed: &Speed) -> String {
    let told = units::rate(speed.rate);
    match (speed.rate == speed.disks, told.split_once(' ')) {
        (false, Some((_, unit))) => {
            let disks = units::rate(speed.disks);
            format!("{told} ({})", disks.strip_suffix(&format!(" {unit}")).unwrap_or(&disks))
        }
        _ => told,
    }
}

/// To two digits: it rests on prices that change and on rates of failure that are rounded.
fn price_of_saving(price: Option<&Price>) -> String {
    const BEYOND_ANY_FILE: f64 = 1e6;
    match price {
        None => "-".into(),
        Some(price) if price.amount() > BEYOND_ANY_FILE => format!("> 1 million {}", price.currency),
        Some(price) => format!("{} {}", two_digits(price.amount()), price.currency),
    }
}

fn hours(forecast: Option<&Forecast>) -> String {
    match forecast.map(|f| f.likely) {
        None => "-".into(),
        Some(likely) if likely.hours() >= 2.0 => format!("{:.0} h", likely.hours()),
        Some(likely) => likely.to_string(),
    }
}

const fn mark(figures: &Figures) -> &'static str {
    if figures.is_for_comparison { " †" } else { "" }
}

fn show_additions(all: &[&Figures]) {
    let Some(sizes) = all.first().map(|f| f.additions.len()).filter(|n| *n > 0) else { return };
    for number in 0..sizes {
        let added = all[0].additions[number].size;
        style::heading(&format!("One more disk of {} would bring", size(added)));
        let mut table = Table::new(&["plan", ">more space", ""]);
        for f in all.iter().filter(|f| f.plan.caches().next().is_none()) {
            let addition = &f.additions[number];
            let condition = addition.condition.clone().unwrap_or_default();
            table.row([f.name.clone(), size(addition.gain), condition]);
        }
        table.print();
    }
}
