//! Numbers, sizes and other words that every report uses.

use std::io::{self, Write};
use std::path::Path;

use numerant_data::value::{Number, grouped};
use numerant_engine::ledger::Ledger;
use unicode_width::UnicodeWidthStr;

use super::screen::Mark;

pub(super) const ERROR: Mark = Mark::Red;
pub(super) const NOTE: Mark = Mark::Yellow;
pub(super) const HINT: Mark = Mark::Cyan;
pub(super) const BAD: Mark = Mark::Red;
pub(super) const GOOD: Mark = Mark::Green;
pub(super) const HEADING: Mark = Mark::Bold;
pub(super) const FAINT: Mark = Mark::Faint;

/// `label: text` on standard error, wrapped between words to the width of its terminal.
pub(super) fn labelled(
    out: &mut impl Write,
    style: Mark,
    label: &str,
    text: &str,
) -> io::Result<()> {
    let room = terminal_size::terminal_size_of(io::stderr()).map_or(usize::MAX, |(width, _)| {
        usize::from(width.0).max(40) - INDENT.len()
    });
    // A line end in a name is no end of a line here.
    let lines = wrapped(&text.replace('\n', "⏎"), room);
    let mut lines = lines.iter();
    let first = lines.next().map_or("", String::as_str);
    writeln!(out, "{style}{label}:{style:#} {first}")?;
    lines.try_for_each(|line| writeln!(out, "{INDENT}{line}"))
}

/// A line that begins with `begin`, whose text goes on below it, indented by `indent`, where the terminal has no room.
pub(super) fn folded(
    out: &mut impl Write,
    begin: &str,
    indent: usize,
    text: &str,
) -> io::Result<()> {
    let width = super::table::terminal_width().unwrap_or(usize::MAX);
    let room = width.saturating_sub(indent).max(20);
    let lines = wrapped(&super::table::visible(text), room);
    let mut lines = lines.iter();
    let first = lines.next().map_or("", String::as_str);
    writeln!(out, "{begin}{first}")?;
    lines.try_for_each(|line| writeln!(out, "{:indent$}{line}", ""))
}

/// Stands before all lines but the first of a labelled text.
const INDENT: &str = "       ";

/// The text in lines of at most `room` columns, as far as its words let it.
pub(super) fn wrapped(text: &str, room: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    let mut used = 0;
    for word in text.split(' ') {
        let width = word.width();
        if used > 0 && used + 1 + width > room {
            lines.push(String::new());
            used = 0;
        }
        let line = lines.last_mut().expect("one at least");
        if used > 0 {
            line.push(' ');
            used += 1;
        }
        line.push_str(word);
        used += width;
    }
    lines
}

/// `1,234,567`.
pub(super) fn number(number: u64) -> String {
    grouped(&number.to_string())
}

/// `1,234,567.50`, with all digits that there are.
pub(super) fn decimal(number: Number) -> String {
    grouped(&number.to_string())
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

/// Where outputs are: `in parts/`, or `on standard output`.
pub(super) fn location(path: &Path) -> String {
    if path == Path::new("-") {
        "on standard output".to_owned()
    } else {
        format!("in {}", folder(path))
    }
}

/// A folder with a `/` after it.
pub(crate) fn folder(path: &Path) -> String {
    let text = path.display().to_string();
    let archive = path.extension().is_some_and(|extension| extension == "zip");
    if archive || text.ends_with('/') {
        text
    } else {
        format!("{text}/")
    }
}

/// The books of a run on one line.
pub(super) fn books(ledger: &Ledger) -> String {
    let totals = &ledger.totals;
    let mut text = format!("{} read = {} written", totals.read, totals.written);
    for (count, what) in [(totals.left_out, "left out"), (totals.rejected, "rejected")] {
        if count > 0 {
            text.push_str(&format!(" + {count} {what}"));
        }
    }
    if !ledger.failed.is_empty() {
        text.push_str(&format!(", {} failed", ledger.failed.len()));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_wrapped_between_words() {
        assert_eq!(wrapped("a bb ccc", 4), ["a bb", "ccc"]);
        assert_eq!(wrapped("Ångkajen is long", 5), ["Ångkajen", "is", "long"]);
        assert_eq!(wrapped("all of it", usize::MAX), ["all of it"]);
    }

    #[test]
    fn numbers_and_sizes() {
        assert_eq!(number(0), "0");
        assert_eq!(number(999), "999");
        assert_eq!(number(1_234_567), "1,234,567");
        let shown = |text: &str| decimal(text.parse().expect(text));
        assert_eq!(shown("-1234567.50"), "-1,234,567.50");
        assert_eq!(shown("12"), "12");
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
