#![no_main]
//! Name templates, keys, and patterns of names.

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = text.parse::<numerant_naming::Template>();
        let _ = numerant_naming::parse_keys(text);
        if let Ok(pattern) = text.parse::<numerant_naming::NamePattern>() {
            let _ = pattern.read(std::path::Path::new("in/V03_2026_level__x.tsv"));
        }
    }
});
