//! What formats have to say of a source or an output, in words.

use numerant_data::record::HeaderNote;
use numerant_engine::SheetNote;
use numerant_format::sheet::{LeftOutDrawing, SheetExtras};
use numerant_format::{BalanceNote, MessageFacts, TextNote};
use numerant_sheets::Extracted;

use super::super::words::{counted, decimal, files, number};
use super::first_of;

/// What a reader should know of how a text is written.
pub(super) fn text_note(note: &TextNote) -> String {
    match note {
        TextNote::Encoding { encoding } => {
            format!("it is not UTF-8; detected encoding: {encoding}; --encoding states another")
        }
        TextNote::SecondMark => "it begins with two byte-order marks; both were dropped".to_owned(),
        TextNote::SeparatorLine { delimiter } => format!(
            "its first line states the delimiter ({delimiter}); the line is no record and is not written"
        ),
        TextNote::UnusualDelimiter { delimiter } => {
            format!("detected delimiter: {delimiter}; --delimiter states another")
        }
        TextNote::PaddedQuotes => "blanks between delimiters and quotes were dropped; \
                                   --padded-quotes=no keeps them"
            .to_owned(),
        TextNote::Title { header } => format!(
            "its first record looks like a title, and line {header} like the header; --skip-lines {} \
             passes over the lines above it",
            header - 1
        ),
        TextNote::NoHeader => "its first record looks like data, and was read as the header; \
                               --no-header reads it as a record"
            .to_owned(),
        TextNote::StrayQuotes { fields } => format!(
            "{} a quote where RFC 4180 has none; such values keep all their quotes",
            counted(*fields, "field has", "fields have")
        ),
        TextNote::ExtraReturns { lines } => format!(
            "{} more than one carriage return before the line feed; read as one line end",
            counted(*lines, "line end has", "line ends have")
        ),
        TextNote::EndMarks { count } => format!(
            "{} (0x1A) {} dropped",
            counted(*count, "DOS end mark", "DOS end marks"),
            if *count == 1 { "was" } else { "were" }
        ),
        TextNote::Absent { columns } => format!(
            "no record has {}, which {} blank in all",
            first_of(columns.iter().map(|name| format!("'{name}'"))),
            if columns.len() == 1 { "is" } else { "are" }
        ),
        TextNote::Unlabelled { records } => format!(
            "{} in UTF-8 though the leader says another encoding, and was read as UTF-8; --encoding decides",
            counted(*records, "record is", "records are")
        ),
        TextNote::Unterminated => {
            "the last segment has no terminator, and was read as if it had one".to_owned()
        }
        TextNote::EscapedLetters { count } => format!(
            "{} before a letter or digit, which was read as that letter or digit",
            counted(*count, "escape character stands", "escape characters stand")
        ),
        TextNote::BlankValues { values } => format!(
            "{} read as blank (--blank-values)",
            counted(*values, "value was", "values were")
        ),
    }
}

