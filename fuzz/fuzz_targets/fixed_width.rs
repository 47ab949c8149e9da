#![no_main]
//! Files of fixed widths, whose fields are detected from blanks.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("fwf", data));
