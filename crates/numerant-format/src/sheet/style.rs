//! Cell styles of workbooks whose number formats have numbers: those of ECMA-376 and of the binary
//! formats.

use std::sync::Arc;

use super::number_format::Shown;

/// What counts of a cell style: how a number reads under it, and its number format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CellStyle {
    /// How a number reads under it.
    pub shown: Shown,
    /// Its number format, by its place in the table from 1; 0 for none.
    pub format: u16,
}

impl CellStyle {
    /// The style of cells that have none.
    pub const PLAIN: Self = Self {
        shown: Shown::PLAIN,
        format: 0,
    };
}

/// The cell styles of a workbook, and their number formats.
#[derive(Clone, Debug, Default)]
pub struct CellStyles {
    styles: Vec<CellStyle>,
    codes: Vec<Arc<str>>,
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
    pub fn new(formats: impl Iterator<Item = u32>, own: &[(u32, String)]) -> Self {
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
            let format = code.map_or(0, |code| table.place(code));
            table.styles.push(CellStyle {
                shown: Shown::under(id, &shown),
                format,
            });
        }
        table
    }

    fn place(&mut self, code: &str) -> u16 {
        if code.eq_ignore_ascii_case("general") || code.is_empty() || code == "@" {
            return 0;
        }
        let known = self.codes.iter().position(|known| **known == *code);
        let place = known.unwrap_or_else(|| {
            self.codes.push(code.into());
            self.codes.len() - 1
        });
        // A workbook can have 64,000 cell styles.
        u16::try_from(place + 1).unwrap_or(0)
    }

    /// A style by its number.
    #[inline]
    pub fn get(&self, style: usize) -> CellStyle {
        self.styles.get(style).copied().unwrap_or(CellStyle::PLAIN)
    }

    /// The number formats, of which styles name the places.
    pub fn codes(&self) -> Arc<[Arc<str>]> {
        self.codes.clone().into()
    }
}
