#![no_main]
//! Job files.

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        if let Ok(file) =
            numerant_engine::job::JobFile::parse(text, std::path::Path::new("job.toml"), &[])
        {
            let _ = file.check();
        }
    }
});
