//! Draws on a page: rules, fills, and texts with what they are tagged by.

use krilla::color::rgb;
use krilla::geom::{Path, PathBuilder, Point, Rect};
use krilla::num::NormalizedF32;
use krilla::paint::{Fill, FillRule, Stroke, StrokeDash};
use krilla::surface::Surface;
use krilla::tagging::{Artifact, ArtifactType, ContentTag, Identifier, SpanTag};

use super::layout::{Layout, MARGIN, PADDING, lines};
use crate::fonts::{FontFace, Fonts, MissingGlyph};
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

/// A rectangle.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Area {
    pub(super) left: f32,
    pub(super) top: f32,
    pub(super) width: f32,
    pub(super) height: f32,
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
        face: FontFace,
    ) -> Result<(), MissingGlyph> {
        let mut at = left;
        for run in self.fonts.shape(text, face)? {
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
        face: FontFace,
        color: [u8; 3],
    ) -> Result<Identifier, MissingGlyph> {
        self.fonts.shape(text, face)?;
        let id = self
            .surface
            .start_tagged(ContentTag::Span(SpanTag::empty()));
        self.set_color(color);
        let drawn = self.line(text, at, size, face);
        self.surface.end_tagged();
        drawn.map(|()| id)
    }

    /// Draws the text of a cell. What it is tagged by, unless it is a repeated header.
    pub(super) fn cell(
        &mut self,
        cell: &ShownCell,
        stands: Stands,
        face: FontFace,
        color: [u8; 3],
        is_tagged: bool,
    ) -> Result<Option<Identifier>, MissingGlyph> {
        self.fonts.shape(&cell.text.replace('\n', " "), face)?;
        let tag = if is_tagged {
            ContentTag::Span(SpanTag::empty())
        } else {
            ContentTag::Artifact(Artifact::with_kind(ArtifactType::PaginationOther))
        };
        let id = self.surface.start_tagged(tag);
        self.set_color(color);
        let drawn = self.cell_lines(cell, stands, face);
        self.surface.end_tagged();
        drawn.map(|()| Some(id).filter(|_| is_tagged))
    }

    fn cell_lines(
        &mut self,
        cell: &ShownCell,
        stands: Stands,
        face: FontFace,
    ) -> Result<(), MissingGlyph> {
        let size = self.size;
        let room = stands.width - 2.0 * PADDING;
        let broken = lines(&cell.text, room / size, face, self.fonts);
        let is_one = broken.len() == 1;
        for (place, (from, to)) in broken.into_iter().enumerate() {
            let text = cell.text[from..to].trim_end_matches(['\n', ' ']);
            // A blank keeps the place of an empty cell for programs that read aloud.
            let text = if text.is_empty() { " " } else { text };
            let width = self.fonts.width(text, face) * size;
            let offset = match cell.side {
                Side::Left => 0.0,
                Side::Center => (room - width) / 2.0,
                Side::Right => room - width,
                Side::Decimal(mark) if is_one => {
                    let before = self.fonts.width(&cell.text[..mark], face) * size;
                    room - stands.behind_mark - before
                }
                Side::Decimal(_) => room - width,
            };
            let base = stands.top + PADDING / 2.0 + place as f32 * size * LINE + size * BASE;
            self.line(
                text,
                (stands.left + PADDING + offset.max(0.0), base),
                size,
                face,
            )?;
        }
        Ok(())
    }

    /// The number of the page below the table.
    pub(super) fn footer(&mut self, text: &str, layout: &Layout) {
        let size = 8.0;
        let width = self.fonts.width(text, FontFace::REGULAR) * size;
        let at = (layout.width - MARGIN - width, layout.height - MARGIN / 2.0);
        let artifact = Artifact::with_kind(ArtifactType::Footer);
        self.surface.start_tagged(ContentTag::Artifact(artifact));
        self.set_color(GRAY);
        // Digits and letters of English are in the built-in fonts.
        let _ = self.line(text, at, size, FontFace::REGULAR);
        self.surface.end_tagged();
    }

    /// Draws what says nothing by itself.
    pub(super) fn artifact(&mut self, draw: impl FnOnce(&mut Self)) {
        let artifact = Artifact::with_kind(ArtifactType::Layout);
        self.surface.start_tagged(ContentTag::Artifact(artifact));
        draw(self);
        self.surface.end_tagged();
    }

    /// Begins what is tagged, or is repeated and is not.
    pub(super) fn begin_words(&mut self, is_repeated: bool) -> Identifier {
        let tag = if is_repeated {
            ContentTag::Artifact(Artifact::with_kind(ArtifactType::PaginationOther))
        } else {
            ContentTag::Span(SpanTag::empty())
        };
        self.surface.start_tagged(tag)
    }

    /// Draws a line of text within what is tagged.
    pub(super) fn words(
        &mut self,
        text: &str,
        at: (f32, f32),
        size: f32,
        face: FontFace,
        color: [u8; 3],
    ) -> Result<(), MissingGlyph> {
        self.set_color(color);
        self.line(text, at, size, face)
    }

    /// Fills an area within what is tagged.
    pub(super) fn rect(&mut self, area: Area, color: [u8; 3]) {
        let area = Rect::from_xywh(area.left, area.top, area.width, area.height);
        let Some(path) = area.and_then(rect_path) else {
            return;
        };
        self.set_color(color);
        self.surface.draw_path(&path);
    }

    /// Draws the outline of an area within what is tagged.
    pub(super) fn frame(&mut self, area: Area, width: f32, color: [u8; 3]) {
        let rect = Rect::from_xywh(area.left, area.top, area.width, area.height);
        if let Some(path) = rect.and_then(rect_path) {
            self.stroke(&path, width, color, None);
        }
    }

    /// Draws a line within what is tagged.
    pub(super) fn rule(&mut self, from: (f32, f32), to: (f32, f32), width: f32, color: [u8; 3]) {
        self.polyline(&[from, to], width, color);
    }

    /// Draws a line in pieces within what is tagged.
    pub(super) fn dashed(
        &mut self,
        from: (f32, f32),
        to: (f32, f32),
        width: f32,
        color: [u8; 3],
        pieces: &[f32],
    ) {
        if let Some(path) = path_along(&[from, to]) {
            let array = pieces.iter().map(|piece| piece * width.max(0.75)).collect();
            self.stroke(&path, width, color, Some(StrokeDash { array, offset: 0.0 }));
        }
    }

    /// Draws a line through points within what is tagged.
    pub(super) fn polyline(&mut self, points: &[(f32, f32)], width: f32, color: [u8; 3]) {
        if let Some(path) = path_along(points) {
            self.stroke(&path, width, color, None);
        }
    }

    /// Fills a slice of a circle between two shares of a turn, from the top to the right.
    pub(super) fn slice(
        &mut self,
        (x, y): (f32, f32),
        radius: f32,
        from: f32,
        to: f32,
        color: [u8; 3],
    ) {
        let mut path = PathBuilder::new();
        path.move_to(x, y);
        let pieces = ((to - from) * 64.0).ceil().max(1.0) as u32;
        for piece in 0..=pieces {
            let share = from + (to - from) * piece as f32 / pieces as f32;
            let (sine, cosine) = (share * std::f32::consts::TAU).sin_cos();
            path.line_to(x + radius * sine, y - radius * cosine);
        }
        path.close();
        if let Some(path) = path.finish() {
            self.set_color(color);
            self.surface.draw_path(&path);
        }
    }

    /// Draws only within an area until the surface is popped.
    pub(super) fn push_clip(&mut self, area: Area) {
        let rect = Rect::from_xywh(
            area.left,
            area.top,
            area.width.max(0.1),
            area.height.max(0.1),
        );
        if let Some(path) = rect.and_then(rect_path) {
            self.surface.push_clip_path(&path, &FillRule::NonZero);
        }
    }

    fn stroke(&mut self, path: &Path, width: f32, color: [u8; 3], dash: Option<StrokeDash>) {
        let [red, green, blue] = color;
        self.surface.set_fill(None);
        self.surface.set_stroke(Some(Stroke {
            paint: rgb::Color::new(red, green, blue).into(),
            width,
            dash,
            ..Stroke::default()
        }));
        self.surface.draw_path(path);
        self.surface.set_stroke(None);
    }
}

fn rect_path(rect: Rect) -> Option<Path> {
    let mut path = PathBuilder::new();
    path.push_rect(rect);
    path.finish()
}

fn path_along(points: &[(f32, f32)]) -> Option<Path> {
    let (first, rest) = points.split_first()?;
    let mut path = PathBuilder::new();
    path.move_to(first.0, first.1);
    rest.iter().for_each(|(x, y)| path.line_to(*x, *y));
    path.finish()
}
