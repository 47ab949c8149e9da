//! What formulas (ECMA-376 Part 1, 18.17) lead to: sheets, names of tables and ranges, and cells; and
//! formulas that are to lead elsewhere.

use std::collections::HashMap;
use std::ops::Range;

use super::cell_reference::{Anchored, CellReference};

/// What a formula leads to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Reference {
    /// A sheet, or all from the first to the second.
    Sheets(String, Option<String>),
    /// A sheet of another workbook.
    Elsewhere,
    /// A name: of a range, a table or a function, a cell, or a number.
    Name(String),
}

/// Something that a formula leads to, and where it stands; of a sheet with the `!` after it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Piece {
    pub(super) range: Range<usize>,
    pub(super) is: Reference,
}

/// All that a formula leads to, in order.
pub(super) fn references(formula: &str) -> Vec<Reference> {
    pieces(formula).into_iter().map(|piece| piece.is).collect()
}

/// All that a formula leads to, in order, with its places.
pub(super) fn pieces(formula: &str) -> Vec<Piece> {
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(sign) = formula[at..].chars().next() {
        let rest = &formula[at..];
        match sign {
            '"' => at += quoted(rest, '"').0,
            '\'' => {
                let (length, name) = quoted(rest, '\'');
                let from = at;
                at += length;
                if formula[at..].starts_with('!') {
                    at += 1;
                    found.push(Piece {
                        range: from..at,
                        is: sheets(&name),
                    });
                }
            }
            // An error, such as #REF!.
            '#' if rest[1..].starts_with(|sign: char| sign.is_ascii_uppercase()) => {
                let is_part = |sign: char| sign.is_ascii_alphanumeric() || "/_".contains(sign);
                let behind = rest[1..].trim_start_matches(is_part);
                let behind = behind.strip_prefix(['!', '?']).unwrap_or(behind);
                at = formula.len() - behind.len();
            }
            // Columns of a table; the name is before.
            '[' if !rest[1..].starts_with(|sign: char| sign.is_ascii_digit()) => {
                at += bracketed(rest);
            }
            sign if begins_name(sign) || sign == '[' => {
                let length = word(rest);
                let from = at;
                at += length;
                let (name, behind) = rest.split_at(length);
                // What spans sheets without quotes: first:last!
                let span = behind.strip_prefix(':').and_then(|second| {
                    let length = word(second);
                    let is_sheet = length > 0 && second[length..].starts_with('!');
                    is_sheet.then(|| &second[..length])
                });
                let is = if behind.starts_with('!') {
                    at += 1;
                    sheets(name)
                } else if let Some(last) = span {
                    at += last.len() + 2;
                    sheets(&format!("{name}:{last}"))
                } else {
                    Reference::Name(name.to_owned())
                };
                found.push(Piece {
                    range: from..at,
                    is,
                });
            }
            sign => at += sign.len_utf8(),
        }
    }
    found
}

/// What names in formulas are to be in their place.
#[derive(Clone, Debug, Default)]
pub(super) struct Renames {
    /// Sheets that are called otherwise now, by their names in lower case.
    pub(super) sheets: HashMap<String, String>,
    /// Tables and ranges that are called otherwise now, by their names in lower case.
    pub(super) names: HashMap<String, String>,
    /// By how much the numbers of other workbooks have grown.
    pub(super) others: usize,
}

impl Renames {
    pub(super) fn is_empty(&self) -> bool {
        self.sheets.is_empty() && self.names.is_empty() && self.others == 0
    }

    /// The formula with the new names; `None` if it has none of the old ones.
    pub(super) fn apply(&self, formula: &str) -> Option<String> {
        if self.is_empty() {
            return None;
        }
        let mut written = String::new();
        let mut done = 0;
        let sheet = |name: &str| self.sheets.get(&name.to_lowercase());
        for piece in pieces(formula) {
            let text = &formula[piece.range.clone()];
            let new = match &piece.is {
                Reference::Name(name) => self.names.get(&name.to_lowercase()).cloned(),
                Reference::Elsewhere => self.elsewhere(text),
                Reference::Sheets(first, None) => sheet(first).map(|name| prefix(name, None)),
                Reference::Sheets(first, Some(last)) => {
                    let (new_first, new_last) = (sheet(first), sheet(last));
                    (new_first.is_some() || new_last.is_some())
                        .then(|| prefix(new_first.unwrap_or(first), Some(new_last.unwrap_or(last))))
                }
            };
            if let Some(new) = new {
                written.push_str(&formula[done..piece.range.start]);
                written.push_str(&new);
                done = piece.range.end;
            }
        }
        (done > 0).then(|| written + &formula[done..])
    }

