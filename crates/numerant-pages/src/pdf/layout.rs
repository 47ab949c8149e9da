//! How a table fits on pages: the way the paper is turned, the size of the text, the widths of columns, and which
//! columns are on pages of their own.

use unicode_linebreak::{BreakOpportunity, linebreaks};

use crate::fonts::{FontFace, Fonts};
use crate::table::{RowKind, Side, Table};

/// Points around the text of a page.
pub(super) const MARGIN: f32 = 40.0;

/// Points at each side of the text of a cell.
pub(super) const PADDING: f32 = 4.0;

/// The share of the width of a page that a column of texts may take before they are wrapped.
const MAX_SHARE: f32 = 0.4;

/// Ems that a column of texts has at least, if it has so much.
const MIN_EMS: f32 = 5.0;

/// A size of paper, in points.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Paper {
    /// 210 by 297 millimeters.
    #[default]
    A4,
    /// 8.5 by 11 inches.
    Letter,
}

impl Paper {
    /// The paper with a name.
    pub(crate) fn of_name(name: &str) -> Result<Self, String> {
        match name.to_lowercase().as_str() {
            "a4" => Ok(Self::A4),
            "letter" => Ok(Self::Letter),
            _ => Err(format!("'{name}' is not a paper; papers are a4 and letter")),
        }
    }

    pub(super) fn size(self) -> (f32, f32) {
        match self {
            Self::A4 => (595.28, 841.89),
            Self::Letter => (612.0, 792.0),
        }
    }
}

/// How a table is divided into pages, and how wide its columns are.
#[derive(Clone, Debug)]
pub(super) struct Layout {
    pub(super) width: f32,
    pub(super) height: f32,
    pub(super) size: f32,
    /// The width of each column, with its padding.
    pub(super) widths: Vec<f32>,
    /// For each column, the width of what is after the decimal marks.
    pub(super) behind_marks: Vec<f32>,
    /// The columns of each band, which are on pages of their own.
    pub(super) bands: Vec<Vec<usize>>,
}

/// What the texts of a column need, in ems.
#[derive(Clone, Copy, Debug, Default)]
struct Needs {
    natural: f32,
    least: f32,
    before_mark: f32,
    behind_mark: f32,
}

impl Layout {
    pub(super) fn of(table: &Table, paper: Paper, fonts: &Fonts) -> Self {
        let needs: Vec<Needs> = (0..table.columns.len())
            .map(|place| needs(table, place, fonts))
            .collect();
        let (short, long) = paper.size();
        let fits = |available: f32, widths: &[f32]| widths.iter().sum::<f32>() <= available;
        // As they are, then with wrapped texts; upright, then turned, then smaller.
        let upright = (short, long);
        let turned = (long, short);
        let tries = [
            (upright, 9.0, 1.0),
            (upright, 9.0, 0.85),
            (turned, 9.0, 1.0),
            (turned, 8.0, 1.0),
            (turned, 8.0, 0.75),
            (turned, 7.0, 0.6),
            (turned, 7.0, 0.0),
            (turned, 6.0, 0.0),
        ];
        for ((width, height), size, share) in tries {
            let available = width - 2.0 * MARGIN;
            let natural = widths(&needs, size, available, MAX_SHARE, |needs| needs.natural);
            let least = widths(&needs, size, available, MAX_SHARE, |needs| needs.least);
            let wanted: f32 = natural.iter().sum();
            if wanted * share > available {
                continue;
            }
            if !fits(available, &least) {
                continue;
            }
            // What is left goes to the columns that would have more.
            let wanted = widths(&needs, size, available, 1.0, |needs| needs.natural);
            let widths = between(&least, &wanted, available);
            return Self::with(width, height, size, widths, &needs, available);
        }
        let (width, height) = turned;
        let available = width - 2.0 * MARGIN;
        let size = 7.0;
        let widths = widths(&needs, size, available, MAX_SHARE, |needs| needs.natural);
        Self::with(width, height, size, widths, &needs, available)
    }

    fn with(
        width: f32,
        height: f32,
        size: f32,
        widths: Vec<f32>,
        needs: &[Needs],
        available: f32,
    ) -> Self {
        let mut bands: Vec<Vec<usize>> = Vec::new();
        let mut taken = f32::INFINITY;
        for (place, column) in widths.iter().enumerate() {
            if taken + column > available {
                // The first column is on every page, so that records can be recognized.
                let repeats = !bands.is_empty() && widths[0] + column <= available;
                bands.push(if repeats { vec![0] } else { Vec::new() });
                taken = if repeats { widths[0] } else { 0.0 };
            }
            taken += column;
            if let Some(band) = bands.last_mut() {
                band.push(place);
            }
        }
        Self {
            width,
            height,
            size,
            widths,
            behind_marks: needs.iter().map(|needs| needs.behind_mark * size).collect(),
            bands,
        }
    }
}

