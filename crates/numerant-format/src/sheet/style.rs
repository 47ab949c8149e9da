//! Cell styles of workbooks whose number formats have numbers: those of ECMA-376 and of the binary
//! formats.

use std::sync::{Arc, Mutex, PoisonError};

use super::number_format::Shown;

/// What counts of a cell style: how a number reads under it, and its number format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CellStyle {
    /// How a number reads under it.
    pub shown: Shown,
    /// Its number format, by its number in [`NumberFormats`]; 0 for none.
    pub format: u16,
}

impl CellStyle {
    /// The style of cells that have none.
    pub const PLAIN: Self = Self {
        shown: Shown::PLAIN,
        format: 0,
    };
}

/// The number formats of all workbooks of a run, which tags of fields name by their numbers. Copies share
/// one table, so that records of several workbooks can be put in order together.
#[derive(Clone, Debug, Default)]
pub struct NumberFormats(Arc<Mutex<Vec<Arc<str>>>>);

/// What a run has seen so far is no choice of how it reads: all tables are equal.
impl PartialEq for NumberFormats {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for NumberFormats {}

/// Number formats that have a number: two digits of seven bits.
const MAX_NUMBER_FORMATS: usize = (1 << 14) - 1;

impl NumberFormats {
    /// The number of a format code after ECMA-376 Part 1, 18.8.31, from 1; 0 for one that says nothing of numbers,
    /// and where there are too many.
    ///
    /// ```
    /// use numerant_format::sheet::NumberFormats;
    ///
    /// let formats = NumberFormats::default();
    /// assert_eq!(formats.number("$#,##0.00"), 1);
    /// assert_eq!(formats.number("General"), 0);
    /// assert_eq!(&*formats.codes()[0], "$#,##0.00");
    /// ```
    pub fn number(&self, code: &str) -> u16 {
        if code.eq_ignore_ascii_case("general") || code.is_empty() || code == "@" {
            return 0;
        }
        let mut codes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let known = codes.iter().position(|known| **known == *code);
        let place = known.unwrap_or_else(|| {
            if codes.len() < MAX_NUMBER_FORMATS {
                codes.push(code.into());
            }
            codes.len() - 1
        });
        let is_there = codes.get(place).is_some_and(|known| **known == *code);
        u16::try_from(place + 1)
            .ok()
            .filter(|_| is_there)
            .unwrap_or(0)
    }

    /// The codes, in the order of their numbers.
    pub fn codes(&self) -> Vec<Arc<str>> {
        let codes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        codes.clone()
    }
}

/// The cell styles of a workbook.
#[derive(Clone, Debug, Default)]
pub struct CellStyles {
    styles: Vec<CellStyle>,
}

/// The number formats that are built in, after ECMA-376 Part 1, 18.8.30; those of currencies depend on
/// the program. Those for accounts leave room for a parenthesis, as programs have it.
pub const BUILT_IN: [(u16, &str); 25] = [
    (1, "0"),
    (2, "0.00"),
    (3, "#,##0"),
    (4, "#,##0.00"),
    (9, "0%"),
    (10, "0.00%"),
    (11, "0.00E+00"),
    (12, "# ?/?"),
    (13, "# ??/??"),
    (14, "mm-dd-yy"),
    (15, "d-mmm-yy"),
    (16, "d-mmm"),
    (17, "mmm-yy"),
    (18, "h:mm AM/PM"),
    (19, "h:mm:ss AM/PM"),
    (20, "h:mm"),
    (21, "h:mm:ss"),
    (22, "m/d/yy h:mm"),
    (37, "#,##0_);(#,##0)"),
    (38, "#,##0_);[Red](#,##0)"),
    (39, "#,##0.00_);(#,##0.00)"),
    (40, "#,##0.00_);[Red](#,##0.00)"),
    (45, "mm:ss"),
    (46, "[h]:mm:ss"),
    (48, "##0.0E+0"),
];

impl CellStyles {
    /// Styles by the numbers of their number formats; `own` are those that the workbook defines.
    pub fn new(
        formats: impl Iterator<Item = u32>,
        own: &[(u32, String)],
        numbers: &NumberFormats,
    ) -> Self {
        let mut table = Self::default();
        let shown: Vec<(u32, Shown)> = own
            .iter()
            .map(|(id, code)| (*id, Shown::of(code)))
            .collect();
        for id in formats {
            let code = match own.iter().find(|(known, _)| *known == id) {
                Some((_, code)) => Some(code.as_str()),
                None => {
                    let known = BUILT_IN.iter().find(|(known, _)| u32::from(*known) == id);
                    known.map(|(_, code)| *code)
                }
            };
            let format = code.map_or(0, |code| numbers.number(code));
            table.styles.push(CellStyle {
                shown: Shown::under(id, &shown),
                format,
            });
        }
        table
    }

    /// A style by its number.
    #[inline]
    pub fn get(&self, style: usize) -> CellStyle {
        self.styles.get(style).copied().unwrap_or(CellStyle::PLAIN)
    }
}
