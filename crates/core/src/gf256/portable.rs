//! Sums of products with nothing but the language: for processors without a kernel, and for the last bytes.

use super::reference::mul_add;
use super::start::Start;

/// Bytes that are worked on at once, so that they stay in the first-level cache for all targets.
const BLOCK: usize = 4096;

/// Computes the bytes from `from` on.
pub(super) fn combine(
    targets: &mut [&mut [u8]],
    sources: &[&[u8]],
    factors: &[&[u8]],
    start: Start,
    from: usize,
) {
    let length = targets[0].len();
    for begin in (from..length).step_by(BLOCK) {
        let block = begin..length.min(begin + BLOCK);
        if start == Start::Zero {
            targets.iter_mut().for_each(|target| target[block.clone()].fill(0));
        }
        for (position, source) in sources.iter().enumerate() {
            for (target, row) in targets.iter_mut().zip(factors) {
                mul_add(&mut target[block.clone()], &source[block.clone()], row[position]);
            }
        }
    }
}
