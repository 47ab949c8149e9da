//! Fonts, and texts as glyphs of them.

use std::io;
use std::sync::{Arc, OnceLock};

use krilla::text::{Font, GlyphId, KrillaGlyph};
use rustybuzz::{Direction, Face, UnicodeBuffer};
use unicode_bidi::BidiInfo;

/// Characters up to this are written without a look at their neighbours.
const SIMPLE: usize = 0x250;

/// A font.
struct LoadedFont {
    face: Face<'static>,
    font: Font,
    units: f32,
    /// The glyph and the advance, in ems, of the first characters.
    simple: Vec<Option<(GlyphId, f32)>>,
}

impl LoadedFont {
    fn new(bytes: &'static [u8]) -> Option<Self> {
        let face = Face::from_slice(bytes, 0)?;
        let font = Font::new(bytes.into(), 0)?;
        let units = font.units_per_em();
        let mut loaded = Self {
            face,
            font,
            units,
            simple: Vec::new(),
        };
        loaded.simple = (0..SIMPLE as u32)
            .map(|code| char::from_u32(code).and_then(|character| loaded.glyph(character)))
            .collect();
        Some(loaded)
    }

    fn glyph(&self, character: char) -> Option<(GlyphId, f32)> {
        let id = self.face.glyph_index(character)?;
        let advance = self.face.glyph_hor_advance(id).unwrap_or(0);
        Some((GlyphId::new(id.0.into()), f32::from(advance) / self.units))
    }

    /// The glyph and the advance of a character by itself.
    fn simple(&self, character: char) -> Option<(GlyphId, f32)> {
        match self.simple.get(character as usize) {
            Some(known) => *known,
            None => self.glyph(character),
        }
    }
}

/// A family of fonts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) enum FontFamily {
    #[default]
    Sans,
    Serif,
    Mono,
}

/// The font of a text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) struct FontFace {
    pub(crate) family: FontFamily,
    pub(crate) is_bold: bool,
    pub(crate) is_italic: bool,
}

impl FontFace {
    pub(crate) const REGULAR: Self = Self {
        family: FontFamily::Sans,
        is_bold: false,
        is_italic: false,
    };
    pub(crate) const BOLD: Self = Self {
        is_bold: true,
        ..Self::REGULAR
    };

    /// The built-in font, which is loaded once.
    fn built_in(self) -> &'static LoadedFont {
        static FONTS: [OnceLock<LoadedFont>; 12] = [const { OnceLock::new() }; 12];
        let family = match self.family {
            FontFamily::Sans => 0,
            FontFamily::Serif => 4,
            FontFamily::Mono => 8,
        };
        let place = family + usize::from(self.is_bold) + 2 * usize::from(self.is_italic);
        FONTS[place]
            .get_or_init(|| LoadedFont::new(self.bytes()).expect("the built-in fonts are complete"))
    }

    fn bytes(self) -> &'static [u8] {
        use dejavu::{sans_condensed, sans_mono, serif_condensed};
        let choices: [fn() -> &'static [u8]; 4] = match self.family {
            FontFamily::Sans => [
                sans_condensed::regular,
                sans_condensed::bold,
                sans_condensed::oblique,
                sans_condensed::bold_oblique,
            ],
            FontFamily::Serif => [
                serif_condensed::regular,
                serif_condensed::bold,
                serif_condensed::italic,
                serif_condensed::bold_italic,
            ],
            FontFamily::Mono => [
                sans_mono::regular,
                sans_mono::bold,
                sans_mono::oblique,
                sans_mono::bold_oblique,
            ],
        };
        choices[usize::from(self.is_bold) + 2 * usize::from(self.is_italic)]()
    }
}

/// The fonts of a document: those that are built in, and one for what they lack.
#[derive(Clone)]
pub(crate) struct Fonts {
    more: Option<Arc<LoadedFont>>,
}

/// Glyphs of one font that follow each other.
pub(crate) struct GlyphRun {
    pub(crate) font: Font,
    pub(crate) text: String,
    pub(crate) glyphs: Vec<KrillaGlyph>,
    /// The sum of their advances in ems.
    pub(crate) width: f32,
}

/// A character that no font has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct MissingGlyph(pub(crate) char);

impl Fonts {
    /// The built-in fonts, and the one in a file.
    pub(crate) fn load(file: Option<&str>) -> io::Result<Self> {
        let Some(path) = file else {
            return Ok(Self { more: None });
        };
        let failed =
            |cause: io::Error| io::Error::new(cause.kind(), format!("the font {path}: {cause}"));
        let bytes = std::fs::read(path).map_err(failed)?;
        // It stays for as long as the program runs, as the built-in ones do.
        let bytes: &'static [u8] = Box::leak(bytes.into_boxed_slice());
        let loaded = LoadedFont::new(bytes)
            .ok_or_else(|| failed(io::Error::other("it is not a TrueType or OpenType font")))?;
        Ok(Self {
            more: Some(Arc::new(loaded)),
        })
    }

