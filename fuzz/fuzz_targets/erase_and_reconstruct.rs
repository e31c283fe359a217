#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| sieve_testkit::hostile::what_is_erased_comes_back(bytes));
