//! A row of cells on its way into a batch, and how numbers are written there.

use super::number_format::{Shown, Spelling};
use super::serial::{Epoch, write_moment};
use numerant_data::narrow::to_u32;
use numerant_data::record::Tag;

/// The cells of a row that hold something, from left to right.
#[derive(Debug)]
pub struct Row {
    /// Its number, from 1.
    pub number: u64,
    /// The values of the cells, one after the other.
    pub bytes: Vec<u8>,
    /// The cells, from left to right.
    pub cells: Vec<RowCell>,
    /// Bytes that the cells may take together.
    max_bytes: usize,
    /// They would take more, and what is over is not there.
    exceeds_limit: bool,
}

/// A cell of a row that holds something.
#[derive(Clone, Copy, Debug)]
pub struct RowCell {
    /// Its column, counted from 0.
    pub column: u32,
    /// Where its value begins in the bytes of the row.
    start: u32,
    /// Where it ends.
    end: u32,
    /// Whether it is a text.
    pub tag: Tag,
}

impl Default for Row {
    fn default() -> Self {
        Self::up_to(u32::MAX as usize / 2)
    }
}

impl Row {
    /// A row whose cells may take so many bytes together.
    pub(crate) fn up_to(max_bytes: usize) -> Self {
        Self {
            number: 0,
            bytes: Vec::new(),
            cells: Vec::new(),
            max_bytes: max_bytes.min(u32::MAX as usize / 2),
            exceeds_limit: false,
        }
    }

    /// Leaves no cells.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.cells.clear();
        self.exceeds_limit = false;
    }

    /// Whether the cells would take more than they may.
    pub(crate) fn exceeds_limit(&self) -> bool {
        self.exceeds_limit
    }

    /// Whether no cell holds anything.
    pub fn is_blank(&self) -> bool {
        self.cells.is_empty()
    }

    /// Adds a cell with the value that `write` appends; none if that is nothing.
    #[inline]
    pub fn push_with(&mut self, column: u32, write: impl FnOnce(&mut Vec<u8>)) {
        self.push_tagged(column, Tag::PLAIN, write);
    }

    /// Adds a cell with what `write` appends, and its tag; none if that is nothing.
    #[inline]
    pub fn push_tagged(&mut self, column: u32, tag: Tag, write: impl FnOnce(&mut Vec<u8>)) {
        let start = self.bytes.len();
        write(&mut self.bytes);
        let end = self.bytes.len();
        if end > self.max_bytes {
            self.bytes.truncate(start);
            self.exceeds_limit = true;
        } else if end > start {
            self.cells.push(RowCell {
                column,
                start: to_u32(start),
                end: to_u32(end),
                tag,
            });
        }
    }

    /// Adds a cell with the value that `write` appends, under a number format; none if that is nothing.
    #[inline]
    pub fn push_value(&mut self, column: u32, format: u16, write: impl FnOnce(&mut Vec<u8>)) {
        self.push_tagged(column, Tag::formatted(format), write);
    }

    /// Adds a cell with a text.
    #[inline]
    pub fn push_text(&mut self, column: u32, text: &[u8]) {
        self.push_tagged(column, Tag::TEXT, |out| out.extend_from_slice(text));
    }

    /// Adds a cell with a text under a number format.
    #[inline]
    pub fn push_formatted_text(&mut self, column: u32, text: &[u8], format: u16) {
        self.push_tagged(column, Tag::text(format), |out| out.extend_from_slice(text));
    }

    /// Adds a cell with true or false.
    pub fn push_boolean(&mut self, column: u32, value: bool, shown: Shown) {
        let spelling = match shown {
            Shown::Boolean(spelling) => spelling,
            _ => Spelling::Upper,
        };
        self.push_with(column, |out| {
            out.extend_from_slice(spelling.word(value).as_bytes());
        });
    }

    /// Brings cells in order that are not; the column of one that is there twice.
    pub(crate) fn settle(&mut self) -> Result<(), u32> {
        if !self
            .cells
            .is_sorted_by(|one, other| one.column < other.column)
        {
            self.cells.sort_by_key(|cell| cell.column);
        }
        let twice = self
            .cells
            .windows(2)
            .find(|pair| pair[0].column == pair[1].column);
        twice.map_or(Ok(()), |pair| Err(pair[0].column))
    }

    /// The value of a cell.
    #[inline]
    pub fn value(&self, cell: &RowCell) -> &[u8] {
        &self.bytes[cell.start as usize..cell.end as usize]
    }
}

/// Reads the numbers of cells.
#[derive(Clone, Copy, Debug)]
pub struct NumberText {
    /// The day that serial numbers count from.
    pub epoch: Epoch,
}

