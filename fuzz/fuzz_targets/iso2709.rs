#![no_main]
//! Files that end in `.mrc`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("mrc", data));
