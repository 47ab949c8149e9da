//! The one way by which text for people reaches a terminal or a pipe.
//!
//! # Invariants
//!
//! Names and values can hold any character. Whatever would move the cursor, give the terminal an order, turn the
//! direction of text around or hide something is written as its code. Colours of our own travel as marks, which
//! become orders only here.

use std::fmt;
use std::io::{self, Write};

use anstream::AutoStream;
use anstyle::{AnsiColor, Reset, Style};

/// Standard output, for text for people.
pub(crate) fn stdout() -> Screen<AutoStream<io::StdoutLock<'static>>> {
    Screen(anstream::stdout().lock())
}

/// Standard error, for text for people.
pub(crate) fn stderr() -> Screen<AutoStream<io::StderrLock<'static>>> {
    Screen(anstream::stderr().lock())
}

/// A colour of our own: written with `{}` it begins, with `{:#}` it ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Mark {
    Red,
    Yellow,
    Cyan,
    Green,
    Bold,
    Faint,
}

/// The marks represent themselves in characters that represent nothing, which Unicode keeps for such uses.
const MARKS: [(char, Mark); 6] = [
    ('\u{fdd1}', Mark::Red),
    ('\u{fdd2}', Mark::Yellow),
    ('\u{fdd3}', Mark::Cyan),
    ('\u{fdd4}', Mark::Green),
    ('\u{fdd5}', Mark::Bold),
    ('\u{fdd6}', Mark::Faint),
];

/// Ends any of them.
const END: char = '\u{fdd0}';

impl Mark {
    fn style(self) -> Style {
        match self {
            Self::Red => AnsiColor::Red.on_default().bold(),
            Self::Yellow => AnsiColor::Yellow.on_default().bold(),
            Self::Cyan => AnsiColor::Cyan.on_default().bold(),
            Self::Green => AnsiColor::Green.on_default().bold(),
            Self::Bold => Style::new().bold(),
            Self::Faint => Style::new().dimmed(),
        }
    }
}

impl fmt::Display for Mark {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let own = MARKS.iter().find(|(_, mark)| mark == self);
        let sign = match own {
            Some((sign, _)) if !formatter.alternate() => *sign,
            _ => END,
        };
        write!(formatter, "{sign}")
    }
}

/// Whether a character would do something to a terminal, or cannot be seen and changes what others look like.
pub(crate) fn is_unsafe(character: char) -> bool {
    matches!(
        character,
        // What turns the direction of text around.
        '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}'
        // What cannot be seen: other line ends, byte-order marks, tags.
        | '\u{2028}' | '\u{2029}' | '\u{feff}' | '\u{e0000}'..='\u{e007f}'
        // Marks of other kinds than ours.
        | '\u{fdd7}'..='\u{fdef}'
    ) || character.is_control()
}

/// Text for people, on its way out.
pub(crate) struct Screen<W>(W);

impl<W: Write> Screen<W> {
    #[cfg(test)]
    pub(super) fn on(out: W) -> Self {
        Self(out)
    }
}

impl<W: Write> Write for Screen<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.write_all(bytes)?;
        Ok(bytes.len())
    }

    fn write_all(&mut self, bytes: &[u8]) -> io::Result<()> {
        let text = String::from_utf8_lossy(bytes);
        let is_special = |character: char| {
            is_unsafe(character) && character != '\n'
                || ('\u{fdd0}'..='\u{fdd6}').contains(&character)
        };
        if !text.chars().any(is_special) {
            return self.0.write_all(text.as_bytes());
        }
        let mut safe = String::with_capacity(text.len() + 32);
        for character in text.chars() {
            let mark = MARKS.iter().find(|(sign, _)| *sign == character);
            match (mark, character) {
                (Some((_, mark)), _) => safe.push_str(&mark.style().render().to_string()),
                (None, END) => safe.push_str(&Reset.render().to_string()),
                (None, '\n') => safe.push('\n'),
                (None, unsafe_one) if is_unsafe(unsafe_one) => {
                    safe.push_str(&format!("\\u{{{:x}}}", u32::from(unsafe_one)));
                }
                (None, other) => safe.push(other),
            }
        }
        self.0.write_all(safe.as_bytes())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(text: &str) -> String {
        let mut out = Vec::new();
        write!(Screen::on(&mut out), "{text}").expect("written");
        String::from_utf8(out).expect("text")
    }

    #[test]
    fn nothing_in_a_text_reaches_the_terminal_as_an_order() {
        for unsafe_one in [
            '\u{1b}',
            '\r',
            '\u{7}',
            '\u{8}',
            '\u{9b}',
            '\u{202e}',
            '\u{2066}',
            '\u{e0041}',
            '\t',
        ] {
            let text = shown(&format!("quay{unsafe_one}[31m"));
            assert!(!text.contains(unsafe_one), "{text:?}");
            let code = format!("\\u{{{:x}}}", u32::from(unsafe_one));
            assert!(text.contains(&code), "{text:?}");
        }
        assert_eq!(shown("Ångkajen 港\n"), "Ångkajen 港\n");
    }

    #[test]
    fn colours_of_our_own_begin_and_end() {
        let text = shown(&format!("{0}bad{0:#}", Mark::Red));
        assert!(
            text.starts_with('\u{1b}') && text.ends_with("bad\u{1b}[0m"),
            "{text:?}"
        );
        assert!(!text.contains('\u{fdd1}') && !text.contains('\u{fdd0}'));
    }
}
