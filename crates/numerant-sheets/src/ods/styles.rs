//! The styles of cells as far as they say how numbers show, and under which number format.

use std::collections::HashMap;

use quick_xml::events::{BytesStart, Event};

use super::column_style::Properties;
use super::number_code::{NumberCode, currency_of};
use numerant_format::sheet::{Alignment, CellStyle, HeaderStyle, Moments, NumberFormats, Shown};
use numerant_markup::{attribute, plain_attribute, push_reference};

/// Styles of cells and the number styles that they name.
#[derive(Clone, Debug, Default)]
pub(super) struct Styles {
    shown: HashMap<String, (Shown, NumberCode)>,
    /// The number styles, once all are read.
    resolved: HashMap<String, CellStyle>,
    /// Cell styles: the number style of each, or its parent's.
    cells: HashMap<String, (Option<String>, Option<String>)>,
    properties: Properties,
    /// The sign of the currency of the document's country.
    currency: &'static str,
    /// Table styles whose tables are not shown.
    hidden: Vec<String>,
    /// The number style that is being read, the cell or table style, and whether its last sign was
    /// a `T`.
    number: Option<(String, Shown, NumberCode)>,
    family: String,
    name: String,
    literal: bool,
    letter: bool,
}

impl Styles {
    /// Takes an event; those that are about styles are kept.
    pub(super) fn take(&mut self, event: &Event<'_>) {
        match event {
            Event::Start(tag) => self.begin(tag, false),
            Event::Empty(tag) => self.begin(tag, true),
            Event::Text(text) if self.literal => {
                let text = text.xml10_content();
                self.letter = text == "T";
                self.push_characters(&text);
            }
            Event::GeneralRef(name) if self.literal => {
                let mut text = String::new();
                // What represents no character is left out of a format.
                if push_reference(name, &mut text).is_ok() {
                    self.push_characters(&text);
                }
            }
            Event::End(tag) => match tag.local_name().as_ref() {
                "number-style" | "currency-style" | "percentage-style" | "date-style"
                | "time-style" | "boolean-style" | "text-style" => {
                    if let Some((name, shown, code)) = self.number.take() {
                        self.shown.insert(name, (shown, code));
                    }
                }
                "text" | "currency-symbol" => {
                    self.literal = false;
                    if let Some((_, _, code)) = &mut self.number {
                        code.end_text();
                    }
                }
                _ => {}
            },
            _ => {}
        }
    }

    fn push_characters(&mut self, text: &str) {
        if let Some((_, _, code)) = &mut self.number {
            code.characters(text);
        }
    }

    fn begin(&mut self, tag: &BytesStart<'_>, empty: bool) {
        match tag.local_name().as_ref() {
            kind @ ("number-style" | "currency-style" | "percentage-style" | "boolean-style"
            | "text-style" | "date-style" | "time-style") => {
                let name = attribute(tag, "name").unwrap_or_default();
                let shown = match kind {
                    "date-style" | "time-style" => Shown::Moment(Moments {
                        elapsed: attribute(tag, "truncate-on-overflow").as_deref() == Some("false"),
                        ..Moments::default()
                    }),
                    // The value of a percentage is a hundredth of what it shows.
                    _ => Shown::PLAIN,
                };
                self.letter = false;
                let code = NumberCode::new(tag);
                if empty {
                    self.shown.insert(name, (shown, code));
                } else {
                    self.number = Some((name, shown, code));
                }
            }
            "style" => {
                self.family = attribute(tag, "family").unwrap_or_default();
                self.name = attribute(tag, "name").unwrap_or_default();
                if self.family == "table-cell" {
                    let number = attribute(tag, "data-style-name");
                    let parent = attribute(tag, "parent-style-name");
                    self.cells.insert(self.name.clone(), (number, parent));
                }
            }
            "table-properties" if self.family == "table" => {
                if attribute(tag, "display").as_deref() == Some("false") {
                    self.hidden.push(self.name.clone());
                }
            }
            "default-style" => {
                self.family = attribute(tag, "family").unwrap_or_default();
                self.name.clear();
            }
            "table-column-properties"
            | "table-cell-properties"
            | "text-properties"
            | "paragraph-properties"
                if self.number.is_none() =>
            {
                if let Some(country) = plain_attribute(tag, "country") {
                    self.currency = currency_of(&country).unwrap_or(self.currency);
                }
                self.properties.take(tag, &self.family, &self.name);
            }
            sign => {
                if let Some((_, shown, code)) = &mut self.number {
                    let letter = self.letter;
                    part(tag, sign, shown, letter);
                    let counts_on = matches!(shown, Shown::Moment(moments) if moments.elapsed);
                    code.element(tag, counts_on);
                    if empty && sign == "currency-symbol" {
                        code.characters(self.currency);
                        code.end_text();
                    }
                    self.literal = matches!(sign, "text" | "currency-symbol") && !empty;
                    self.letter = false;
                }
            }
        }
    }