    /// What leads to another workbook, with its new number.
    fn elsewhere(&self, text: &str) -> Option<String> {
        let open = text.find('[')?;
        let close = open + text[open..].find(']')?;
        let number: usize = text[open + 1..close].parse().ok()?;
        // Number 0 is the workbook itself.
        let new = (number > 0 && self.others > 0).then_some(number + self.others)?;
        Some(format!("{}{new}{}", &text[..=open], &text[close..]))
    }
}

/// The name of a sheet, or those of the first and last of several, as they are before a cell.
pub(super) fn prefix(first: &str, last: Option<&str>) -> String {
    let plain = |name: &str| {
        let begins = name.starts_with(|sign: char| sign.is_alphabetic() || sign == '_');
        let is_part = |sign: char| sign.is_alphanumeric() || matches!(sign, '_' | '.');
        // What could be a cell in either way to write one is in quotes.
        let upper = name.to_ascii_uppercase();
        let is_cell = Anchored::parse(name).is_some()
            || upper
                .trim_matches(|sign: char| sign.is_ascii_digit() || "RC".contains(sign))
                .is_empty();
        begins && name.chars().all(is_part) && !is_cell
    };
    let quotes = !plain(first) || last.is_some_and(|last| !plain(last));
    let names = match last {
        Some(last) => format!("{first}:{last}"),
        None => first.to_owned(),
    };
    if quotes {
        format!("'{}'!", names.replace('\'', "''"))
    } else {
        format!("{names}!")
    }
}

/// Cells that a formula names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Cells {
    pub(super) range: Range<usize>,
    /// What is before: where the cells are, if they are not on the formula's own sheet.
    pub(super) sheet: Option<Reference>,
    pub(super) first: Anchored,
    /// The other corner, of an area.
    pub(super) last: Option<Anchored>,
}

/// The cells that a formula names, and whether it names whole rows or columns besides.
pub(super) fn cells(formula: &str) -> (Vec<Cells>, bool) {
    let mut found: Vec<Cells> = Vec::new();
    let mut whole = false;
    let mut sheet: Option<(usize, Reference)> = None;
    // The corner or the row or column that may be the first of an area.
    let mut open: Option<Range<usize>> = None;
    for piece in pieces(formula) {
        let text = &formula[piece.range.clone()];
        let behind = &formula[piece.range.end..];
        let of_sheet = sheet.take().filter(|(end, _)| *end == piece.range.start);
        let spans = open.take().is_some_and(|open| {
            open.end + 1 == piece.range.start && &formula[open.end..open.end + 1] == ":"
        });
        if matches!(piece.is, Reference::Sheets(..) | Reference::Elsewhere) {
            sheet = Some((piece.range.end, piece.is));
            continue;
        }
        let cell = Anchored::parse(text).filter(|_| !behind.starts_with(['(', '[', '!']));
        match (cell, found.last_mut()) {
            (Some(cell), Some(area)) if spans && area.last.is_none() => {
                area.last = Some(cell);
                area.range.end = piece.range.end;
            }
            (Some(cell), _) => {
                found.push(Cells {
                    range: piece.range.clone(),
                    sheet: of_sheet.map(|(_, sheet)| sheet),
                    first: cell,
                    last: None,
                });
                open = Some(piece.range);
            }
            (None, _) => {
                let plain = text.trim_start_matches('$');
                let is_line = plain.bytes().all(|byte| byte.is_ascii_digit())
                    || (plain.len() <= 3 && plain.bytes().all(|byte| byte.is_ascii_alphabetic()));
                let before = formula[..piece.range.start].ends_with(':');
                whole |= is_line && (before || behind.starts_with(':'));
            }
        }
    }
    (found, whole)
}

