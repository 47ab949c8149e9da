//! Numbers, sizes and other words that every report uses.

use std::io::{self, Write};
use std::path::Path;

use anstyle::{AnsiColor, Style};

pub(super) const ERROR: Style = AnsiColor::Red.on_default().bold();
pub(super) const NOTE: Style = AnsiColor::Yellow.on_default().bold();
pub(super) const HINT: Style = AnsiColor::Cyan.on_default().bold();
pub(super) const GOOD: Style = AnsiColor::Green.on_default().bold();
pub(super) const HEADING: Style = Style::new().bold();
pub(super) const FAINT: Style = Style::new().dimmed();

/// `label: text`, with the lines of the text below each other.
pub(super) fn labelled(
    out: &mut impl Write,
    style: Style,
    label: &str,
    text: &str,
) -> io::Result<()> {
    let mut lines = text.lines();
    writeln!(
        out,
        "{style}{label}:{style:#} {}",
        lines.next().unwrap_or_default()
    )?;
    lines.try_for_each(|line| writeln!(out, "       {line}"))
}

/// `1,234,567`.
pub(super) fn number(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::with_capacity(digits.len() + digits.len() / 3);
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// `2.1 MB`, in powers of 1000 as file managers and disks count.
pub(super) fn bytes(bytes: u64) -> String {
    let mut value = bytes as f64;
    for unit in ["B", "kB", "MB", "GB"] {
        if value < 999.5 {
            let digits = usize::from(unit != "B" && value < 99.95);
            return format!("{value:.digits$} {unit}");
        }
        value /= 1000.0;
    }
    format!("{value:.1} TB")
}

/// `1 file`, `7 files`.
pub(crate) fn files(count: u64) -> String {
    counted(count, "file", "files")
}

/// `1 record`, `12,000 records`.
pub(super) fn records(count: u64) -> String {
    counted(count, "record", "records")
}

/// A count with its noun.
pub(super) fn counted(count: u64, one: &str, many: &str) -> String {
    format!("{} {}", number(count), if count == 1 { one } else { many })
}

/// A folder with a `/` behind it.
pub(crate) fn folder(path: &Path) -> String {
    let text = path.display().to_string();
    if text.ends_with('/') {
        text
    } else {
        format!("{text}/")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_sizes() {
        assert_eq!(number(0), "0");
        assert_eq!(number(999), "999");
        assert_eq!(number(1_234_567), "1,234,567");
        for (size, text) in [
            (0, "0 B"),
            (999, "999 B"),
            (1000, "1.0 kB"),
            (99_950, "100 kB"),
            (2_149_000, "2.1 MB"),
            (999_600, "1.0 MB"),
            (1_000_000_000, "1.0 GB"),
        ] {
            assert_eq!(bytes(size), text);
        }
        assert_eq!(
            (files(1), files(2)),
            ("1 file".to_owned(), "2 files".to_owned())
        );
    }
}
