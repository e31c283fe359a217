//! Replays what the fuzz targets (fuzz/) are fed with, and what they once found.
#![allow(clippy::unwrap_used, reason = "a test may fail")]

use std::fs;
use std::path::Path;

use sieve_testkit::hostile::TARGETS;

#[test]
fn the_corpus_does_no_harm() {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus");
    for (name, target) in TARGETS {
        let mut files: Vec<_> = fs::read_dir(corpus.join(name)).unwrap().map(|e| e.unwrap().path()).collect();
        files.sort();
        assert!(files.len() >= 3, "{name} has a corpus");
        for file in files {
            let bytes = fs::read(&file).unwrap();
            target(&bytes);
            // Cut short, and with each bit of some bytes flipped, it does no harm either.
            target(&bytes[..bytes.len() / 2]);
            let step = (bytes.len() / 40).max(1);
            for at in (0..bytes.len()).step_by(step) {
                let mut flipped = bytes.clone();
                flipped[at] ^= 1 << (at % 8);
                target(&flipped);
            }
        }
    }
}
