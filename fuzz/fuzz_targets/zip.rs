#![no_main]
//! Files that end in `.zip`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("zip", data));
