#![no_main]
//! Shapes in xml.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::shape("xml", data));
