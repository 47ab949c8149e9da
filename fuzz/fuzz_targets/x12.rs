#![no_main]
//! Files that end in `.x12`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("x12", data));