/// What could not stay as it was in a sheet that has left its workbook.
pub(super) fn extracted(what: &Extracted) -> Vec<String> {
    let mut told = Vec::new();
    let mut tell = |count: u64, one: &str, more: &str| match count {
        0 => {}
        1 => told.push(format!("1 {one}")),
        count => told.push(format!("{} {more}", number(count))),
    };
    tell(
        what.formulas,
        "formula became the value that it had, as it led to what is not in the file",
        "formulas became the values that they had, as they led to what is not in the file",
    );
    tell(
        what.without_value,
        "of them had no value and is blank; save the workbook in a spreadsheet program to have one",
        "of them had no values and are blank; save the workbook in a spreadsheet program to have some",
    );
    tell(
        what.rules,
        "rule (a conditional format or validation) led to another sheet and cannot work",
        "rules (conditional formats or validations) led to another sheet and cannot work",
    );
    tell(
        what.ranges,
        "range of a chart or table led to another sheet; what was drawn last is still there",
        "ranges of charts or tables led to another sheet; what was drawn last is still there",
    );
    tell(
        what.reordered,
        "rule or range of a chart was left out, as it was for some of the records and these are in another order",
        "rules and ranges of charts were left out, as they were for some of the records and these are in another \
         order",
    );
    tell(
        what.names,
        "named range led to another sheet and was left out",
        "named ranges led to another sheet and were left out",
    );
    tell(
        what.pivots,
        "pivot table cannot be refreshed, as its source was on another sheet",
        "pivot tables cannot be refreshed, as their sources were on other sheets",
    );
    tell(
        what.pivots_left_out,
        "pivot table was left out, as it holds the records of all parts",
        "pivot tables were left out, as they hold the records of all parts",
    );
    tell(
        what.filters,
        "filter criterion was left out, as it can name values of other parts; rows that it hides are hidden still",
        "filter criteria were left out, as they can name values of other parts; rows that they hide are hidden still",
    );
    tell(
        what.scenarios,
        "scenario was left out, as it holds values of other parts",
        "scenarios were left out, as they hold values of other parts",
    );
    tell(
        what.lost,
        "slicer, timeline or query stayed behind, as only its own workbook can have it",
        "slicers, timelines or queries stayed behind, as only their own workbook can have them",
    );
    for (is, text) in [
        (
            what.signature,
            "the signature does not hold for a part and was left out",
        ),
        (
            what.macros,
            "macros were left out, which only an .xlsm can hold",
        ),
        (
            what.shown,
            "the sheet was hidden, and is shown as there is no other",
        ),
        (
            what.stale,
            "the workbook was to be computed when it is opened and was not opened since, so values of formulas are older than its data; open and save it first",
        ),
        (
            what.theme,
            "the workbooks have different themes: charts and shapes follow that of the first, cells keep their colours",
        ),
    ] {
        if is {
            told.push(text.to_owned());
        }
    }
    if !what.renamed.is_empty() {
        let shown: Vec<String> = what
            .renamed
            .iter()
            .map(|(old, new)| format!("{old} → {new}"))
            .collect();
        told.push(format!(
            "ranges and tables of one name are told apart, in formulas too: {}",
            shown.join(", ")
        ));
    }
    told
}

/// What does not agree in messages as they are.
pub(super) fn messages(source: &str, facts: &MessageFacts) -> String {
    let mut told = Vec::new();
    if facts.unbalanced > 0 {
        told.push(format!(
            "{} of {} do not come to the total that they state",
            number(facts.unbalanced),
            counted(facts.messages, "message", "messages")
        ));
    }
    if facts.miscounted > 0 {
        told.push(format!(
            "{} (--miscounted says what is written)",
            counted(
                facts.miscounted,
                "count or control number does not agree",
                "counts or control numbers do not agree"
            )
        ));
    }
    if facts.lower_case > 0 {
        told.push(format!(
            "{} not written in capitals",
            counted(
                facts.lower_case,
                "name of a segment is",
                "names of segments are"
            )
        ));
    }
    let first = facts.first.as_deref().unwrap_or_default();
    format!("{source}, {}: {}; {first}", facts.kind, told.join(", and "))
}

/// What became of the total of a message of which only some records were taken.
pub(super) fn balance(note: &BalanceNote) -> String {
    let (taken, all) = note.records;
    let what = format!(
        "message {}: {} of {} records",
        note.message,
        number(taken),
        number(all)
    );
    let (stated, sum) = (decimal(note.stated), decimal(note.sum));
    if note.kept {
        let difference = note.stated.minus(note.sum).map(decimal).unwrap_or_default();
        return format!(
            "{what}; its total of {stated} is kept, and they come to {sum}: {difference} less"
        );
    }
    let dropped = match note.dropped.len() {
        0 => String::new(),
        count => format!(
            ", and {} left out: {}",
            counted(count as u64, "adjustment is", "adjustments are"),
            note.dropped.join(" ")
        ),
    };
    format!("{what}; its total of {stated} is {sum} now{dropped}")
}

