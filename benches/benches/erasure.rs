//! The erasure code beside the roofline, and beside two packages for general use, all in one run: rates in bytes of
//! data per second, and ratios. `cargo test` makes it small.

use std::time::Duration;

use reed_solomon_erasure::galois_8::ReedSolomon;
use sieve_actions::measure::bench::{Lanes, Shape, best_rates, code_figures};
use sieve_core::code::Encoder;
use sieve_core::gf256::Kernel;
use sieve_core::units::{ParityIndex, Rate, Slot};

fn main() {
    let is_measured = std::env::args().any(|argument| argument == "--bench");
    let time = Duration::from_millis(if is_measured { 400 } else { 1 });
    for block in [64 << 10, 256 << 10, 1 << 20] {
        for kernel in Kernel::available() {
            show(kernel, Shape { time, block, ..Shape::default() });
        }
    }
    for kernel in Kernel::available() {
        beside_others(kernel, time);
    }
    two_threads(time);
}

fn ratio(rate: Rate, of: Rate) -> f64 {
    rate.per_second() / of.per_second()
}

fn show(kernel: Kernel, shape: Shape) {
    let figures = code_figures(kernel, shape);
    let each: Vec<String> = (1..)
        .zip(&figures.encode)
        .map(|(p, rate)| format!("p={p} {:.2}", ratio(*rate, figures.roofline)))
        .collect();
    println!(
        "{:>8} {:>4} KiB: roofline {:.1} GB/s; of it: {}; two lanes back {:.2} of p=2; update {:.1} GB/s",
        figures.kernel,
        shape.block >> 10,
        figures.roofline.per_second() / 1e9,
        each.join(", "),
        ratio(figures.reconstruct_two, figures.encode[1]),
        figures.update_two.per_second() / 1e9,
    );
}

/// Encoding 8 lanes of 256 KiB by this code and by two others, in turns: theirs in vectors as they come, ours where
/// our pipelines put them.
fn beside_others(kernel: Kernel, time: Duration) {
    const LANES: usize = 8;
    const BLOCK: usize = 256 << 10;
    let data = Lanes::filled(LANES, BLOCK);
    let lanes = data.all();
    let vectors: Vec<Vec<u8>> = lanes.iter().map(|lane| lane.to_vec()).collect();
    let slots: Vec<Slot> = (0..LANES as u8).map(Slot::new).collect();
    for parities in [1, 2, 4, 8] {
        let indices: Vec<ParityIndex> = (0..parities as u8).map(ParityIndex::new).collect();
        let encoder = Encoder::new(kernel, &indices, &slots);
        let general = ReedSolomon::new(LANES, parities).expect("a valid shape");
        let (mut ours, mut theirs) = (Lanes::filled(parities, BLOCK), vec![vec![0; BLOCK]; parities]);
        let mut by_us = || encoder.encode(&mut ours.all_mut(), &lanes);
        let mut by_erasure = || general.encode_sep(&vectors, &mut theirs).expect("buffers of one length");
        let mut by_simd = || {
            let computed = reed_solomon_simd::encode(LANES, parities, &vectors).expect("a valid shape");
            std::hint::black_box(computed);
        };
        let ways: &mut [&mut dyn FnMut()] = &mut [&mut by_us, &mut by_erasure, &mut by_simd];
        let rates = best_rates((LANES * BLOCK) as u64, 3 * time, ways);
        println!(
            "{:>8} p={parities}: {:.1} GB/s, {:.1} x reed-solomon-erasure, {:.1} x reed-solomon-simd",
            kernel.name(),
            rates[0].per_second() / 1e9,
            ratio(rates[0], rates[1]),
            ratio(rates[0], rates[2]),
        );
    }
}

/// The same work on one thread and on two, each with buffers of its own.
fn two_threads(time: Duration) {
    const BLOCK: usize = 64 << 10;
    const ROUNDS: usize = 1024;
    let slots: Vec<Slot> = (0..8).map(Slot::new).collect();
    let encoder = Encoder::new(Kernel::best(), &[0, 1].map(ParityIndex::new), &slots);
    let data = [Lanes::filled(8, BLOCK), Lanes::filled(8, BLOCK)];
    let mut parities = [Lanes::filled(2, BLOCK), Lanes::filled(2, BLOCK)];
    let work = |data: &Lanes, parities: &mut Lanes, rounds: usize| {
        let lanes = data.all();
        (0..rounds).for_each(|_| encoder.encode(&mut parities.all_mut(), &lanes));
    };
    let bytes = (8 * BLOCK * ROUNDS) as u64;
    let (mut alone, halves) = (Lanes::filled(2, BLOCK), &mut parities);
    let mut one = || work(&data[0], &mut alone, ROUNDS);
    let mut two = || {
        std::thread::scope(|scope| {
            for (data, parities) in data.iter().zip(halves.iter_mut()) {
                scope.spawn(|| work(data, parities, ROUNDS / 2));
            }
        });
    };
    // Both cores have to be free at once for a good turn of two.
    let rates = best_rates(bytes, 5 * time, &mut [&mut one, &mut two]);
    println!("two threads: {:.2} x one", ratio(rates[1], rates[0]));
}