/// The formula with other cells in the place of those that it names; `None` if `change` refuses one.
pub(super) fn with_cells(
    formula: &str,
    cells: &[Cells],
    mut change: impl FnMut(&Cells, Anchored) -> Option<Anchored>,
) -> Option<String> {
    let mut written = String::new();
    let mut done = 0;
    for named in cells {
        written.push_str(&formula[done..named.range.start]);
        written.push_str(&change(named, named.first)?.to_string());
        if let Some(last) = named.last {
            written.push(':');
            written.push_str(&change(named, last)?.to_string());
        }
        done = named.range.end;
    }
    Some(written + &formula[done..])
}

/// A formula that another cell shares, as it is for this one.
pub(super) fn shifted(formula: &str, from: CellReference, to: CellReference) -> Option<String> {
    let (named, _) = cells(formula);
    with_cells(formula, &named, |_, mut cell| {
        let shift = |value: u32, from: u32, to: u32| (value + to).checked_sub(from);
        if !cell.fixed_row {
            cell.place.row = shift(cell.place.row, from.row, to.row).filter(|row| *row > 0)?;
        }
        if !cell.fixed_column {
            cell.place.column = shift(cell.place.column, from.column, to.column)?;
        }
        Some(cell)
    })
}

/// What is before a `!`.
fn sheets(name: &str) -> Reference {
    if name.contains('[') {
        return Reference::Elsewhere;
    }
    match name.split_once(':') {
        Some((first, last)) => Reference::Sheets(first.to_owned(), Some(last.to_owned())),
        None => Reference::Sheets(name.to_owned(), None),
    }
}

/// The bytes of what begins with a quote, and what it says; a quote itself is written twice.
fn quoted(text: &str, quote: char) -> (usize, String) {
    let mut said = String::new();
    let mut signs = text.char_indices().skip(1).peekable();
    while let Some((at, sign)) = signs.next() {
        if sign != quote {
            said.push(sign);
        } else if signs.next_if(|(_, next)| *next == quote).is_some() {
            said.push(quote);
        } else {
            return (at + quote.len_utf8(), said);
        }
    }
    (text.len(), said)
}

/// The bytes of what begins with `[`; in it, `'` takes its meaning from a bracket.
fn bracketed(text: &str) -> usize {
    let (mut depth, mut escaped) = (0_usize, false);
    for (at, sign) in text.char_indices() {
        match sign {
            _ if escaped => escaped = false,
            '\'' => escaped = true,
            '[' => depth += 1,
            ']' => {
                depth -= 1;
                if depth == 0 {
                    return at + 1;
                }
            }
            _ => {}
        }
    }
    text.len()
}

fn begins_name(sign: char) -> bool {
    sign.is_alphabetic() || matches!(sign, '_' | '\\' | '$') || sign.is_ascii_digit()
}

