//! The floor of reading a document: a bare parse that looks at no value. `bare json FILE` and
//! `bare xml FILE` print the seconds that it takes, without reading the file.

use std::fs;
use std::io::{self, Write};
use std::time::Instant;

use quick_xml::events::Event;
use serde::de::IgnoredAny;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let words: Vec<String> = std::env::args().collect();
    let [_, format, path] = &words[..] else {
        return Err("say: bare json FILE, or bare xml FILE".into());
    };
    let text = fs::read_to_string(path)?;
    let start = Instant::now();
    let mut count = 0_u64;
    if format == "json" {
        for value in serde_json::Deserializer::from_str(&text).into_iter::<IgnoredAny>() {
            value?;
            count += 1;
        }
    } else {
        let mut reader = quick_xml::Reader::from_str(&text);
        while !matches!(reader.read_event()?, Event::Eof) {
            count += 1;
        }
    }
    let seconds = start.elapsed().as_secs_f64();
    writeln!(io::stdout(), "{seconds:.4} {count}")?;
    Ok(())
}
