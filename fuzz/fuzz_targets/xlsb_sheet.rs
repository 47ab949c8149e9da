#![no_main]
//! The part `xl/worksheets/sheet1.bin` of a package.

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let package = include_bytes!("../../crates/numerant-engine/tests/books/calls.xlsb");
    numerant_fuzz::read_part("xlsb", package, "xl/worksheets/sheet1.bin", data);
});