/// The bytes of a name; the number of another workbook may are before it.
fn word(text: &str) -> usize {
    let mut inside = false;
    for (at, sign) in text.char_indices() {
        match sign {
            '[' if at == 0 => inside = true,
            ']' if inside => inside = false,
            _ if inside => {}
            sign if sign.is_alphanumeric() || matches!(sign, '_' | '\\' | '.' | '?' | '$') => {}
            _ => return at,
        }
    }
    text.len()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_formulas_lead_to() {
        let sheet = |name: &str| Reference::Sheets(name.to_owned(), None);
        let span =
            |first: &str, last: &str| Reference::Sheets(first.to_owned(), Some(last.to_owned()));
        let name = |name: &str| Reference::Name(name.to_owned());
        for (formula, expected) in [
            (
                "SUM(Other!A1:B2)",
                vec![name("SUM"), sheet("Other"), name("A1"), name("B2")],
            ),
            ("'North Quay'!$B$2", vec![sheet("North Quay"), name("$B$2")]),
            ("'O''Brien [x'!A1", vec![Reference::Elsewhere, name("A1")]),
            ("'It''s'!A1", vec![sheet("It's"), name("A1")]),
            (
                "SUM(Jan:Dec!C3)",
                vec![name("SUM"), span("Jan", "Dec"), name("C3")],
            ),
            ("'Jan 1:Dec 1'!C3", vec![span("Jan 1", "Dec 1"), name("C3")]),
            ("[1]Sheet1!A1", vec![Reference::Elsewhere, name("A1")]),
            ("'[2]My Sheet'!A1", vec![Reference::Elsewhere, name("A1")]),
            ("\"Other!A1\"&x", vec![name("x")]),
            ("\"a\"\"Other!\"&Ærø!A1", vec![sheet("Ærø"), name("A1")]),
            (
                "Calls[[#This Row],[dues]]*2",
                vec![name("Calls"), name("2")],
            ),
            ("Calls[it''s ']x!']", vec![name("Calls")]),
            (
                "_xlfn.XLOOKUP(A1,rates,x.y)",
                vec![
                    name("_xlfn.XLOOKUP"),
                    name("A1"),
                    name("rates"),
                    name("x.y"),
                ],
            ),
            (
                "1.5E+3-Other!A1",
                vec![name("1.5E"), name("3"), sheet("Other"), name("A1")],
            ),
            ("'unclosed", vec![]),
            ("#REF!+Other!A1#", vec![sheet("Other"), name("A1")]),
            ("#N/A", vec![]),
        ] {
            assert_eq!(references(formula), expected, "{formula}");
        }
    }

    #[test]
    fn names_are_changed_where_they_are_names() {
        let renames = Renames {
            sheets: HashMap::from([
                ("calls".to_owned(), "Calls north".to_owned()),
                ("it's".to_owned(), "Its".to_owned()),
            ]),
            names: HashMap::from([("rates".to_owned(), "rates_2".to_owned())]),
            others: 2,
        };
        for (formula, expected) in [
            ("SUM(Calls!A1:B2)", Some("SUM('Calls north'!A1:B2)")),
            ("'IT''S'!A1&\"Calls!\"", Some("Its!A1&\"Calls!\"")),
            ("Calls:Other!C3", Some("'Calls north:Other'!C3")),
            (
                "[1]Calls!A1+'[2]My Sheet'!B2",
                Some("[3]Calls!A1+'[4]My Sheet'!B2"),
            ),
            ("Rates*rates.x", Some("rates_2*rates.x")),
            (
                "Rates[[#This Row],[Calls]]",
                Some("rates_2[[#This Row],[Calls]]"),
            ),
            ("A1*2", None),
        ] {
            assert_eq!(renames.apply(formula).as_deref(), expected, "{formula}");
        }
        for (name, expected) in [
            ("Calls", "Calls!"),
            ("A1", "'A1'!"),
            ("R1C1", "'R1C1'!"),
            ("2026", "'2026'!"),
            ("O'B", "'O''B'!"),
            ("Ærø", "Ærø!"),
            ("a b", "'a b'!"),
            ("RC", "'RC'!"),
        ] {
            assert_eq!(prefix(name, None), expected, "{name}");
        }
    }

    #[test]
    fn cells_are_told_from_functions_and_names() {
        let (found, whole) = cells("LOG10(A1)+Other!$B$2:C3*Calls[A1]+\"D4\"+x1y");
        let shown: Vec<String> = found
            .iter()
            .map(|cells| {
                format!(
                    "{}/{}",
                    cells.first,
                    cells.last.map(|l| l.to_string()).unwrap_or_default()
                )
            })
            .collect();
        assert_eq!((shown.join(" ").as_str(), whole), ("A1/ $B$2/C3", false));
        assert!(
            cells("SUM(A:A)").1 && cells("SUM($1:$3)").1 && !cells("1:0A").0.iter().any(|_| true)
        );
        let down = |_: &Cells, mut cell: Anchored| {
            cell.place.row += u32::from(!cell.fixed_row) * 10;
            Some(cell)
        };
        let formula = "IF(A1>B$2,\"A1\",Other!C3:D4)";
        let (found, _) = cells(formula);
        let moved = with_cells(formula, &found, down).expect("moved");
        assert_eq!(moved, "IF(A11>B$2,\"A1\",Other!C13:D14)");
        assert_eq!(with_cells(formula, &found, |_, _| None), None);
    }
}
