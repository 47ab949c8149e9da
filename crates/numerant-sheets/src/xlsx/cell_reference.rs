//! Cells and areas as A1 references name them (ECMA-376 Part 1, 18.17.2.3).

use std::fmt;

use numerant_format::sheet::letters;

/// Rows and columns that a sheet has.
pub(super) const ROWS: u32 = 1_048_576;
pub(super) const COLUMNS: u32 = 16_384;

/// A cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct CellReference {
    /// From 1.
    pub(super) row: u32,
    /// From 0.
    pub(super) column: u32,
}

impl CellReference {
    /// The cell that a reference such as `B6` names; `None` if it names none that a sheet has.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let anchored = Anchored::parse(text)?;
        (!anchored.fixed_row && !anchored.fixed_column).then_some(anchored.place)
    }
}

impl fmt::Display for CellReference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", letters(self.column), self.row)
    }
}

/// A cell as a formula names it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Anchored {
    pub(super) place: CellReference,
    /// Whether a `$` is before its row, and before its column.
    pub(super) fixed_row: bool,
    pub(super) fixed_column: bool,
}

impl Anchored {
    pub(super) fn parse(text: &str) -> Option<Self> {
        let (fixed_column, rest) = anchor(text);
        let end = rest.find(|sign: char| !sign.is_ascii_alphabetic())?;
        let (name, rest) = rest.split_at(end);
        let (fixed_row, digits) = anchor(rest);
        if name.is_empty() || name.len() > 3 || digits.is_empty() || digits.len() > 7 {
            return None;
        }
        let column = name.bytes().fold(0, |number, letter| {
            number * 26 + u32::from(letter.to_ascii_uppercase() - b'A') + 1
        });
        let all_digits = digits.bytes().all(|byte| byte.is_ascii_digit());
        let row: u32 = digits.parse().ok().filter(|_| all_digits)?;
        let fits = (1..=ROWS).contains(&row) && column <= COLUMNS && !digits.starts_with('0');
        fits.then_some(Self {
            place: CellReference {
                row,
                column: column - 1,
            },
            fixed_row,
            fixed_column,
        })
    }
}

impl fmt::Display for Anchored {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sign = |fixed| if fixed { "$" } else { "" };
        let (column, row) = (sign(self.fixed_column), sign(self.fixed_row));
        write!(
            f,
            "{column}{}{row}{}",
            letters(self.place.column),
            self.place.row
        )
    }
}

/// Whether a `$` is at the start, and what is after it.
fn anchor(text: &str) -> (bool, &str) {
    match text.strip_prefix('$') {
        Some(rest) => (true, rest),
        None => (false, text),
    }
}

/// A rectangle of cells, its last row and column among them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Area {
    pub(super) first: CellReference,
    pub(super) last: CellReference,
}

impl Area {
    /// The area that a reference such as `A1:C9` or `B6`, without or with `$`, names.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let (one, other) = text.split_once(':').unwrap_or((text, text));
        let (one, other) = (Anchored::parse(one)?.place, Anchored::parse(other)?.place);
        Some(Self {
            first: CellReference {
                row: one.row.min(other.row),
                column: one.column.min(other.column),
            },
            last: CellReference {
                row: one.row.max(other.row),
                column: one.column.max(other.column),
            },
        })
    }

    pub(super) fn with_rows(self, first: u32, last: u32) -> Self {
        let mut area = self;
        (area.first.row, area.last.row) = (first, last);
        area
    }

    pub(super) fn holds(&self, place: CellReference) -> bool {
        (self.first.row..=self.last.row).contains(&place.row)
            && (self.first.column..=self.last.column).contains(&place.column)
    }

    pub(super) fn meets(&self, other: &Self) -> bool {
        let apart = self.last.row < other.first.row
            || other.last.row < self.first.row
            || self.last.column < other.first.column
            || other.last.column < self.first.column;
        !apart
    }
}

impl fmt::Display for Area {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.first == self.last {
            write!(f, "{}", self.first)
        } else {
            write!(f, "{}:{}", self.first, self.last)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references_come_back_as_they_were() {
        for text in ["A1", "$B$2", "XFD1048576", "$AA7", "c$3"] {
            let anchored = Anchored::parse(text).expect(text);
            assert_eq!(anchored.to_string(), text.to_uppercase());
        }
        for text in [
            "A0", "XFE1", "A1048577", "1A", "A", "7", "ABCD1", "A01", "A$", "A1B",
        ] {
            assert_eq!(Anchored::parse(text), None, "{text}");
        }
        assert_eq!(CellReference::parse("$A1"), None);
        let area = Area::parse("C9:A1").expect("an area");
        assert_eq!(area.to_string(), "A1:C9");
        assert_eq!(Area::parse("B6").expect("a cell").to_string(), "B6");
        let other = Area::parse("C9:D12").expect("an area");
        assert!(area.meets(&other) && !area.meets(&other.with_rows(10, 12)));
    }
}
