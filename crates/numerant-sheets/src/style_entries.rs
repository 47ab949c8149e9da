//! The cell styles that a workbook uses, each once, for the writers of all formats.

use numerant_format::sheet::{Alignment, CellFormat, HeaderStyle, Spelling};

/// What a cell style is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum StyleEntry {
    /// Values under a number format.
    Value(CellFormat, Alignment),
    /// Headers.
    Header(HeaderStyle),
}

/// The cell styles in use, in the order of their first use.
#[derive(Debug, Default)]
pub(crate) struct StyleEntries(Vec<StyleEntry>);

impl StyleEntries {
    /// The place of the style for values under a format; `None` if they need none.
    pub(crate) fn of(&mut self, format: &CellFormat, alignment: Alignment) -> Option<usize> {
        let is_plain = matches!(
            format,
            CellFormat::General | CellFormat::Boolean(Spelling::Upper)
        );
        if is_plain && alignment == Alignment::default() {
            return None;
        }
        let is_same = |entry: &StyleEntry| matches!(entry, StyleEntry::Value(known, its) if known == format && *its == alignment);
        let known = self.0.iter().position(is_same);
        Some(known.unwrap_or_else(|| self.add(StyleEntry::Value(format.clone(), alignment))))
    }

    /// The place of a style for headers; `None` if they look like values.
    pub(crate) fn of_header(&mut self, style: HeaderStyle) -> Option<usize> {
        if style == HeaderStyle::default() {
            return None;
        }
        let entry = StyleEntry::Header(style);
        let known = self.0.iter().position(|known| *known == entry);
        Some(known.unwrap_or_else(|| self.add(entry)))
    }

    fn add(&mut self, entry: StyleEntry) -> usize {
        self.0.push(entry);
        self.0.len() - 1
    }

    /// All of them.
    pub(crate) fn all(&self) -> &[StyleEntry] {
        &self.0
    }
}
