#![no_main]
//! Files that end in `.xlsx`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("xlsx", data));