/// What is odd about the cells of a sheet.
pub(super) fn sheet(note: &SheetNote) -> String {
    match note {
        SheetNote::Uncomputed { count, as_text } => format!(
            "{} no computed value and {} read as {}; open and save the workbook in a spreadsheet \
             program to have them computed",
            counted(*count, "formula has", "formulas have"),
            if *count == 1 { "was" } else { "were" },
            if *as_text { "text" } else { "blank" }
        ),
        SheetNote::Errors(count) => format!(
            "{} an error such as #N/A, which was read as text",
            counted(*count, "cell holds", "cells hold")
        ),
        SheetNote::Merged(count) => format!(
            "{} merged; only the first cell of each has the value",
            counted(*count, "range of cells is", "ranges of cells are")
        ),
        SheetNote::HiddenRows(count) => format!(
            "{} hidden, and read like the others",
            counted(*count, "row is", "rows are")
        ),
        SheetNote::Hidden => "the sheet is hidden".to_owned(),
        SheetNote::LeftOut(extras) => format!(
            "outputs have its values and formats, and not its {}; split with --like-source or --per-sheet \
             keeps all of a sheet",
            extras_of(extras).join(", ")
        ),
    }
}

/// What a sheet has besides its cells.
fn extras_of(extras: &SheetExtras) -> Vec<String> {
    let rules = (extras.rules > 0).then(|| {
        let rules = counted(extras.rules, "rule", "rules");
        format!("{rules} (conditional formats and validations)")
    });
    let links = (extras.links > 0).then(|| counted(extras.links, "link", "links"));
    let drawings = extras
        .has_drawings
        .then(|| "charts and pictures".to_owned());
    let comments = extras.has_comments.then(|| "comments".to_owned());
    [rules, links, drawings, comments]
        .into_iter()
        .flatten()
        .collect()
}

/// What is odd about a header.
pub(in crate::report) fn header(note: &HeaderNote) -> String {
    match note {
        HeaderNote::Blank { column, name } => {
            format!(
                "column {} has no name; call it '{name}'",
                number(*column as u64)
            )
        }
        HeaderNote::Duplicate {
            column,
            header,
            name,
        } => format!(
            "column {} is called '{header}' like an earlier one; call it '{name}'",
            number(*column as u64)
        ),
        HeaderNote::Padded { column, name } => format!(
            "column {} has white space around its name; call it '{name}'",
            number(*column as u64)
        ),
    }
}

/// What sheets have and is not drawn on their pages.
pub(super) fn not_drawn(paths: &[String], what: &[(LeftOutDrawing, u64)]) -> String {
    let words = what.iter().map(|(what, count)| {
        let (one, more) = match what {
            LeftOutDrawing::Shapes => ("shape or text box", "shapes and text boxes"),
            LeftOutDrawing::Charts => ("chart of another kind", "charts of other kinds"),
            LeftOutDrawing::Pictures => ("picture", "pictures"),
            LeftOutDrawing::ConditionalFormats => ("conditional format", "conditional formats"),
            LeftOutDrawing::RichTexts => (
                "text with several fonts (drawn in one)",
                "texts with several fonts (drawn in one)",
            ),
            LeftOutDrawing::Turned => (
                "turned text (drawn upright)",
                "turned texts (drawn upright)",
            ),
            LeftOutDrawing::OldValues => (
                "formula that is not computed here (drawn with its old value)",
                "formulas that are not computed here (drawn with their old values)",
            ),
            LeftOutDrawing::CutTexts => {
                ("text longer than its cell", "texts longer than their cells")
            }
            LeftOutDrawing::RowsOutside => {
                ("row outside the print area", "rows outside the print area")
            }
            LeftOutDrawing::ColumnsOutside => (
                "column outside the print area",
                "columns outside the print area",
            ),
            LeftOutDrawing::HiddenRows => ("hidden row", "hidden rows"),
            LeftOutDrawing::HiddenColumns => ("hidden column", "hidden columns"),
            LeftOutDrawing::Sparklines => ("sparkline", "sparklines"),
        };
        counted(*count, one, more)
    });
    let words: Vec<String> = words.collect();
    let place = match paths {
        [one] => one.clone(),
        several => files(several.len() as u64),
    };
    format!("{place}: not drawn as in the sheets: {}", words.join(", "))
}
