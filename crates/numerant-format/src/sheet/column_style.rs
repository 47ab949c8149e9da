//! How columns of sheets look apart from number formats: their widths, the alignment of their values, and the
//! style of the header.

use std::ops::Range;

/// A color as red, green and blue.
pub type Rgb = [u8; 3];

/// A color as `#rrggbb`, as CSS and OpenDocument write it.
pub fn hexadecimal([red, green, blue]: Rgb) -> String {
    format!("#{red:02x}{green:02x}{blue:02x}")
}

/// Where values stand from left to right, after ECMA-376 Part 1, 18.18.40.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Horizontal {
    /// At the left.
    Left,
    /// In the middle.
    Center,
    /// At the right.
    Right,
    /// At both sides.
    Justify,
}

impl Horizontal {
    /// Its name in ECMA-376.
    pub fn name(self) -> &'static str {
        match self {
            Self::Left => "left",
            Self::Center => "center",
            Self::Right => "right",
            Self::Justify => "justify",
        }
    }

    /// The alignment with a name of ECMA-376; `None` for those by the kind of value, and others.
    pub fn of_name(name: &str) -> Option<Self> {
        let all = [Self::Left, Self::Center, Self::Right, Self::Justify];
        all.into_iter().find(|known| known.name() == name)
    }
}

/// Where values stand from top to bottom, if not at the bottom.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Vertical {
    /// At the top.
    Top,
    /// In the middle.
    Center,
}

/// Where the values of cells stand.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Alignment {
    /// From left to right; by the kind of value if `None`.
    pub horizontal: Option<Horizontal>,
    /// From top to bottom; at the bottom if `None`.
    pub vertical: Option<Vertical>,
    /// Long texts are broken into lines.
    pub wraps: bool,
}

/// How the cells of a header look.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct HeaderStyle {
    /// The weight of the font.
    pub is_bold: bool,
    /// The slant of the font.
    pub is_italic: bool,
    /// A line under the text.
    pub is_underlined: bool,
    /// The color of the text; that of all texts if `None`.
    pub color: Option<Rgb>,
    /// The color after the text, if there is one.
    pub fill: Option<Rgb>,
    /// Where the text stands.
    pub alignment: Alignment,
}

/// How a column of a sheet looks apart from number formats.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct ColumnStyle {
    /// Its width in characters of the usual font, if the sheet states one.
    pub width: Option<f32>,
    /// Where its values stand.
    pub alignment: Alignment,
    /// How its header looks; `None` for a sheet without one.
    pub header: Option<HeaderStyle>,
}

/// Which columns of a sheet are looked at for their styles.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StyledRange {
    /// The row with the header, from 1, if there is one.
    pub header: Option<u64>,
    /// The first row with values, from 1.
    pub first: u64,
    /// The columns, from 0.
    pub columns: Range<u32>,
}
