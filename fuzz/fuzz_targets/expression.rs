#![no_main]
//! Expressions.

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = text.parse::<numerant_steps::expr::Expression>();
    }
});
