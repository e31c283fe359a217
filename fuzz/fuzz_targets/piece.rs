#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| sieve_testkit::hostile::piece_of_any_bytes(bytes));