    /// Gives the number styles that were read the numbers of their format codes.
    pub(super) fn resolve(&mut self, numbers: &NumberFormats) {
        let resolved = self.shown.iter().map(|(name, (shown, code))| {
            let of = |style: &str| self.shown.get(style).map(|(_, code)| code);
            let style = CellStyle {
                shown: *shown,
                format: numbers.number(&code.finish(of)),
            };
            (name.clone(), style)
        });
        self.resolved = resolved.collect();
    }

    /// How numbers show under a cell style.
    pub(super) fn cell_style(&self, style: &str) -> CellStyle {
        let mut style = style;
        // Styles may have parents, and those others; a circle of them ends here.
        for _ in 0..8 {
            match self.cells.get(style) {
                Some((Some(number), _)) => {
                    return self
                        .resolved
                        .get(number)
                        .copied()
                        .unwrap_or(CellStyle::PLAIN);
                }
                Some((None, Some(parent))) => style = parent,
                _ => break,
            }
        }
        CellStyle::PLAIN
    }

    /// How cells and columns look.
    pub(super) fn properties(&self) -> &Properties {
        &self.properties
    }

    /// How the cells of a style look: what it says itself comes before what its parents say.
    pub(super) fn look(&self, style: &str) -> HeaderStyle {
        let mut look = HeaderStyle::default();
        let mut style = style;
        for _ in 0..8 {
            if let Some(known) = self.properties.of_cell(style) {
                look = HeaderStyle {
                    is_bold: look.is_bold || known.is_bold,
                    is_italic: look.is_italic || known.is_italic,
                    is_underlined: look.is_underlined || known.is_underlined,
                    color: look.color.or(known.color),
                    fill: look.fill.or(known.fill),
                    alignment: Alignment {
                        horizontal: look.alignment.horizontal.or(known.alignment.horizontal),
                        vertical: look.alignment.vertical.or(known.alignment.vertical),
                        wraps: look.alignment.wraps || known.alignment.wraps,
                    },
                };
            }
            match self.cells.get(style) {
                Some((_, Some(parent))) => style = parent,
                _ => break,
            }
        }
        look
    }

    /// Whether tables of a style are not shown.
    pub(super) fn hides(&self, style: &str) -> bool {
        self.hidden.iter().any(|hidden| hidden == style)
    }
}

/// Takes note of a part of a number style.
fn part(tag: &BytesStart<'_>, sign: &str, shown: &mut Shown, letter: bool) {
    match shown {
        Shown::Number { places } => {
            if sign == "number" {
                let number = |name| plain_attribute(tag, name).and_then(|text| text.parse().ok());
                let least = number("min-decimal-places").or_else(|| number("decimal-places"));
                *places = least.unwrap_or(0_u8).min(30);
            }
        }
        Shown::Moment(moments) => match sign {
            "year" | "month" | "day" | "era" | "quarter" | "week-of-year" | "day-of-week" => {
                moments.date = true;
            }
            "hours" => {
                moments.letter |= letter && moments.date;
                moments.time = true;
            }
            "minutes" => moments.time = true,
            "seconds" => {
                moments.time = true;
                moments.seconds = true;
                let places = plain_attribute(tag, "decimal-places");
                let places = places.and_then(|text| text.parse::<u8>().ok());
                moments.fraction = places.unwrap_or(0).min(3);
            }
            _ => {}
        },
        Shown::Boolean(_) => {}
    }
}
