#![no_main]
//! Files that end in `.jsonl`.

libfuzzer_sys::fuzz_target!(|data: &[u8]| numerant_fuzz::read("jsonl", data));
