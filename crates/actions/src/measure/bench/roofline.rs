//! The plainest thing that touches the same bytes: one pass that adds all sources up in registers.

/// Bytes in a column: what is added up in registers before it is written.
const COLUMN: usize = 256;

/// Makes `target` the sum (exclusive or) of all sources, as fast as plain code does it on this processor.
#[cfg_attr(
    target_arch = "x86_64",
    expect(unsafe_code, reason = "calls code that is compiled for what was detected just before")
)]
pub(super) fn add_up(target: &mut [u8], sources: &[&[u8]]) {
    #[cfg(target_arch = "x86_64")]
    {
        if is_x86_feature_detected!("avx512f") && is_x86_feature_detected!("avx512bw") {
            // SAFETY: the instructions were just detected.
            return unsafe { with_avx512(target, sources) };
        }
        if is_x86_feature_detected!("avx2") {
            // SAFETY: the instructions were just detected.
            return unsafe { with_avx2(target, sources) };
        }
    }
    plain(target, sources);
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx512f,avx512bw")]
fn with_avx512(target: &mut [u8], sources: &[&[u8]]) {
    plain(target, sources);
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn with_avx2(target: &mut [u8], sources: &[&[u8]]) {
    plain(target, sources);
}

#[inline(always)]
fn plain(target: &mut [u8], sources: &[&[u8]]) {
    let (columns, _) = target.as_chunks_mut::<COLUMN>();
    for (position, column) in columns.iter_mut().enumerate() {
        let mut sum = [0; COLUMN];
        for source in sources {
            let piece: &[u8; COLUMN] =
                source[position * COLUMN..].first_chunk().expect("sources are as long as the target");
            for (sum, byte) in sum.iter_mut().zip(piece) {
                *sum ^= byte;
            }
        }
        *column = sum;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_level_adds_up() {
        let sources: Vec<Vec<u8>> = (1..=5u8).map(|s| (0..512u32).map(|i| (i as u8) ^ s).collect()).collect();
        let views: Vec<&[u8]> = sources.iter().map(Vec::as_slice).collect();
        let (mut found, mut expected) = (vec![9; 512], vec![9; 512]);
        plain(&mut expected, &views);
        add_up(&mut found, &views);
        assert_eq!(found, expected);
        assert_eq!(found[7], 7 ^ 1 ^ 2 ^ 3 ^ 4 ^ 5);
    }
}
