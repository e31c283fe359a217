//! How far the remaining time is off at most, from 5 % of a pass on: as it is told, and as a plain average would tell it.
//! The disks are simulated, and nothing here depends on how fast this machine is.

#[path = "../tests/it/simulated_pass/mod.rs"]
mod simulated_pass;

use sieve_core::forecast::Pass;
use simulated_pass::{TB, disk, mixed, worst_errors};

fn main() {
    let (pass, truth) = mixed();
    let two = Pass { disks: vec![disk(16 * TB, 270e6, 0.4), disk(4 * TB, 90e6, 0.5)], ..Pass::default() };
    let cases: [(&str, &Pass, &[f64]); 3] = [
        ("four mixed disks, none as fast as was thought", &pass, &truth),
        ("a large disk and a slow small one", &two, &[1.0, 1.0]),
        ("the same, the small one slower than was thought", &two, &[1.0, 0.6]),
    ];
    println!("The worst error of the remaining time, from 5 % of the pass on");
    for (what, pass, truth) in cases {
        let (worst, plain) = worst_errors(pass, truth);
        println!("  {what}: {:.0} %; a plain average {:.0} %", worst * 100.0, plain * 100.0);
        assert!(worst < 0.15, "the remaining time cannot be believed");
    }
}
