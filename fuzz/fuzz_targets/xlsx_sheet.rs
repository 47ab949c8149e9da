#![no_main]
//! The part `xl/worksheets/sheet1.xml` of a package.

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let package = include_bytes!("../../crates/numerant-engine/tests/books/port.xlsx");
    numerant_fuzz::read_part("xlsx", package, "xl/worksheets/sheet1.xml", data);
});
