#![no_main]
//! Files that end in `.json`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("json", data));
