//! How the columns of a sheet look: the widths that are in front of its rows, and the styles of the header and of
//! the first row with values.

use std::collections::BTreeMap;

use quick_xml::events::{BytesStart, Event};

use super::cell_reference::CellReference;
use super::edit::Colors;
use crate::package::Package;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::{
    Alignment, ColumnStyle, HeaderStyle, Horizontal, Rgb, StyledRange, Vertical,
};
use numerant_markup::{Flow, Markup, attribute, plain_attribute};

/// Where the parts of a workbook are that say how cells look.
#[derive(Clone, Debug, Default)]
pub(super) struct StyleParts {
    pub(super) styles: Option<String>,
    pub(super) theme: Option<String>,
}

/// How the columns of a range of a sheet look.
pub(super) fn column_styles(
    package: &Package,
    sheet: &str,
    parts: &StyleParts,
    range: &StyledRange,
) -> Result<Vec<ColumnStyle>, ReadProblem> {
    let found = SheetStart::read(package, sheet, range)?;
    let theme = match &parts.theme {
        Some(path) => Colors::read(package, path)?,
        None => Colors::default(),
    };
    let looks = match &parts.styles {
        Some(path) => CellLooks::read(package, path, &theme)?,
        None => CellLooks::default(),
    };
    let look = |style: Option<usize>| style.map(|style| looks.get(style)).unwrap_or_default();
    let styles = range.columns.clone().map(|column| {
        let of_column = found
            .columns
            .iter()
            .find(|known| (known.first..=known.last).contains(&column));
        let its_style = of_column.and_then(|known| known.style);
        let value = found.values.get(&column).copied().or(its_style);
        let header = found.header.get(&column).copied().or(its_style);
        ColumnStyle {
            width: of_column.and_then(|known| known.width),
            alignment: look(value).alignment,
            header: range.header.map(|_| look(header)),
        }
    });
    Ok(styles.collect())
}

/// The columns that an element of a sheet describes.
#[derive(Clone, Debug)]
struct ColumnEntry {
    first: u32,
    last: u32,
    width: Option<f32>,
    style: Option<usize>,
}

/// What is at the start of a sheet, by columns from 0.
#[derive(Debug, Default)]
struct SheetStart {
    columns: Vec<ColumnEntry>,
    header: BTreeMap<u32, usize>,
    values: BTreeMap<u32, usize>,
}

impl SheetStart {
    fn read(package: &Package, sheet: &str, range: &StyledRange) -> Result<Self, ReadProblem> {
        let mut found = Self::default();
        let mut markup = package.markup(sheet)?;
        let mut row = 0;
        let mut column = 0;
        markup.pull(|event| {
            let (Event::Start(tag) | Event::Empty(tag)) = event else {
                return Ok(Flow::On);
            };
            match tag.local_name().as_ref() {
                "col" => found.columns.extend(column_entry(&tag)),
                "row" => {
                    let number = plain_attribute(&tag, "r").and_then(|text| text.parse().ok());
                    row = number.unwrap_or(row + 1);
                    column = 0;
                    if row > range.first.max(range.header.unwrap_or(0)) {
                        return Ok(Flow::Pause);
                    }
                }
                "c" => {
                    let place =
                        plain_attribute(&tag, "r").and_then(|text| CellReference::parse(&text));
                    let at = place.map_or(column, |place| place.column);
                    column = at + 1;
                    let style = plain_attribute(&tag, "s").and_then(|text| text.parse().ok());
                    let cells = if Some(row) == range.header {
                        Some(&mut found.header)
                    } else if row == range.first {
                        Some(&mut found.values)
                    } else {
                        None
                    };
                    if let Some(cells) = cells {
                        cells.insert(at, style.unwrap_or(0));
                    }
                }
                "mergeCells" | "pageMargins" => return Ok(Flow::Pause),
                _ => {}
            }
            Ok(Flow::On)
        })?;
        Ok(found)
    }
}

fn column_entry(tag: &BytesStart<'_>) -> Option<ColumnEntry> {
    let number = |name: &str| plain_attribute(tag, name)?.parse::<u32>().ok();
    let is_hidden = plain_attribute(tag, "hidden").is_some_and(|value| is_true(&value));
    let width = plain_attribute(tag, "width").and_then(|text| text.parse::<f32>().ok());
    Some(ColumnEntry {
        first: number("min")?.checked_sub(1)?,
        last: number("max")?.checked_sub(1)?,
        // A column that is not shown comes out with the width of its values.
        width: width.filter(|width| !is_hidden && *width > 0.0 && *width <= 255.0),
        style: plain_attribute(tag, "style").and_then(|text| text.parse().ok()),
    })
}

