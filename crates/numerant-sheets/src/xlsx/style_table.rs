//! The table of cell styles of a workbook that is written (ECMA-376 Part 1, 18.8.39).

use super::write::MAIN;
use crate::style_entries::{StyleEntries, StyleEntry};
use numerant_format::sheet::{Alignment, BUILT_IN, CellFormat, HeaderStyle, Rgb, Vertical};
use numerant_markup::push_escaped;

/// The style of headers that have none of their own: bold.
pub(super) const HEADER: usize = 1;

/// Styles in front of those in use: none, and that of headers.
const BEFORE: usize = 2;

/// The cell styles in use.
#[derive(Default)]
pub(super) struct StyleTable {
    entries: StyleEntries,
}

/// The number of a number format that is built in.
fn built_in(code: &str) -> Option<u16> {
    let known = BUILT_IN.iter().find(|(_, known)| *known == code);
    known.map(|(number, _)| *number)
}

impl StyleTable {
    /// The number of the style for values under a format.
    pub(super) fn of(&mut self, format: &CellFormat, alignment: Alignment) -> usize {
        let place = self.entries.of(format, alignment);
        place.map_or(0, |place| place + BEFORE)
    }

    /// The number of a style for headers.
    pub(super) fn of_header(&mut self, style: HeaderStyle) -> usize {
        let place = self.entries.of_header(style);
        place.map_or(0, |place| place + BEFORE)
    }

    /// The part of the package.
    pub(super) fn xml(&self) -> String {
        let (mut formats, mut styles) = (String::new(), String::new());
        let mut fonts = vec![
            font(&HeaderStyle::default()),
            font(&HeaderStyle {
                is_bold: true,
                ..HeaderStyle::default()
            }),
        ];
        let mut fills = vec![
            "<fill><patternFill patternType=\"none\"/></fill>".to_owned(),
            "<fill><patternFill patternType=\"gray125\"/></fill>".to_owned(),
        ];
        let mut own: Vec<String> = Vec::new();
        for entry in self.entries.all() {
            let (id, font_id, fill_id, alignment) = match entry {
                StyleEntry::Value(format, alignment) => {
                    (format_id(format, &mut own), 0, 0, *alignment)
                }
                StyleEntry::Header(style) => {
                    let fill = style
                        .fill
                        .map_or(0, |color| place_of(fill(color), &mut fills));
                    (0, place_of(font(style), &mut fonts), fill, style.alignment)
                }
            };
            styles.push_str(&format!(
                "<xf numFmtId=\"{id}\" fontId=\"{font_id}\" fillId=\"{fill_id}\" borderId=\"0\" xfId=\"0\""
            ));
            for (is_used, name) in [
                (matches!(entry, StyleEntry::Value(..)), "applyNumberFormat"),
                (font_id > 0, "applyFont"),
                (fill_id > 0, "applyFill"),
            ] {
                if is_used {
                    styles.push_str(&format!(" {name}=\"1\""));
                }
            }
            styles.push_str(&end(alignment));
        }
        for (place, code) in own.iter().enumerate() {
            let mut escaped = Vec::new();
            push_escaped(code, true, &mut escaped);
            formats.push_str(&format!(
                "<numFmt numFmtId=\"{}\" formatCode=\"{}\"/>",
                OWN_FORMATS + place,
                String::from_utf8_lossy(&escaped)
            ));
        }
        if !own.is_empty() {
            formats = format!("<numFmts count=\"{}\">{formats}</numFmts>", own.len());
        }
        let count = self.entries.all().len() + BEFORE;
        let plain = "<xf numFmtId=\"0\" fontId=\"0\" fillId=\"0\" borderId=\"0\"";
        format!(
            "<styleSheet xmlns=\"{MAIN}\">{formats}<fonts count=\"{}\">{}</fonts><fills count=\"{}\">{}</fills>\
             <borders count=\"1\"><border><left/><right/><top/><bottom/><diagonal/></border></borders>\
             <cellStyleXfs count=\"1\">{plain}/></cellStyleXfs><cellXfs count=\"{count}\">\
             {plain} xfId=\"0\"/><xf numFmtId=\"0\" fontId=\"1\" fillId=\"0\" borderId=\"0\" \
             xfId=\"0\" applyFont=\"1\"/>{styles}</cellXfs><cellStyles count=\"1\"><cellStyle \
             name=\"Normal\" xfId=\"0\" builtinId=\"0\"/></cellStyles></styleSheet>",
            fonts.len(),
            fonts.concat(),
            fills.len(),
            fills.concat(),
        )
    }
}

/// Number formats from this number on are a workbook's own.
const OWN_FORMATS: usize = 164;

/// The number of a number format, which is added to those of the workbook if it is not built in.
fn format_id(format: &CellFormat, own: &mut Vec<String>) -> usize {
    match format {
        CellFormat::General => 0,
        CellFormat::Fixed(0) => 1,
        CellFormat::Fixed(2) => 2,
        CellFormat::Text => 49,
        CellFormat::Custom(code) if built_in(code).is_some() => {
            built_in(code).unwrap_or_default().into()
        }
        format => OWN_FORMATS + place_of(format.code(), own),
    }
}

/// The place of an entry of a list, to which it is added if it is not there.
fn place_of(entry: String, list: &mut Vec<String>) -> usize {
    list.iter()
        .position(|known| *known == entry)
        .unwrap_or_else(|| {
            list.push(entry);
            list.len() - 1
        })
}

fn font(style: &HeaderStyle) -> String {
    let mut out = "<font>".to_owned();
    for (is_set, tag) in [
        (style.is_bold, "<b/>"),
        (style.is_italic, "<i/>"),
        (style.is_underlined, "<u/>"),
    ] {
        out.push_str(if is_set { tag } else { "" });
    }
    out.push_str("<sz val=\"11\"/>");
    if let Some(color) = style.color {
        out.push_str(&format!("<color rgb=\"{}\"/>", opaque(color)));
    }
    out + "<name val=\"Calibri\"/><family val=\"2\"/></font>"
}

fn fill(color: Rgb) -> String {
    format!(
        "<fill><patternFill patternType=\"solid\"><fgColor rgb=\"{}\"/><bgColor indexed=\"64\"/>\
         </patternFill></fill>",
        opaque(color)
    )
}

/// A color in digits, after those of its opacity.
fn opaque([red, green, blue]: Rgb) -> String {
    format!("FF{red:02X}{green:02X}{blue:02X}")
}

/// The end of the tag of a style, with its alignment.
fn end(alignment: Alignment) -> String {
    if alignment == Alignment::default() {
        return "/>".to_owned();
    }
    let mut out = " applyAlignment=\"1\"><alignment".to_owned();
    if let Some(horizontal) = alignment.horizontal {
        out.push_str(&format!(" horizontal=\"{}\"", horizontal.name()));
    }
    match alignment.vertical {
        Some(Vertical::Top) => out.push_str(" vertical=\"top\""),
        Some(Vertical::Center) => out.push_str(" vertical=\"center\""),
        None => {}
    }
    if alignment.wraps {
        out.push_str(" wrapText=\"1\"");
    }
    out + "/></xf>"
}
