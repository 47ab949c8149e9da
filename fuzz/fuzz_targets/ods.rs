#![no_main]
//! Files that end in `.ods`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("ods", data));
