//! How the columns of a sheet look: the widths of its columns, and the styles of the header and of the first row
//! with values.

use super::read::{Record, u16_at, u32_at};
use crate::color::{of_palette, palette};
use numerant_format::sheet::{
    Alignment, ColumnStyle, HeaderStyle, Horizontal, Rgb, StyledRange, Vertical,
};

/// Fonts, colors and styles of a workbook.
#[derive(Clone, Debug, Default)]
pub(super) struct CellLooks {
    fonts: Vec<HeaderStyle>,
    /// Colors of text, by font, by their numbers.
    font_colors: Vec<u16>,
    /// The font, the number of the color after it, and the alignment of each style.
    styles: Vec<(usize, Option<u16>, Alignment)>,
    /// The workbook's own palette.
    palette: Option<Vec<Rgb>>,
}

impl CellLooks {
    /// Takes a record of what all sheets share.
    pub(super) fn take(&mut self, record: &Record<'_>) {
        let data = record.data;
        match record.kind {
            0x0031 => {
                self.fonts.push(HeaderStyle {
                    is_bold: u16_at(data, 6) >= 600,
                    is_italic: u16_at(data, 2) & 2 != 0,
                    is_underlined: data.get(10).is_some_and(|line| *line != 0),
                    ..HeaderStyle::default()
                });
                self.font_colors.push(u16_at(data, 4));
            }
            0x00e0 => {
                let stands = data.get(6).copied().unwrap_or_default();
                let alignment = Alignment {
                    horizontal: match stands & 7 {
                        1 => Some(Horizontal::Left),
                        2 => Some(Horizontal::Center),
                        3 => Some(Horizontal::Right),
                        5 => Some(Horizontal::Justify),
                        _ => None,
                    },
                    vertical: match stands >> 4 & 7 {
                        0 => Some(Vertical::Top),
                        1 => Some(Vertical::Center),
                        _ => None,
                    },
                    wraps: stands & 8 != 0,
                };
                let is_solid = u32_at(data, 14) >> 26 == 1;
                let fill = is_solid.then(|| u16_at(data, 18) & 0x7f);
                self.styles.push((u16_at(data, 0).into(), fill, alignment));
            }
            0x0092 => {
                let colors = data.get(2..).unwrap_or_default().chunks_exact(4);
                self.palette = Some(colors.map(|color| [color[0], color[1], color[2]]).collect());
            }
            _ => {}
        }
    }

    fn color(&self, number: u16) -> Option<Rgb> {
        let number = usize::from(number);
        match &self.palette {
            Some(palette) if number >= 8 => palette.get(number - 8).copied(),
            _ => of_palette(number).filter(|_| number < 8 + palette().len()),
        }
    }

    fn get(&self, style: u16) -> HeaderStyle {
        let Some((font, fill, alignment)) = self.styles.get(usize::from(style)).copied() else {
            return HeaderStyle::default();
        };
        // There is no font with the number 4.
        let font = if font > 4 { font - 1 } else { font };
        let color = self
            .font_colors
            .get(font)
            .and_then(|number| self.color(*number));
        HeaderStyle {
            color: color.filter(|color| *color != [0, 0, 0]),
            fill: fill.and_then(|number| self.color(number)),
            alignment,
            ..self.fonts.get(font).copied().unwrap_or_default()
        }
    }
}

/// What a sheet says of its columns and of the cells of two of its rows.
#[derive(Debug, Default)]
pub(super) struct SheetLooks {
    /// First and last column, width and style.
    columns: Vec<(u16, u16, f32, u16)>,
    /// Row, column and style of cells.
    cells: Vec<(u16, u16, u16)>,
}

impl SheetLooks {
    /// Takes a record of a sheet.
    pub(super) fn take(&mut self, record: &Record<'_>, range: &StyledRange) {
        let data = record.data;
        let (row, column, style) = (u16_at(data, 0), u16_at(data, 2), u16_at(data, 4));
        match record.kind {
            0x007d if u16_at(data, 8) & 1 == 0 => {
                let width = f32::from(style) / 256.0;
                self.columns.push((row, column, width, u16_at(data, 6)));
            }
            // Cells with a text, a number, a truth value, a formula, or nothing.
            0x00fd | 0x0204 | 0x0203 | 0x027e | 0x0205 | 0x0006 | 0x0206 | 0x0406 | 0x0201
                if Self::is_in(row, range) =>
            {
                self.cells.push((row, column, style));
            }
            0x00bd | 0x00be if Self::is_in(row, range) => {
                // Several cells: of numbers with six bytes each, of none with two.
                let step = if record.kind == 0x00bd { 6 } else { 2 };
                let last = u16_at(data, data.len().saturating_sub(2));
                for (place, column) in (column..=last).enumerate() {
                    self.cells
                        .push((row, column, u16_at(data, 4 + place * step)));
                }
            }
            _ => {}
        }
    }

    fn is_in(row: u16, range: &StyledRange) -> bool {
        let row = u64::from(row) + 1;
        range.header == Some(row) || range.first == row
    }

    /// How the columns look.
    pub(super) fn columns(&self, looks: &CellLooks, range: &StyledRange) -> Vec<ColumnStyle> {
        let style_of = |wanted: u64, column: u32| {
            let mut cells = self.cells.iter();
            let is_there = |known: &&(u16, u16, u16)| {
                u64::from(known.0) + 1 == wanted && u32::from(known.1) == column
            };
            cells.find(is_there).map(|known| known.2)
        };
        let columns = range.columns.clone().map(|column| {
            let of_column = self
                .columns
                .iter()
                .find(|known| (u32::from(known.0)..=u32::from(known.1)).contains(&column));
            let its_style = of_column.map(|known| known.3);
            let look = |row| {
                let style = style_of(row, column).or(its_style);
                style.map(|style| looks.get(style)).unwrap_or_default()
            };
            ColumnStyle {
                width: of_column.map(|known| known.2).filter(|width| *width > 0.0),
                alignment: look(range.first).alignment,
                header: range.header.map(look),
            }
        });
        columns.collect()
    }
}
