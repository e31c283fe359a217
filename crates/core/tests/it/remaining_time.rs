//! Guards against a remaining time that cannot be believed.

use crate::simulated_pass::{TB, disk, mixed, worst_errors};
use proptest::prelude::*;
use sieve_core::forecast::Pass;

#[test]
fn the_rest_of_a_pass_over_mixed_disks_is_told_within_a_seventh_at_every_moment() {
    let (pass, truth) = mixed();
    let (worst, plain) = worst_errors(&pass, &truth);
    assert!(worst < 0.15, "{worst}");
    assert!(plain > 2.0 * worst, "a plain average is off by {plain}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn whatever_the_disks(
        shapes in prop::collection::vec((1..20u64, 60e6..300e6_f64, 0.3..0.9_f64, 0.92..1.08_f64), 1..6),
    ) {
        let disks = shapes.iter().map(|(size, outer, inner, _)| disk(size * TB, *outer, *inner)).collect();
        let truth: Vec<f64> = shapes.iter().map(|shape| shape.3).collect();
        let (worst, _) = worst_errors(&Pass { disks, ..Pass::default() }, &truth);
        prop_assert!(worst < 0.15, "{}", worst);
    }
}
