#![no_main]
//! Values in MARC-8.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::marc8(data));
