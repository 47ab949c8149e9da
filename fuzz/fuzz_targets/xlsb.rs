#![no_main]
//! Files that end in `.xlsb`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("xlsb", data));
