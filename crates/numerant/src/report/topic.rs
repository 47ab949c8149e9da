//! The topics of `numerant help`.

use std::io::{self, Write};

use super::table::{Align, Table, terminal_width};
use super::words::{HEADING, wrapped};
use crate::args::{Section, Topic};

/// The width of terms, in characters; longer ones have a line of their own.
const TERM: usize = 30;

/// The width of lines where there is no terminal.
const WIDTH: usize = 100;

/// A topic in full.
pub(super) fn show(out: &mut impl Write, topic: Topic) -> io::Result<()> {
    for section in topic.sections() {
        show_section(out, section)?;
    }
    if topic == Topic::Formats {
        show_formats(out)?;
    }
    for line in wrapped(topic.more(), terminal_width().unwrap_or(WIDTH)) {
        writeln!(out, "{line}")?;
    }
    Ok(())
}

fn show_section(out: &mut impl Write, section: &Section) -> io::Result<()> {
    writeln!(out, "{HEADING}{}{HEADING:#}", section.title)?;
    let room = terminal_width()
        .unwrap_or(WIDTH)
        .min(WIDTH)
        .saturating_sub(TERM + 4);
    for (term, meaning) in section.entries {
        let lines = wrapped(meaning, room.max(20));
        let mut lines = lines.iter();
        if term.chars().count() > TERM {
            writeln!(out, "  {term}")?;
        } else {
            let first = lines.next().map_or("", String::as_str);
            writeln!(out, "  {term:<TERM$}  {first}")?;
        }
        for line in lines {
            writeln!(out, "  {:TERM$}  {line}", "")?;
        }
    }
    writeln!(out)
}

fn show_formats(out: &mut impl Write) -> io::Result<()> {
    let columns = [
        ("format", Align::Left),
        ("reads", Align::Left),
        ("writes", Align::Left),
    ];
    let mut table = Table::new(2, &columns);
    let listed = |extensions: &[&str]| {
        let dotted: Vec<String> = extensions
            .iter()
            .map(|extension| format!(".{extension}"))
            .collect();
        dotted.join(" ")
    };
    for format in numerant_formats::FORMATS {
        table.row(&[
            format.name().to_owned(),
            listed(format.read()),
            listed(format.written()),
        ]);
    }
    table.show(out)?;
    writeln!(out)
}
