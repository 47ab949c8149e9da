//! The fonts, number formats, cell styles and colors of a workbook that is written.

use super::record::{characters, data, push_record};
use crate::color::palette;
use crate::style_entries::{StyleEntries, StyleEntry};
use numerant_data::narrow::fit;
use numerant_format::sheet::{
    Alignment, BUILT_IN, CellFormat, HeaderStyle, Horizontal, Rgb, Vertical,
};

/// The number of the style of cells that have none.
const PLAIN: u16 = 15;

/// Styles in front of those in use: 15 that every workbook has, that of cells that have none, and that of headers.
const BEFORE: u16 = 17;

/// The number of the font of text, and the bold one. There is no font with the number 4.
const FONT: u16 = 0;
const BOLD_FONT: u16 = 5;

/// Number formats from this number on are a workbook's own.
const OWN_FORMATS: u16 = 164;

/// Characters of the longest number format that spreadsheet programs take; longer ones are left out.
const LONGEST_CODE: usize = 255;

/// Numbers of colors in front of the palette, and those of a fill that is none.
const FIRST_COLOR: u16 = 8;
const NO_FILL: u16 = 0x20c0;

/// The color of text that is not stated.
const AUTOMATIC: u16 = 0x7fff;

/// The cell styles in use.
#[derive(Default)]
pub(super) struct StyleTable {
    entries: StyleEntries,
}

impl StyleTable {
    /// The number of the style for values under a format.
    pub(super) fn of(&mut self, format: &CellFormat, alignment: Alignment) -> u16 {
        let format = match format {
            CellFormat::Custom(code) if code.encode_utf16().count() > LONGEST_CODE => {
                &CellFormat::General
            }
            format => format,
        };
        number(self.entries.of(format, alignment))
    }

    /// The number of a style for headers; of bold ones if there is none.
    pub(super) fn of_header(&mut self, style: Option<HeaderStyle>) -> u16 {
        match style {
            None => PLAIN + 1,
            Some(style) => number(self.entries.of_header(style)),
        }
    }

    /// Appends the records of fonts, number formats, styles and, if colors are in use that it lacks, the palette.
    pub(super) fn push_records(&self, out: &mut Vec<u8>) {
        let mut colors = Colors::default();
        let headers = self.entries.all().iter().filter_map(|entry| match entry {
            StyleEntry::Header(style) => Some(style),
            StyleEntry::Value(..) => None,
        });
        let bold = HeaderStyle {
            is_bold: true,
            ..HeaderStyle::default()
        };
        // Fonts are counted without the fourth.
        let plain = HeaderStyle::default();
        let mut fonts: Vec<Vec<u8>> = [plain, plain, plain, plain, bold]
            .iter()
            .map(|style| font(style, &mut colors))
            .collect();
        let mut font_of_header = Vec::new();
        for style in headers {
            let record = font(style, &mut colors);
            let place = fonts.iter().rposition(|known| *known == record);
            let place: u16 = fit(place.unwrap_or_else(|| {
                fonts.push(record);
                fonts.len() - 1
            }));
            font_of_header.push(if place < 4 { FONT } else { place + 1 });
        }
        for record in &fonts {
            push_record(0x0031, record, out);
        }
        let mut formats: Vec<String> = Vec::new();
        for entry in self.entries.all() {
            if let StyleEntry::Value(format, _) = entry
                && built_in(format).is_none()
                && !formats.contains(&format.code())
            {
                formats.push(format.code());
            }
        }
        for (place, code) in formats.iter().enumerate() {
            let (code, wide, count) = characters(code);
            let mut record = data![
                OWN_FORMATS + fit::<_, u16>(place),
                fit::<_, u16>(count),
                u8::from(wide)
            ];
            record.extend_from_slice(&code);
            push_record(0x041e, &record, out);
        }
        for place in 0..PLAIN {
            let used = if place == 0 { 0 } else { 0xf4 };
            push_style((FONT, 0, 0xfff5, used), Alignment::default(), None, out);
        }
        push_style((FONT, 0, 0x0001, 0), Alignment::default(), None, out);
        push_style(
            (BOLD_FONT, 0, 0x0001, 0x08),
            Alignment::default(),
            None,
            out,
        );
        let mut fonts_of_headers = font_of_header.into_iter();
        for entry in self.entries.all() {
            match entry {
                StyleEntry::Value(format, alignment) => {
                    let id = built_in(format).unwrap_or_else(|| {
                        let place = formats.iter().position(|known| *known == format.code());
                        OWN_FORMATS + fit::<_, u16>(place.unwrap_or_default())
                    });
                    push_style((FONT, id, 0x0001, 0x04), *alignment, None, out);
                }
                StyleEntry::Header(style) => {
                    let font = fonts_of_headers.next().unwrap_or(FONT);
                    let fill = style.fill.map(|color| colors.number(color));
                    push_style((font, 0, 0x0001, 0x08), style.alignment, fill, out);
                }
            }
        }
        push_record(0x0293, &data![0x8000_u16, 0_u8, 0xff_u8], out);
        if colors.replaced > 0 {
            let mut record = data![fit::<_, u16>(colors.palette.len())];
            for [red, green, blue] in &colors.palette {
                record.extend_from_slice(&[*red, *green, *blue, 0]);
            }
            push_record(0x0092, &record, out);
        }
    }
}