/// What the texts of a column need.
fn needs(table: &Table, place: usize, fonts: &Fonts) -> Needs {
    let mut needs = Needs::default();
    if let Some(name) = table.header.as_ref().and_then(|header| header.get(place)) {
        needs.natural = fonts.width(name, FontFace::BOLD);
        needs.least = longest_word(name, FontFace::BOLD, fonts);
    }
    let rows = table
        .rows
        .iter()
        .chain(&table.totals)
        .filter(|row| row.kind != RowKind::GroupHead);
    let rows = rows.filter_map(|row| Some((row.cells.get(place)?, face_of(row.kind))));
    for (cell, face) in rows {
        if let Side::Decimal(mark) = cell.side {
            let (before, behind) = cell.text.split_at(mark);
            needs.before_mark = needs.before_mark.max(fonts.width(before, face));
            needs.behind_mark = needs.behind_mark.max(fonts.width(behind, face));
        } else if cell.is_whole {
            let width = fonts.width(&cell.text, face);
            needs.natural = needs.natural.max(width);
            needs.least = needs.least.max(width);
        } else {
            for line in cell.text.split('\n') {
                let width = fonts.width(line, face);
                needs.natural = needs.natural.max(width);
                if width > needs.least {
                    let word = longest_word(line, face, fonts);
                    needs.least = needs.least.max(word.min(MIN_EMS * 2.0));
                }
            }
        }
    }
    let number = needs.before_mark + needs.behind_mark;
    needs.natural = needs.natural.max(number);
    needs.least = needs.least.max(number).max(MIN_EMS.min(needs.natural));
    needs
}

/// The face of the texts of a row.
pub(super) fn face_of(kind: RowKind) -> FontFace {
    match kind {
        RowKind::Record => FontFace::REGULAR,
        RowKind::GroupHead | RowKind::Subtotal => FontFace::BOLD,
    }
}

fn longest_word(text: &str, face: FontFace, fonts: &Fonts) -> f32 {
    let words = text.split_whitespace().map(|word| fonts.width(word, face));
    words.fold(0.0, f32::max)
}

/// The widths of columns in points.
fn widths(
    needs: &[Needs],
    size: f32,
    available: f32,
    share: f32,
    of: impl Fn(&Needs) -> f32,
) -> Vec<f32> {
    let most = available * share;
    let width = |needs: &Needs| {
        let number = (needs.before_mark + needs.behind_mark) * size;
        (of(needs) * size)
            .min(most)
            .max(number)
            .min(available - 2.0 * PADDING)
            + 2.0 * PADDING
            + 0.5
    };
    needs.iter().map(width).collect()
}

/// Widths between the least and the natural ones that fill what is available: the widest columns give way first.
fn between(least: &[f32], natural: &[f32], available: f32) -> Vec<f32> {
    let capped = |cap: f32| -> Vec<f32> {
        let columns = least.iter().zip(natural);
        columns
            .map(|(least, natural)| natural.min(cap).max(*least))
            .collect()
    };
    if natural.iter().sum::<f32>() <= available {
        return natural.to_vec();
    }
    let (mut low, mut high) = (0.0, available);
    for _ in 0..20 {
        let cap = f32::midpoint(low, high);
        if capped(cap).iter().sum::<f32>() <= available {
            low = cap;
        } else {
            high = cap;
        }
    }
    capped(low)
}

/// The lines of a text in a column of this width in ems, by their bytes.
pub(super) fn lines(text: &str, width: f32, face: FontFace, fonts: &Fonts) -> Vec<(usize, usize)> {
    if !text.contains('\n') && fonts.width(text, face) <= width {
        return vec![(0, text.len())];
    }
    let mut lines = Vec::new();
    let (mut start, mut end, mut taken) = (0, 0, 0.0);
    for (place, opportunity) in linebreaks(text) {
        let piece = &text[end..place];
        let shown = piece.trim_end_matches(['\n', ' ']);
        let its_width = fonts.width(shown, face);
        if taken + its_width > width && end > start {
            lines.push((start, end));
            (start, taken) = (end, 0.0);
        }
        if its_width > width {
            // A word that is wider than its column is broken where it must be.
            for (at, character) in piece.char_indices() {
                let its_width = fonts.width(character.encode_utf8(&mut [0; 4]), face);
                if taken + its_width > width && end + at > start {
                    lines.push((start, end + at));
                    (start, taken) = (end + at, 0.0);
                }
                taken += its_width;
            }
        } else {
            taken += fonts.width(piece.trim_end_matches('\n'), face);
        }
        end = place;
        if opportunity == BreakOpportunity::Mandatory && place < text.len() {
            lines.push((start, end));
            (start, taken) = (end, 0.0);
        }
    }
    lines.push((start, text.len()));
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_wrapped_between_words() {
        let fonts = Fonts::load(None).expect("built in");
        let wrapped = |text: &str, width: f32| -> Vec<String> {
            let lines = lines(text, width, FontFace::REGULAR, &fonts);
            lines
                .iter()
                .map(|(from, to)| text[*from..*to].trim_end().to_owned())
                .collect()
        };
        assert_eq!(wrapped("late, then early", 30.0), ["late, then early"]);
        assert_eq!(wrapped("late, then early", 4.5), ["late, then", "early"]);
        assert_eq!(wrapped("one\ntwo", 30.0), ["one", "two"]);
        assert_eq!(wrapped("one\n\ntwo", 30.0), ["one", "", "two"]);
        assert_eq!(
            wrapped("Donaudampfschiff", 4.0).concat(),
            "Donaudampfschiff"
        );
        assert!(wrapped("Donaudampfschiff", 4.0).len() > 1);
        assert_eq!(wrapped("", 4.0), [""]);
    }
}
