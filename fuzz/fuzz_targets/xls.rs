#![no_main]
//! Files that end in `.xls`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("xls", data));
