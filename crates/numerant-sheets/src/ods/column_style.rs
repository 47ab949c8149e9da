//! How the columns of a table look: their widths, and the styles of the header and of the first row with values.

use std::collections::{BTreeMap, HashMap};

use quick_xml::events::{BytesStart, Event};

use super::rows::repeats;
use super::styles::Styles;
use crate::color::of_digits;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::{ColumnStyle, HeaderStyle, Horizontal, StyledRange, Vertical};
use numerant_markup::{Flow, Markup, attribute, plain_attribute};

/// How cells and columns look, by the names of their styles.
#[derive(Clone, Debug, Default)]
pub(super) struct Properties {
    cells: HashMap<String, HeaderStyle>,
    /// Widths of columns, in characters.
    widths: HashMap<String, f32>,
}

impl Properties {
    /// Takes an element of the style with a name.
    pub(super) fn take(&mut self, tag: &BytesStart<'_>, family: &str, style: &str) {
        let value = |name| plain_attribute(tag, name);
        match (family, tag.local_name().as_ref()) {
            ("table-column", "table-column-properties") => {
                if let Some(width) = value("column-width").and_then(|text| characters(&text)) {
                    self.widths.insert(style.to_owned(), width);
                }
            }
            ("table-cell", kind) => {
                let look = self.cells.entry(style.to_owned()).or_default();
                match kind {
                    "text-properties" => {
                        look.is_bold |= value("font-weight").is_some_and(|weight| is_bold(&weight));
                        look.is_italic |= value("font-style").as_deref() == Some("italic");
                        let line = value("text-underline-style");
                        look.is_underlined |= line.is_some_and(|line| line != "none");
                        let color = value("color").and_then(|color| of_digits(&color));
                        look.color = color.filter(|color| *color != [0, 0, 0]).or(look.color);
                    }
                    "table-cell-properties" => {
                        let fill = value("background-color").and_then(|color| of_digits(&color));
                        look.fill = fill.or(look.fill);
                        look.alignment.wraps |= value("wrap-option").as_deref() == Some("wrap");
                        look.alignment.vertical = match value("vertical-align").as_deref() {
                            Some("top") => Some(Vertical::Top),
                            Some("middle") => Some(Vertical::Center),
                            _ => look.alignment.vertical,
                        };
                    }
                    "paragraph-properties" => {
                        look.alignment.horizontal = match value("text-align").as_deref() {
                            Some("start" | "left") => Some(Horizontal::Left),
                            Some("center") => Some(Horizontal::Center),
                            Some("end" | "right") => Some(Horizontal::Right),
                            Some("justify") => Some(Horizontal::Justify),
                            _ => look.alignment.horizontal,
                        };
                    }
                    _ => {}
                }
            }
            _ => {}
        }
    }

    /// How the cells of a style look, without regard to its parents.
    pub(super) fn of_cell(&self, style: &str) -> Option<HeaderStyle> {
        self.cells.get(style).copied()
    }
}

fn is_bold(weight: &str) -> bool {
    weight == "bold" || weight.parse::<u32>().is_ok_and(|weight| weight >= 600)
}

/// A length as characters of the usual font, which are about two millimeters wide.
fn characters(length: &str) -> Option<f32> {
    let end = length.find(|character: char| character.is_ascii_alphabetic())?;
    let (number, unit) = length.split_at(end);
    let millimeters = match unit {
        "mm" => 1.0,
        "cm" => 10.0,
        "in" => 25.4,
        "pt" => 25.4 / 72.0,
        "pc" => 25.4 / 6.0,
        _ => return None,
    };
    let number: f32 = number.parse().ok()?;
    let width = (number * millimeters - 3.0) / 2.0;
    // Widths to a hundredth of a character.
    let width = (width * 100.0).round() / 100.0;
    (width > 0.0 && width <= 255.0).then_some(width)
}

/// How the columns of a range look. The markup is after the start of the table.
pub(super) fn column_styles(
    markup: &mut Markup,
    styles: &Styles,
    range: &StyledRange,
) -> Result<Vec<ColumnStyle>, ReadProblem> {
    // The styles of columns, and those of their cells, up to each column.
    let mut columns: Vec<(u64, String, String)> = Vec::new();
    let mut header: BTreeMap<u64, String> = BTreeMap::new();
    let mut values: BTreeMap<u64, String> = BTreeMap::new();
    let (mut row, mut row_end) = (0_u64, 0_u64);
    let mut column = 0_u64;
    markup.pull(|event| {
        let tag = match &event {
            Event::Start(tag) | Event::Empty(tag) => tag,
            Event::End(tag) if tag.local_name().as_ref() == "table" => return Ok(Flow::Pause),
            _ => return Ok(Flow::On),
        };
        let style = || attribute(tag, "style-name").unwrap_or_default();
        match tag.local_name().as_ref() {
            "table-column" => {
                let count = repeats(attribute(tag, "number-columns-repeated").as_deref())?;
                let end = columns
                    .last()
                    .map_or(0, |known| known.0)
                    .saturating_add(count);
                let of_cells = attribute(tag, "default-cell-style-name").unwrap_or_default();
                columns.push((end, style(), of_cells));
            }
            "table-row" => {
                let count = repeats(attribute(tag, "number-rows-repeated").as_deref())?;
                row = row_end + 1;
                row_end = row_end.saturating_add(count);
                column = 0;
                if row > range.first.max(range.header.unwrap_or(0)) {
                    return Ok(Flow::Pause);
                }
            }
            "table-cell" | "covered-table-cell" => {
                let count = repeats(attribute(tag, "number-columns-repeated").as_deref())?;
                let last = column.saturating_add(count).min(range.columns.end.into());
                let rows = row..=row_end;
                let named = attribute(tag, "style-name");
                for place in column..last {
                    let Some(style) = &named else { break };
                    if range.header.is_some_and(|header| rows.contains(&header)) {
                        header.insert(place, style.clone());
                    } else if rows.contains(&range.first) {
                        values.insert(place, style.clone());
                    }
                }
                column = column.saturating_add(count);
            }
            _ => {}
        }
        Ok(Flow::On)
    })?;
    let look = |style: Option<&String>| style.map(|style| styles.look(style)).unwrap_or_default();
    let found = range.columns.clone().map(|column| {
        let column = u64::from(column);
        let of_column = columns.iter().find(|known| column < known.0);
        let of_cells = of_column.map(|known| &known.2);
        ColumnStyle {
            width: of_column.and_then(|known| styles.properties().widths.get(&known.1).copied()),
            alignment: look(values.get(&column).or(of_cells)).alignment,
            header: range.header.map(|_| look(header.get(&column).or(of_cells))),
        }
    });
    Ok(found.collect())
}
