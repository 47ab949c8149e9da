#![no_main]
//! Files that end in `.marcxml`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("marcxml", data));