/// The number of the style at a place, or of cells that have none.
fn number(place: Option<usize>) -> u16 {
    place.map_or(PLAIN, |place| fit::<_, u16>(place) + BEFORE)
}

/// Appends a style ([MS-XLS] 2.4.353): its font, number format, kind and which of its properties count.
fn push_style(
    (font, format, kind, used): (u16, u16, u16, u8),
    alignment: Alignment,
    fill: Option<u16>,
    out: &mut Vec<u8>,
) {
    let horizontal = match alignment.horizontal {
        None => 0,
        Some(Horizontal::Left) => 1,
        Some(Horizontal::Center) => 2,
        Some(Horizontal::Right) => 3,
        Some(Horizontal::Justify) => 5,
    };
    let vertical = match alignment.vertical {
        Some(Vertical::Top) => 0,
        Some(Vertical::Center) => 1,
        None => 2,
    };
    let stands = horizontal | u8::from(alignment.wraps) << 3 | vertical << 4;
    let used = match (alignment == Alignment::default(), fill) {
        (true, None) => used,
        (false, None) => used | 0x10,
        (_, Some(_)) => used | 0x50,
    };
    // A solid fill has the pattern 1, whose color is that in front.
    let (pattern, colors) = match fill {
        None => (0_u32, NO_FILL),
        Some(color) => (1 << 26, color | 0x41 << 7),
    };
    let record = data![
        font, format, kind, stands, 0_u8, 0_u8, used, 0_u32, pattern, colors
    ];
    push_record(0x00e0, &record, out);
}

/// The record of a font ([MS-XLS] 2.4.122).
fn font(style: &HeaderStyle, colors: &mut Colors) -> Vec<u8> {
    let color = style.color.map_or(AUTOMATIC, |color| colors.number(color));
    let flags: u16 = if style.is_italic { 2 } else { 0 };
    let weight: u16 = if style.is_bold { 700 } else { 400 };
    let underline = u8::from(style.is_underlined);
    let mut font = data![
        200_u16, flags, color, weight, 0_u16, underline, 0_u8, 0_u8, 0_u8
    ];
    font.extend_from_slice(&[5, 0]);
    font.extend_from_slice(b"Arial");
    font
}

/// The palette, in which colors that are in use and not there are at the end.
struct Colors {
    palette: Vec<Rgb>,
    replaced: usize,
}

impl Default for Colors {
    fn default() -> Self {
        Self {
            palette: palette(),
            replaced: 0,
        }
    }
}

impl Colors {
    /// The number of a color; of black where more are in use than the palette has.
    fn number(&mut self, color: Rgb) -> u16 {
        let known = self.palette.iter().position(|known| *known == color);
        let place = known.unwrap_or_else(|| {
            if self.replaced == self.palette.len() {
                return 0;
            }
            self.replaced += 1;
            let place = self.palette.len() - self.replaced;
            self.palette[place] = color;
            place
        });
        fit::<_, u16>(place) + FIRST_COLOR
    }
}

/// The number of a format that need not be defined.
fn built_in(format: &CellFormat) -> Option<u16> {
    match format {
        CellFormat::General => Some(0),
        CellFormat::Fixed(0) => Some(1),
        CellFormat::Fixed(2) => Some(2),
        CellFormat::Text => Some(49),
        CellFormat::Custom(code) => {
            let known = BUILT_IN.iter().find(|(_, known)| *known == &**code);
            known.map(|(number, _)| *number)
        }
        _ => None,
    }
}