impl NumberText {
    /// Appends a number that is given as text, as XML has it: as it is shown, and never rounded.
    /// `false` if it is no number.
    #[inline]
    pub fn write(self, text: &[u8], shown: Shown, out: &mut Vec<u8>) -> bool {
        let shown = match shown {
            Shown::Boolean(_) => Shown::PLAIN,
            shown => shown,
        };
        let Shown::Number { places } = shown else {
            let Some(number) = double(text) else {
                return false;
            };
            self.write_double(number, shown, out);
            return true;
        };
        if let Some(point) = plain(text) {
            let mut end = text.len();
            if let Some(point) = point {
                while text[end - 1] == b'0' {
                    end -= 1;
                }
                if end == point + 1 {
                    end = point;
                }
            }
            out.extend_from_slice(&text[..end]);
            let has = point.map_or(0, |point| end.saturating_sub(point + 1));
            pad(has, places, out);
            return true;
        }
        let Some(number) = double(text) else {
            return false;
        };
        self.write_double(number, shown, out);
        true
    }

    /// Appends a number that is given as a double.
    pub fn write_double(self, number: f64, shown: Shown, out: &mut Vec<u8>) {
        let places = match shown {
            Shown::Moment(moments) if write_moment(number, self.epoch, moments, out) => return,
            Shown::Moment(_) | Shown::Boolean(_) => 0,
            Shown::Number { places } => places,
        };
        if !number.is_finite() {
            // What programs show of it.
            out.extend_from_slice(b"#NUM!");
            return;
        }
        // No minus before zero.
        let number = if number == 0.0 { 0.0 } else { number };
        let text = number.to_string();
        out.extend_from_slice(text.as_bytes());
        let has = text.find('.').map_or(0, |point| text.len() - point - 1);
        pad(has, places, out);
    }
}

/// The double that a text is; none for texts of numbers that a double has no room for.
fn double(text: &[u8]) -> Option<f64> {
    let number = std::str::from_utf8(text).ok()?.parse::<f64>().ok()?;
    number.is_finite().then_some(number)
}

/// Appends zeros up to so many digits after the point, of which there are `has`.
fn pad(has: usize, places: u8, out: &mut Vec<u8>) {
    let places = usize::from(places);
    if has >= places {
        return;
    }
    if has == 0 {
        out.push(b'.');
    }
    out.resize(out.len() + places - has, b'0');
}

/// Whether a number is plain digits, few enough for them to be what the double is written as: then
/// where its point is.
#[allow(
    clippy::option_option,
    reason = "not plain and without a point are two answers"
)]
#[inline]
fn plain(text: &[u8]) -> Option<Option<usize>> {
    let digits = text.strip_prefix(b"-").unwrap_or(text);
    if digits.is_empty() || digits.len() > 16 || digits[0] == b'.' {
        return None;
    }
    if digits[0] == b'0' && digits.len() > 1 && digits[1] != b'.' {
        return None;
    }
    let mut point = None;
    let mut any = false;
    for (place, byte) in digits.iter().enumerate() {
        match byte {
            b'0'..=b'9' => any |= *byte != b'0',
            b'.' if point.is_none() => point = Some(place + text.len() - digits.len()),
            _ => return None,
        }
    }
    let count = digits.len() - usize::from(point.is_some());
    let ends_well = text.last() != Some(&b'.');
    (count <= 15 && ends_well && (any || digits.len() == text.len())).then_some(point)
}

/// The letters of a column that is counted from 0.
pub fn letters(column: u32) -> String {
    let mut letters = Vec::new();
    let mut left = column + 1;
    while left > 0 {
        left -= 1;
        letters.push(b'A' + (left % 26) as u8);
        left /= 26;
    }
    letters
        .iter()
        .rev()
        .map(|letter| char::from(*letter))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_neither_rounded_nor_lengthened() {
        let numbers = NumberText {
            epoch: Epoch::Year1900,
        };
        for (text, code, expected) in [
            ("0.1", "General", "0.1"),
            ("0.10000000000000001", "General", "0.1"),
            ("0.30000000000000004", "General", "0.30000000000000004"),
            ("123456789012345", "General", "123456789012345"),
            ("1E+20", "General", "100000000000000000000"),
            ("9.9999999999999995E-8", "General", "0.0000001"),
            ("12.3", "0.00", "12.30"),
            ("12.345", "0.00", "12.345"),
            ("12", "0.00", "12.00"),
            ("12.50", "General", "12.5"),
            ("12.00", "General", "12"),
            ("-0", "General", "0"),
            ("-0.5", "#,##0.000", "-0.500"),
            ("0.15", "0%", "0.15"),
            ("007", "General", "7"),
            ("46086", "yyyy-mm-dd", "2026-03-05"),
            ("-5", "yyyy-mm-dd", "-5"),
        ] {
            let mut out = Vec::new();
            assert!(numbers.write(text.as_bytes(), Shown::of(code), &mut out));
            assert_eq!(String::from_utf8_lossy(&out), expected, "{text} {code}");
        }
        assert!(!numbers.write(b"twelve", Shown::PLAIN, &mut Vec::new()));
    }

    #[test]
    fn columns_have_letters() {
        for (column, name) in [
            (0, "A"),
            (25, "Z"),
            (26, "AA"),
            (701, "ZZ"),
            (16_383, "XFD"),
        ] {
            assert_eq!(letters(column), name);
        }
    }
}
