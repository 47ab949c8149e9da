#![no_main]
//! Files that end in `.edifact`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("edifact", data));
