//! Detects fields from the columns of blanks that run through all lines of a sample.

use super::layout::{Area, Field, Layout};

/// Lines that are looked at.
pub(super) const MAX_LINES: usize = 2000;

/// Lines without which nothing is detected.
const MIN_LINES: usize = 2;

/// The layout of lines whose fields have blanks between them; `None` if no blank runs through all.
pub(super) fn detect<'l>(
    lines: impl Iterator<Item = &'l str>,
    has_header_line: bool,
) -> Option<Layout> {
    let mut used: Vec<bool> = Vec::new();
    let mut names: Option<&str> = None;
    let mut count = 0;
    for line in lines.filter(|line| !line.trim().is_empty()).take(MAX_LINES) {
        count += 1;
        names.get_or_insert(line);
        for (place, character) in line.trim_end().chars().enumerate() {
            if used.len() <= place {
                used.resize(place + 1, false);
            }
            used[place] |= !character.is_whitespace();
        }
    }
    if count < MIN_LINES {
        return None;
    }
    // A field begins with the first character that any line has, and reaches to the next field.
    let is_start = |place: usize| used[place] && (place == 0 || !used[place - 1]);
    let mut starts: Vec<usize> = (0..used.len()).filter(|place| is_start(*place)).collect();
    // Blanks within values may stand one above the other in all lines; but each column has a name.
    if let Some(names) = names.filter(|_| has_header_line) {
        let names: Vec<char> = names.chars().collect();
        let ends = starts.iter().skip(1).copied().chain([usize::MAX]);
        let has_name = |(start, end): (usize, usize)| {
            let area = names.get(start..end.min(names.len())).unwrap_or_default();
            area.iter().any(|character| !character.is_whitespace())
        };
        let named: Vec<bool> = starts.iter().copied().zip(ends).map(has_name).collect();
        let mut named = named.into_iter();
        starts.retain(|_| named.next().unwrap_or(true));
    }
    if starts.len() < 2 {
        return None;
    }
    let fields = starts.iter().enumerate().map(|(number, start)| {
        let next = starts.get(number + 1).copied();
        let end = next.map_or(usize::MAX, |next| next - 1);
        let area = Area { start: *start, end };
        Field::text(format!("column_{}", number + 1), area)
    });
    let mut layout = Layout::of_fields(fields.collect(), has_header_line);
    layout.gaps = starts.iter().skip(1).map(|start| start - 1).collect();
    Some(layout)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blanks_through_all_lines_are_between_fields() {
        let lines = [
            "id   quay        tonnes",
            "1    North Quay    1200",
            "22   East             7",
        ];
        let layout = detect(lines.into_iter(), true).expect("fields");
        let areas: Vec<(usize, usize)> = layout.types[0]
            .fields
            .iter()
            .map(|field| (field.area.start, field.area.end))
            .collect();
        assert_eq!(areas, [(0, 4), (5, 16), (17, usize::MAX)]);
        assert_eq!(layout.gaps, [4, 16]);
        assert!(detect(["one word", "another line"].into_iter(), true).is_none());
        assert!(
            detect(["a b"].into_iter(), true).is_none(),
            "a line alone tells nothing"
        );
    }
}
