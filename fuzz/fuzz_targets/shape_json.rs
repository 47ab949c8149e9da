#![no_main]
//! Shapes in json.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::shape("json", data));
