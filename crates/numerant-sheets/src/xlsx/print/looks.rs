//! How cells look, by the numbers of their styles, and their number formats.

use roxmltree::Node;

use super::{child, descendant, elements, is_true, name, number, parsed};
use crate::color::of_digits;
use crate::package::Package;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::{
    BUILT_IN, Border, BorderStroke, CellLook, DisplayFormat, Epoch, FontLook, PrintAlign,
    PrintVertical, Rgb,
};

use super::super::edit::Colors;

/// The looks of a workbook.
pub(super) struct Looks {
    pub(super) all: Vec<CellLook>,
    displays: Vec<DisplayFormat>,
    /// The numbers under each style are days.
    is_moment: Vec<bool>,
    epoch: Epoch,
    theme: Colors,
}

impl Looks {
    /// Reads the styles of a workbook.
    pub(super) fn read(
        package: &Package,
        styles: &str,
        theme: Option<&str>,
        is_1904: bool,
    ) -> Result<Self, ReadProblem> {
        let theme = match theme {
            Some(path) => Colors::read(package, path)?,
            None => Colors::default(),
        };
        let epoch = if is_1904 {
            Epoch::Year1904
        } else {
            Epoch::Year1900
        };
        let mut looks = Self {
            all: vec![CellLook::default()],
            displays: vec![DisplayFormat::new("General")],
            is_moment: vec![false],
            epoch,
            theme,
        };
        if styles.is_empty() {
            return Ok(looks);
        }
        let document = parsed(styles, "styles")?;
        let root = document.root_element();
        let own: Vec<(u32, &str)> = elements(child(root, "numFmts"))
            .filter_map(|format| {
                Some((number(format, "numFmtId")?, format.attribute("formatCode")?))
            })
            .collect();
        let fonts: Vec<FontLook> = elements(child(root, "fonts"))
            .map(|font| looks.font(font))
            .collect();
        let fills: Vec<Option<Rgb>> = elements(child(root, "fills"))
            .map(|fill| looks.fill(fill))
            .collect();
        let borders: Vec<_> = elements(child(root, "borders"))
            .map(|border| looks.borders(border))
            .collect();
        let entries: Vec<Node<'_, '_>> = elements(child(root, "cellXfs")).collect();
        if entries.is_empty() {
            return Ok(looks);
        }
        (looks.all, looks.displays, looks.is_moment) = (Vec::new(), Vec::new(), Vec::new());
        for entry in entries {
            let at = |attribute| number::<usize>(entry, attribute).unwrap_or(0);
            let mut look = CellLook {
                font: fonts.get(at("fontId")).cloned().unwrap_or_default(),
                fill: fills.get(at("fillId")).copied().flatten(),
                borders: borders.get(at("borderId")).copied().unwrap_or_default(),
                ..CellLook::default()
            };
            if let Some(alignment) = child(entry, "alignment") {
                align(alignment, &mut look);
            }
            looks.all.push(look);
            let id = number::<u32>(entry, "numFmtId").unwrap_or(0);
            let stated = own
                .iter()
                .find(|(known, _)| *known == id)
                .map(|(_, code)| *code);
            let built_in = BUILT_IN.iter().find(|(known, _)| u32::from(*known) == id);
            let code = stated
                .or(built_in.map(|(_, code)| *code))
                .unwrap_or("General");
            let display = DisplayFormat::new(code);
            looks.is_moment.push(display.is_moment());
            looks.displays.push(display);
        }
        Ok(looks)
    }

    /// The looks of a workbook without styles.
    #[cfg(test)]
    pub(super) fn plain() -> Self {
        Self {
            all: vec![CellLook::default()],
            displays: vec![DisplayFormat::new("General")],
            is_moment: vec![false],
            epoch: Epoch::Year1900,
            theme: Colors::default(),
        }
    }

    /// The place of the look of a style.
    pub(super) fn place(&self, style: usize) -> usize {
        if style < self.all.len() { style } else { 0 }
    }

    /// The number format of a style.
    pub(super) fn display(&self, style: usize) -> &DisplayFormat {
        &self.displays[self.place(style)]
    }

    /// A number as text, counted from the beginning of days that number formats have.
    pub(super) fn number(&self, number: f64, style: usize) -> String {
        let days = match (self.epoch, self.is_moment[self.place(style)]) {
            (Epoch::Year1904, true) => number + 1462.0,
            _ => number,
        };
        written(days)
    }

    /// A color of an element after 18.8.3.
    fn color(&self, node: Node<'_, '_>) -> Option<Rgb> {
        self.theme
            .color(|name| node.attribute(name).map(str::to_owned))
    }

    /// A color of the theme by its name in drawings.
    pub(super) fn scheme(&self, name: &str) -> Option<Rgb> {
        let names = [
            "bg1", "tx1", "bg2", "tx2", "accent1", "accent2", "accent3", "accent4", "accent5",
            "accent6",
        ];
        let place = names.iter().position(|known| *known == name)?;
        of_digits(&self.theme.opaque(&place.to_string())?)
    }

