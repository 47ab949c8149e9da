//! The styles of cells of a spreadsheet that is written, after OpenDocument 1.3 (part 3, 16).

use super::number_style::style_of_code;
use numerant_format::sheet::{
    Alignment, CellFormat, HeaderStyle, Horizontal, Plan, Precision, Rgb, Spelling, Vertical,
    hexadecimal,
};

/// The formats that cells under a plan may have.
pub(super) fn formats_of(plan: &Plan, formats: &mut Vec<CellFormat>) {
    match plan {
        Plan::Text => {}
        Plan::Number(format)
        | Plan::Moment(format)
        | Plan::Boolean(format)
        | Plan::Written(_, format) => formats.push(format.clone()),
        Plan::AsInSource(_) => {
            formats.extend((1..=30).map(CellFormat::Fixed));
            formats.push(CellFormat::Date);
            formats.extend(Spelling::ALL.map(CellFormat::Boolean));
            let precisions = [Precision::Minutes, Precision::Seconds].into_iter();
            for precision in precisions.chain((1..=3).map(Precision::Fraction)) {
                for flag in [false, true] {
                    formats.push(CellFormat::Datetime {
                        letter: flag,
                        precision,
                    });
                    formats.push(CellFormat::Time {
                        elapsed: flag,
                        precision,
                    });
                }
            }
        }
    }
}

/// The number style for a format; nothing for one that needs none.
pub(super) fn number_style(format: &CellFormat, name: &str) -> String {
    let number = |least: u8, most: u8| {
        format!(
            "<number:number-style style:name=\"{name}\"><number:number \
             number:decimal-places=\"{most}\" number:min-decimal-places=\"{least}\" \
             number:min-integer-digits=\"1\"/></number:number-style>"
        )
    };
    let date = "<number:year number:style=\"long\"/><number:text>-</number:text>\
        <number:month number:style=\"long\"/><number:text>-</number:text>\
        <number:day number:style=\"long\"/>";
    let time = |precision: Precision| {
        let places = match precision {
            Precision::Minutes => None,
            Precision::Seconds => Some(0),
            Precision::Fraction(digits) => Some(digits),
        };
        let seconds = places.map(|places| {
            format!(
                "<number:text>:</number:text><number:seconds number:style=\"long\" \
                 number:decimal-places=\"{places}\"/>"
            )
        });
        format!(
            "<number:hours number:style=\"long\"/><number:text>:</number:text>\
             <number:minutes number:style=\"long\"/>{}",
            seconds.unwrap_or_default()
        )
    };
    match format {
        CellFormat::General => String::new(),
        CellFormat::Fixed(places) => number(*places, *places),
        CellFormat::AtLeast(places) => number(*places, (*places).max(15)),
        CellFormat::Custom(code) => style_of_code(code, name),
        CellFormat::Date => {
            format!("<number:date-style style:name=\"{name}\">{date}</number:date-style>")
        }
        CellFormat::Datetime { letter, precision } => format!(
            "<number:date-style style:name=\"{name}\">{date}<number:text>{}</number:text>{}\
             </number:date-style>",
            if *letter { "T" } else { " " },
            time(*precision)
        ),
        CellFormat::Time { elapsed, precision } => format!(
            "<number:time-style style:name=\"{name}\"{}>{}</number:time-style>",
            if *elapsed {
                " number:truncate-on-overflow=\"false\""
            } else {
                ""
            },
            time(*precision)
        ),
        CellFormat::Text => format!(
            "<number:text-style style:name=\"{name}\"><number:text-content/></number:text-style>"
        ),
        CellFormat::Boolean(_) => format!(
            "<number:boolean-style style:name=\"{name}\"><number:boolean/></number:boolean-style>"
        ),
    }
}

/// The style of a cell with the number style at a place, and the elements inside it.
pub(super) fn cell_style(name: &str, number_style: Option<usize>, properties: &str) -> String {
    let number_style = number_style.map(|place| format!(" style:data-style-name=\"N{place}\""));
    let number_style = number_style.unwrap_or_default();
    let start =
        format!("<style:style style:name=\"{name}\" style:family=\"table-cell\"{number_style}");
    match properties {
        "" => format!("{start}/>"),
        properties => format!("{start}>{properties}</style:style>"),
    }
}

/// The properties of a cell and its paragraphs for an alignment, and the color after them.
pub(super) fn alignment_properties(alignment: Alignment, fill: Option<Rgb>) -> String {
    let mut cell = String::new();
    if let Some(color) = fill {
        cell.push_str(&format!(" fo:background-color=\"{}\"", hexadecimal(color)));
    }
    match alignment.vertical {
        Some(Vertical::Top) => cell.push_str(" style:vertical-align=\"top\""),
        Some(Vertical::Center) => cell.push_str(" style:vertical-align=\"middle\""),
        None => {}
    }
    if alignment.wraps {
        cell.push_str(" fo:wrap-option=\"wrap\"");
    }
    let mut paragraph = String::new();
    if let Some(horizontal) = alignment.horizontal {
        cell.push_str(" style:text-align-source=\"fix\"");
        let name = match horizontal {
            Horizontal::Left => "start",
            Horizontal::Center => "center",
            Horizontal::Right => "end",
            Horizontal::Justify => "justify",
        };
        paragraph = format!("<style:paragraph-properties fo:text-align=\"{name}\"/>");
    }
    if !cell.is_empty() {
        cell = format!("<style:table-cell-properties{cell}/>");
    }
    cell + &paragraph
}

/// The properties of the cells of a header.
pub(super) fn header_properties(style: HeaderStyle) -> String {
    let mut text = String::new();
    for (is_set, property) in [
        (style.is_bold, " fo:font-weight=\"bold\""),
        (style.is_italic, " fo:font-style=\"italic\""),
        (
            style.is_underlined,
            " style:text-underline-style=\"solid\" style:text-underline-width=\"auto\" \
             style:text-underline-color=\"font-color\"",
        ),
    ] {
        text.push_str(if is_set { property } else { "" });
    }
    if let Some(color) = style.color {
        text.push_str(&format!(" fo:color=\"{}\"", hexadecimal(color)));
    }
    if !text.is_empty() {
        text = format!("<style:text-properties{text}/>");
    }
    alignment_properties(style.alignment, style.fill) + &text
}
