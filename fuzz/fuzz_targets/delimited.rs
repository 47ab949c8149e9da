#![no_main]
//! Files that end in `.csv`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("csv", data));
