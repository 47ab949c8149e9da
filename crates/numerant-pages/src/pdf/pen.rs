//! Draws on a page: rules, fills, and texts with what they are tagged by.

use krilla::color::rgb;
use krilla::geom::{PathBuilder, Point, Rect};
use krilla::num::NormalizedF32;
use krilla::paint::{Fill, FillRule};
use krilla::surface::Surface;
use krilla::tagging::{Artifact, ArtifactType, ContentTag, Identifier, SpanTag};

use super::layout::{Layout, MARGIN, PADDING, lines};
use crate::fonts::{FontWeight, Fonts, MissingGlyph};
use crate::table::{ShownCell, Side};

/// Points between lines, in sizes of the text, and from the top of a line to its base.
pub(super) const LINE: f32 = 1.25;
pub(super) const BASE: f32 = 0.98;

pub(super) const GRAY: [u8; 3] = [0x5a, 0x5a, 0x5a];

/// Where a cell stands.
#[derive(Clone, Copy)]
pub(super) struct Stands {
    pub(super) left: f32,
    pub(super) top: f32,
    pub(super) width: f32,
    pub(super) behind_mark: f32,
}

/// What draws on a page.
pub(super) struct Pen<'p> {
    pub(super) surface: Surface<'p>,
    pub(super) fonts: &'p Fonts,
    pub(super) size: f32,
}

impl Pen<'_> {
    fn set_color(&mut self, [red, green, blue]: [u8; 3]) {
        self.surface.set_fill(Some(Fill {
            paint: rgb::Color::new(red, green, blue).into(),
            opacity: NormalizedF32::ONE,
            rule: FillRule::NonZero,
        }));
    }

    /// Fills an area, which says nothing by itself.
    pub(super) fn fill(
        &mut self,
        (left, top): (f32, f32),
        (width, height): (f32, f32),
        color: [u8; 3],
    ) {
        let Some(area) = Rect::from_xywh(left, top, width.max(0.1), height) else {
            return;
        };
        let mut path = PathBuilder::new();
        path.push_rect(area);
        let Some(path) = path.finish() else { return };
        let artifact = Artifact::with_kind(ArtifactType::Layout);
        self.surface.start_tagged(ContentTag::Artifact(artifact));
        self.set_color(color);
        self.surface.draw_path(&path);
        self.surface.end_tagged();
    }

    /// Draws a line of text, and returns how wide it is.
    fn line(
        &mut self,
        text: &str,
        (left, base): (f32, f32),
        size: f32,
        weight: FontWeight,
    ) -> Result<(), MissingGlyph> {
        let mut at = left;
        for run in self.fonts.shape(text, weight)? {
            let start = Point::from_xy(at, base);
            self.surface
                .draw_glyphs(start, &run.glyphs, run.font, &run.text, size, false);
            at += run.width * size;
        }
        Ok(())
    }

    pub(super) fn tagged_line(
        &mut self,
        text: &str,
        at: (f32, f32),
        size: f32,
        weight: FontWeight,
        color: [u8; 3],
    ) -> Result<Identifier, MissingGlyph> {
        self.fonts.shape(text, weight)?;
        let id = self
            .surface
            .start_tagged(ContentTag::Span(SpanTag::empty()));
        self.set_color(color);
        let drawn = self.line(text, at, size, weight);
        self.surface.end_tagged();
        drawn.map(|()| id)
    }

    /// Draws the text of a cell. What it is tagged by, unless it is a repeated header.
    pub(super) fn cell(
        &mut self,
        cell: &ShownCell,
        stands: Stands,
        weight: FontWeight,
        color: [u8; 3],
        is_tagged: bool,
    ) -> Result<Option<Identifier>, MissingGlyph> {
        self.fonts.shape(&cell.text.replace('\n', " "), weight)?;
        let tag = if is_tagged {
            ContentTag::Span(SpanTag::empty())
        } else {
            ContentTag::Artifact(Artifact::with_kind(ArtifactType::PaginationOther))
        };
        let id = self.surface.start_tagged(tag);
        self.set_color(color);
        let drawn = self.cell_lines(cell, stands, weight);
        self.surface.end_tagged();
        drawn.map(|()| Some(id).filter(|_| is_tagged))
    }

    fn cell_lines(
        &mut self,
        cell: &ShownCell,
        stands: Stands,
        weight: FontWeight,
    ) -> Result<(), MissingGlyph> {
        let size = self.size;
        let room = stands.width - 2.0 * PADDING;
        let broken = lines(&cell.text, room / size, weight, self.fonts);
        let is_one = broken.len() == 1;
        for (place, (from, to)) in broken.into_iter().enumerate() {
            let text = cell.text[from..to].trim_end_matches(['\n', ' ']);
            // A blank keeps the place of an empty cell for programs that read aloud.
            let text = if text.is_empty() { " " } else { text };
            let width = self.fonts.width(text, weight) * size;
            let offset = match cell.side {
                Side::Left => 0.0,
                Side::Center => (room - width) / 2.0,
                Side::Right => room - width,
                Side::Decimal(mark) if is_one => {
                    let before = self.fonts.width(&cell.text[..mark], weight) * size;
                    room - stands.behind_mark - before
                }
                Side::Decimal(_) => room - width,
            };
            let base = stands.top + PADDING / 2.0 + place as f32 * size * LINE + size * BASE;
            self.line(
                text,
                (stands.left + PADDING + offset.max(0.0), base),
                size,
                weight,
            )?;
        }
        Ok(())
    }

    /// The number of the page below the table.
    pub(super) fn footer(&mut self, text: &str, layout: &Layout) {
        let size = 8.0;
        let width = self.fonts.width(text, FontWeight::Regular) * size;
        let at = (layout.width - MARGIN - width, layout.height - MARGIN / 2.0);
        let artifact = Artifact::with_kind(ArtifactType::Footer);
        self.surface.start_tagged(ContentTag::Artifact(artifact));
        self.set_color(GRAY);
        // Digits and letters of English are in the built-in fonts.
        let _ = self.line(text, at, size, FontWeight::Regular);
        self.surface.end_tagged();
    }
}
