#![no_main]
//! Files that end in `.xml`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("xml", data));