    fn font(&self, font: Node<'_, '_>) -> FontLook {
        let mut look = FontLook::default();
        for part in elements(Some(font)) {
            let is_set = part.attribute("val").is_none_or(is_true);
            match name(part) {
                "b" => look.is_bold = is_set,
                "i" => look.is_italic = is_set,
                "u" => look.is_underlined = part.attribute("val") != Some("none"),
                "strike" => look.is_struck = is_set,
                "sz" => {
                    let size = number(part, "val").filter(|size| *size > 0.0);
                    look.size = size.unwrap_or(11.0);
                }
                "color" => look.color = self.color(part).unwrap_or_default(),
                "name" => look.family = part.attribute("val").unwrap_or_default().to_owned(),
                _ => {}
            }
        }
        look
    }

    /// A fill; a gradient is its first color, and a pattern the color between its own.
    fn fill(&self, fill: Node<'_, '_>) -> Option<Rgb> {
        if let Some(gradient) = child(fill, "gradientFill") {
            return descendant(gradient, "color").and_then(|color| self.color(color));
        }
        let pattern = child(fill, "patternFill")?;
        let front = child(pattern, "fgColor").and_then(|color| self.color(color));
        let back = child(pattern, "bgColor").and_then(|color| self.color(color));
        let share = match pattern.attribute("patternType")? {
            "none" => return None,
            "solid" => return front.or(Some([0; 3])),
            "darkGray" => 0.75,
            "mediumGray" => 0.5,
            "lightGray" | "darkGrid" | "darkTrellis" => 0.25,
            "gray125" => 0.125,
            "gray0625" => 0.0625,
            _ => 0.3,
        };
        let (front, back) = (front.unwrap_or([0; 3]), back.unwrap_or([255; 3]));
        let mut mixed = [0; 3];
        for (place, part) in mixed.iter_mut().enumerate() {
            let value = f64::from(front[place]) * share + f64::from(back[place]) * (1.0 - share);
            #[allow(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "it is between two bytes"
            )]
            let byte = value.round() as u8;
            *part = byte;
        }
        Some(mixed)
    }

    /// The lines at the left, top, right and bottom.
    fn borders(&self, border: Node<'_, '_>) -> [Option<Border>; 4] {
        let side = |names: [&str; 2]| {
            let line = names.iter().find_map(|name| child(border, name))?;
            let (width, stroke) = match line.attribute("style")? {
                "none" => return None,
                "hair" => (0.4, BorderStroke::Dotted),
                "medium" => (1.5, BorderStroke::Solid),
                "thick" => (2.25, BorderStroke::Solid),
                "double" => (0.75, BorderStroke::Double),
                "dotted" => (0.75, BorderStroke::Dotted),
                "dashed" | "dashDot" | "dashDotDot" => (0.75, BorderStroke::Dashed),
                "mediumDashed" | "mediumDashDot" | "mediumDashDotDot" | "slantDashDot" => {
                    (1.5, BorderStroke::Dashed)
                }
                _ => (0.75, BorderStroke::Solid),
            };
            let color = child(line, "color").and_then(|color| self.color(color));
            Some(Border {
                width,
                color: color.unwrap_or_default(),
                stroke,
            })
        };
        [
            side(["left", "start"]),
            side(["top", "top"]),
            side(["right", "end"]),
            side(["bottom", "bottom"]),
        ]
    }
}

/// A number with up to 15 digits that count, as spreadsheets show it.
pub(super) fn written(number: f64) -> String {
    let rounded: f64 = format!("{number:.14e}").parse().unwrap_or(number);
    if rounded == 0.0 {
        "0".to_owned()
    } else {
        rounded.to_string()
    }
}

fn align(alignment: Node<'_, '_>, look: &mut CellLook) {
    look.horizontal = match alignment.attribute("horizontal") {
        Some("left" | "justify" | "distributed") => PrintAlign::Left,
        Some("center") => PrintAlign::Center,
        Some("right") => PrintAlign::Right,
        Some("centerContinuous") => PrintAlign::CenterAcross,
        Some("fill") => PrintAlign::Fill,
        _ => PrintAlign::General,
    };
    look.vertical = match alignment.attribute("vertical") {
        Some("top" | "justify" | "distributed") => PrintVertical::Top,
        Some("center") => PrintVertical::Center,
        _ => PrintVertical::Bottom,
    };
    look.wraps = alignment.attribute("wrapText").is_some_and(is_true)
        || matches!(
            alignment.attribute("horizontal"),
            Some("justify" | "distributed")
        );
    look.shrinks = alignment.attribute("shrinkToFit").is_some_and(is_true);
    look.indent = number(alignment, "indent").unwrap_or(0);
    look.is_turned = number::<u32>(alignment, "textRotation").is_some_and(|turn| turn != 0);
}