fn is_true(text: &str) -> bool {
    matches!(text, "1" | "true" | "on")
}

/// How cells look, by the numbers of their styles.
#[derive(Debug, Default)]
struct CellLooks {
    fonts: Vec<HeaderStyle>,
    fills: Vec<Option<Rgb>>,
    /// The font, the fill and the alignment of each style.
    styles: Vec<(usize, usize, Alignment)>,
}

impl CellLooks {
    fn get(&self, style: usize) -> HeaderStyle {
        let Some((font, fill, alignment)) = self.styles.get(style).copied() else {
            return HeaderStyle::default();
        };
        HeaderStyle {
            fill: self.fills.get(fill).copied().flatten(),
            alignment,
            ..self.fonts.get(font).copied().unwrap_or_default()
        }
    }

    fn read(package: &Package, path: &str, theme: &Colors) -> Result<Self, ReadProblem> {
        let mut looks = Self::default();
        let Some(bytes) = package.bytes(path, super::SMALL)? else {
            return Ok(looks);
        };
        let mut markup = Markup::new(Box::new(std::io::Cursor::new(bytes)), path);
        let mut list = String::new();
        markup.pull(|event| {
            match &event {
                Event::Start(tag) | Event::Empty(tag) => {
                    let name = tag.local_name();
                    match name.as_ref() {
                        part @ ("fonts" | "fills" | "cellXfs" | "cellStyleXfs" | "dxfs"
                        | "borders") => {
                            part.clone_into(&mut list);
                        }
                        part => looks.take(tag, &list, part, theme),
                    }
                }
                Event::End(tag) if tag.local_name().as_ref() == list => list.clear(),
                _ => {}
            }
            Ok(Flow::On)
        })?;
        Ok(looks)
    }

    /// Takes an element of one of the lists.
    fn take(&mut self, tag: &BytesStart<'_>, list: &str, name: &str, theme: &Colors) {
        let is_set = || attribute(tag, "val").is_none_or(|value| is_true(&value));
        match (list, name) {
            ("fonts", "font") => self.fonts.push(HeaderStyle::default()),
            ("fonts", _) => {
                let Some(font) = self.fonts.last_mut() else {
                    return;
                };
                match name {
                    "b" => font.is_bold = is_set(),
                    "i" => font.is_italic = is_set(),
                    "u" => font.is_underlined = attribute(tag, "val").as_deref() != Some("none"),
                    // The usual text color is that of the program.
                    "color" => {
                        let color = theme.color(|name| plain_attribute(tag, name));
                        font.color = color.filter(|color| *color != [0, 0, 0]);
                    }
                    _ => {}
                }
            }
            ("fills", "fill") => self.fills.push(None),
            ("fills", "patternFill") => {
                let kind = attribute(tag, "patternType");
                if kind.is_some_and(|kind| kind == "solid")
                    && let Some(fill) = self.fills.last_mut()
                {
                    *fill = Some([0, 0, 0]);
                }
            }
            ("fills", "fgColor") => {
                if let Some(Some(fill)) = self.fills.last_mut() {
                    *fill = theme
                        .color(|name| plain_attribute(tag, name))
                        .unwrap_or_default();
                }
            }
            ("cellXfs", "xf") => {
                let number = |name| plain_attribute(tag, name)?.parse::<usize>().ok();
                self.styles.push((
                    number("fontId").unwrap_or(0),
                    number("fillId").unwrap_or(0),
                    Alignment::default(),
                ));
            }
            ("cellXfs", "alignment") => {
                if let Some((_, _, alignment)) = self.styles.last_mut() {
                    let horizontal = plain_attribute(tag, "horizontal");
                    *alignment = Alignment {
                        horizontal: horizontal.and_then(|name| Horizontal::of_name(&name)),
                        vertical: match plain_attribute(tag, "vertical").as_deref() {
                            Some("top") => Some(Vertical::Top),
                            Some("center") => Some(Vertical::Center),
                            _ => None,
                        },
                        wraps: plain_attribute(tag, "wrapText")
                            .is_some_and(|value| is_true(&value)),
                    };
                }
            }
            _ => {}
        }
    }
}
