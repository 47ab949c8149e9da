//! The fonts of sheets.

use crate::fonts::{FontFace, FontFamily};
use numerant_format::sheet::FontLook;

/// The built-in fonts are wider than the usual ones of sheets, whose cells are made for these.
const SANS: f32 = 0.92;
const SERIF: f32 = 0.95;

/// A built-in font in a size.
#[derive(Clone, Copy, Debug)]
pub(super) struct Face {
    pub(super) face: FontFace,
    pub(super) size: f32,
}

/// The built-in font for one of a sheet.
pub(super) fn face(font: &FontLook) -> Face {
    let name = font.family.to_lowercase();
    let is_one_of = |names: &[&str]| names.iter().any(|known| name.contains(known));
    let (family, factor) = if is_one_of(&["courier", "mono", "consol", "typewriter"]) {
        (FontFamily::Mono, 1.0)
    } else if is_one_of(&[
        "times", "serif", "cambria", "georgia", "garamond", "book", "roman",
    ]) && !name.contains("sans")
    {
        (FontFamily::Serif, SERIF)
    } else {
        (FontFamily::Sans, SANS)
    };
    Face {
        face: FontFace {
            family,
            is_bold: font.is_bold,
            is_italic: font.is_italic,
        },
        size: font.size * factor,
    }
}