    /// The fonts that a character may be in, the first first.
    fn candidates(&self, face: FontFace) -> impl Iterator<Item = &LoadedFont> {
        let regular = FontFace::REGULAR.built_in();
        [Some(face.built_in()), Some(regular), self.more.as_deref()]
            .into_iter()
            .flatten()
    }

    /// The width of a text in ems, without regard to what neighbours make of each other.
    pub(crate) fn width(&self, text: &str, face: FontFace) -> f32 {
        text.chars()
            .map(|character| {
                let mut found = self
                    .candidates(face)
                    .filter_map(|font| font.simple(character));
                found.next().map_or(0.6, |(_, advance)| advance)
            })
            .sum()
    }

    /// A line of text as glyphs.
    pub(crate) fn shape(&self, text: &str, face: FontFace) -> Result<Vec<GlyphRun>, MissingGlyph> {
        // Right-to-left scripts begin here.
        if !text.chars().any(|character| character >= '\u{590}') {
            return self.shape_run(text, face, false);
        }
        let bidi = BidiInfo::new(text, None);
        let mut all = Vec::new();
        for paragraph in &bidi.paragraphs {
            let (levels, runs) = bidi.visual_runs(paragraph, paragraph.range.clone());
            for run in runs {
                let is_rtl = levels[run.start].is_rtl();
                let mut shaped = self.shape_run(&text[run], face, is_rtl)?;
                if is_rtl {
                    shaped.reverse();
                }
                all.append(&mut shaped);
            }
        }
        Ok(all)
    }

    /// Text of one direction as glyphs.
    fn shape_run(
        &self,
        text: &str,
        face: FontFace,
        is_rtl: bool,
    ) -> Result<Vec<GlyphRun>, MissingGlyph> {
        let mut runs: Vec<(&LoadedFont, String)> = Vec::new();
        for character in text.chars() {
            let has = |font: &&LoadedFont| {
                font.simple(character)
                    .is_some_and(|(glyph, _)| glyph.to_u32() != 0)
                    || is_mark(character)
            };
            let last = runs.last().map(|(font, _)| *font);
            let font = last
                .filter(|font| has(font))
                .or_else(|| self.candidates(face).find(has))
                .ok_or(MissingGlyph(character))?;
            match runs.last_mut() {
                Some((known, run)) if std::ptr::eq(*known, font) => run.push(character),
                _ => runs.push((font, character.to_string())),
            }
        }
        Ok(runs
            .into_iter()
            .map(|(font, run)| glyphs(font, run, is_rtl))
            .collect())
    }
}

/// Characters that change how others look, and have no glyph of their own.
fn is_mark(character: char) -> bool {
    matches!(character, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{206f}'
        | '\u{fe00}'..='\u{fe0f}' | '\u{feff}')
}

/// A text of which all characters are in a font as its glyphs.
fn glyphs(font: &LoadedFont, text: String, is_rtl: bool) -> GlyphRun {
    let mut glyphs = Vec::with_capacity(text.len());
    let mut width = 0.0;
    if text.chars().all(|character| (character as usize) < SIMPLE) {
        for (start, character) in text.char_indices() {
            let Some((glyph, advance)) = font.simple(character) else {
                continue;
            };
            let range = start..start + character.len_utf8();
            glyphs.push(KrillaGlyph::new(glyph, advance, 0.0, 0.0, 0.0, range, None));
            width += advance;
        }
    } else {
        let mut buffer = UnicodeBuffer::new();
        buffer.push_str(&text);
        buffer.guess_segment_properties();
        buffer.set_direction(if is_rtl {
            Direction::RightToLeft
        } else {
            Direction::LeftToRight
        });
        let shaped = rustybuzz::shape(&font.face, &[], buffer);
        let infos = shaped.glyph_infos();
        let starts: Vec<usize> = infos.iter().map(|info| info.cluster as usize).collect();
        let mut ends = starts.clone();
        ends.push(text.len());
        ends.sort_unstable();
        for (info, position) in infos.iter().zip(shaped.glyph_positions()) {
            let start = info.cluster as usize;
            let end = ends
                .iter()
                .copied()
                .find(|end| *end > start)
                .unwrap_or(text.len());
            let ems = |units: i32| units as f32 / font.units;
            glyphs.push(KrillaGlyph::new(
                GlyphId::new(info.glyph_id),
                ems(position.x_advance),
                ems(position.x_offset),
                ems(position.y_offset),
                0.0,
                start..end,
                None,
            ));
            width += ems(position.x_advance);
        }
    }
    GlyphRun {
        font: font.font.clone(),
        text,
        glyphs,
        width,
    }
}
