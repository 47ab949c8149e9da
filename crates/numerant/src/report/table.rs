//! Aligned tables.

use std::io::{self, Write};

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use super::screen::is_unsafe;
use super::words::HEADING;

/// Where the text of a column stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Align {
    Left,
    Right,
}

/// A table with a heading.
#[derive(Debug)]
pub(super) struct Table {
    columns: Vec<(String, Align)>,
    rows: Vec<Vec<String>>,
    /// Lines that are between rows: the number of rows before each.
    notes: Vec<(usize, String)>,
    indent: usize,
}

impl Table {
    pub(super) fn new(indent: usize, columns: &[(&str, Align)]) -> Self {
        let columns = columns
            .iter()
            .map(|(name, align)| (visible(name), *align))
            .collect();
        Self {
            columns,
            rows: Vec::new(),
            notes: Vec::new(),
            indent,
        }
    }

    pub(super) fn row(&mut self, cells: &[String]) {
        self.rows
            .push(cells.iter().map(|cell| visible(cell)).collect());
    }

    /// Adds a line of its own after the rows so far.
    pub(super) fn note(&mut self, text: String) {
        self.notes.push((self.rows.len(), text));
    }

    /// Writes the table, cut at the right to the width of the terminal if there is one.
    pub(super) fn show(&self, out: &mut impl Write) -> io::Result<()> {
        let widths: Vec<usize> = self
            .columns
            .iter()
            .enumerate()
            .map(|(place, (name, _))| {
                let cells = self.rows.iter().filter_map(|row| row.get(place));
                cells
                    .map(|cell| cell.width())
                    .max()
                    .unwrap_or(0)
                    .max(name.width())
            })
            .collect();
        let heading: Vec<&str> = self.columns.iter().map(|(name, _)| name.as_str()).collect();
        writeln!(out, "{HEADING}{}{HEADING:#}", self.line(&heading, &widths))?;
        for (place, row) in self.rows.iter().enumerate() {
            for (_, note) in self.notes.iter().filter(|(before, _)| *before == place) {
                writeln!(out, "{}{note}", " ".repeat(self.indent))?;
            }
            let cells: Vec<&str> = row.iter().map(String::as_str).collect();
            writeln!(out, "{}", self.line(&cells, &widths))?;
        }
        Ok(())
    }

    /// Writes the columns in blocks that fit the terminal, one below the other, at most `most` of them, and returns
    /// how many columns are left.
    pub(super) fn show_folded(&self, out: &mut impl Write, most: usize) -> io::Result<usize> {
        let room = terminal_width().unwrap_or(WIDTH);
        let mut begin = 0;
        for block in 0..most {
            if begin == self.columns.len() {
                break;
            }
            if block > 0 {
                writeln!(out)?;
            }
            let end = begin + self.fitting(begin, room);
            self.part(begin, end).show(out)?;
            begin = end;
        }
        Ok(self.columns.len() - begin)
    }

    /// How many columns from `begin` on fit into a line, one at least.
    fn fitting(&self, begin: usize, room: usize) -> usize {
        let mut used = self.indent;
        let fit = (begin..self.columns.len()).take_while(|place| {
            let cells = self.rows.iter().filter_map(|row| row.get(*place));
            let widest = cells.map(|cell| cell.width()).max().unwrap_or(0);
            used = used.saturating_add(widest.max(self.columns[*place].0.width()) + 2);
            used <= room.saturating_add(2)
        });
        fit.count().max(1)
    }

    /// The table with only some of its columns.
    fn part(&self, begin: usize, end: usize) -> Self {
        let cells = |row: &Vec<String>| row[begin.min(row.len())..end.min(row.len())].to_vec();
        Self {
            columns: self.columns[begin..end].to_vec(),
            rows: self.rows.iter().map(cells).collect(),
            notes: self.notes.clone(),
            indent: self.indent,
        }
    }

    fn line(&self, cells: &[&str], widths: &[usize]) -> String {
        let mut line = " ".repeat(self.indent);
        let mut used = self.indent;
        let room = room();
        for (place, cell) in cells.iter().enumerate() {
            let last = place + 1 == self.columns.len();
            let padding = " ".repeat(widths[place].saturating_sub(cell.width()));
            match self.columns[place].1 {
                Align::Left if last => line.push_str(&cut(cell, room.saturating_sub(used))),
                Align::Left => line.extend([*cell, &padding]),
                Align::Right => line.extend([&padding, *cell]),
            }
            used += widths[place] + 2;
            if !last {
                line.push_str("  ");
            }
        }
        line
    }
}

/// The width of a line where there is no terminal, in characters.
const WIDTH: usize = 120;

/// The columns of the terminal that results go to; `None` where they go elsewhere.
pub(super) fn terminal_width() -> Option<usize> {
    let size = terminal_size::terminal_size_of(io::stdout())?;
    Some(usize::from(size.0.0).max(40))
}

/// The columns that a line has room for.
fn room() -> usize {
    terminal_width().unwrap_or(usize::MAX)
}

/// The text, cut to `room` columns with a sign that it was.
fn cut(text: &str, room: usize) -> String {
    if text.width() <= room {
        return text.to_owned();
    }
    let mut kept = String::new();
    let mut used = 1;
    for character in text.chars() {
        used += character.width().unwrap_or(0);
        if used > room {
            break;
        }
        kept.push(character);
    }
    kept.push('…');
    kept
}

/// The text on one line, with signs for what would move the cursor or cannot be seen.
pub(super) fn visible(text: &str) -> String {
    text.chars()
        .map(|character| match character {
            '\n' => '⏎',
            '\t' => '⇥',
            '\r' => '␍',
            character if is_unsafe(character) => '�',
            character => character,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::super::screen::Screen;
    use super::*;

    #[test]
    fn columns_are_aligned_by_what_is_seen() {
        let mut table = Table::new(
            2,
            &[
                ("quay", Align::Left),
                ("n", Align::Right),
                ("", Align::Left),
            ],
        );
        table.row(&["Ångkajen".into(), "7".into(), "x".into()]);
        table.row(&["港".into(), "1,000".into(), "two\nlines".into()]);
        let mut out = Vec::new();
        table
            .show(&mut Screen::on(anstream::StripStream::new(&mut out)))
            .expect("written");
        let text = String::from_utf8(out).expect("text");
        assert_eq!(
            text,
            "  quay          n  \n  Ångkajen      7  x\n  港        1,000  two⏎lines\n"
        );
    }

    #[test]
    fn columns_without_room_are_folded() {
        let names: Vec<String> = (0..30).map(|n| format!("column_{n}")).collect();
        let columns: Vec<(&str, Align)> = names
            .iter()
            .map(|name| (name.as_str(), Align::Left))
            .collect();
        let mut table = Table::new(2, &columns);
        table.row(&names);
        let mut out = Vec::new();
        let screen = &mut Screen::on(anstream::StripStream::new(&mut out));
        assert_eq!(table.show_folded(screen, 2).expect("written"), 9);
        let text = String::from_utf8(out).expect("text");
        let blocks: Vec<&str> = text.split("\n\n").collect();
        assert!(
            blocks.len() == 2 && blocks[1].trim_start().starts_with("column_11"),
            "{text}"
        );
        assert!(text.lines().all(|line| line.width() <= WIDTH), "{text}");
    }

    #[test]
    fn long_cells_are_cut() {
        assert_eq!(cut("quay", 4), "quay");
        assert_eq!(cut("quayside", 5), "quay…");
        assert_eq!(cut("港港港", 4), "港…");
    }
}
