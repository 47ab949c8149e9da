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
            "its first line states the delimiter ({delimiter}); the line is not a record and is not written"
        ),
        TextNote::UnusualDelimiter { delimiter } => {
            format!("detected delimiter: {delimiter}; --delimiter states another")
        }
        TextNote::PaddedQuotes => "spaces between separators and quotes were removed; \
                                   --padded-quotes=no keeps them"
            .to_owned(),
        TextNote::Title { header } => format!(
            "its first record looks like a title, and line {header} like the header; --skip-lines {} skips the lines above it",
            header - 1
        ),
        TextNote::NoHeader => "its first record looks like data but is read as the header; --no-header reads it as a record"
            .to_owned(),
        TextNote::StrayQuotes { fields } => format!(
            "{} an unexpected quote, which is kept",
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
            "{} read as UTF-8, although the leader states another encoding; --encoding decides",
            counted(*records, "record is", "records are")
        ),
        TextNote::Unterminated => {
            "the last segment has no terminator; it is read anyway".to_owned()
        }
        TextNote::EscapedLetters { count } => format!(
            "{} before a letter or digit and removed",
            counted(*count, "escape character is", "escape characters are")
        ),
        TextNote::BlankValues { values } => format!(
            "{} read as blank (--blank-values)",
            counted(*values, "value was", "values were")
        ),
    }
}

/// What could not stay as it was in a sheet that has left its workbook.
pub(super) fn extracted(what: &Extracted) -> Vec<String> {
    let mut texts = Vec::new();
    let mut add = |count: u64, one: &str, more: &str| match count {
        0 => {}
        1 => texts.push(format!("1 {one}")),
        count => texts.push(format!("{} {more}", number(count))),
    };
    add(
        what.formulas,
        "formula was replaced by its value, as it refers to a sheet that is not in the file",
        "formulas were replaced by their values, as they refer to sheets that are not in the file",
    );
    add(
        what.without_value,
        "of them was never calculated and is blank; open and save the workbook in a spreadsheet program first",
        "of them were never calculated and are blank; open and save the workbook in a spreadsheet program first",
    );
    add(
        what.rules,
        "conditional format or validation refers to another sheet and does not work",
        "conditional formats or validations refer to another sheet and do not work",
    );
    add(
        what.ranges,
        "chart or table refers to another sheet and shows its last values",
        "charts or tables refer to another sheet and show their last values",
    );
    add(
        what.reordered,
        "conditional format, validation or chart range was removed, as the order of its records changed",
        "conditional formats, validations or chart ranges were removed, as the order of their records changed",
    );
    add(
        what.names,
        "named range refers to another sheet and was removed",
        "named ranges refer to another sheet and were removed",
    );
    add(
        what.pivots,
        "pivot table cannot be refreshed, as its source was on another sheet",
        "pivot tables cannot be refreshed, as their sources were on other sheets",
    );
    add(
        what.pivots_left_out,
        "pivot table was removed, as it contains the records of all parts",
        "pivot tables were removed, as they contain the records of all parts",
    );
    add(
        what.filters,
        "filter criterion was removed, as it can contain values of other parts; hidden rows stay hidden",
        "filter criteria were removed, as they can contain values of other parts; hidden rows stay hidden",
    );
    add(
        what.scenarios,
        "scenario was removed, as it contains values of other parts",
        "scenarios were removed, as they contain values of other parts",
    );
    add(
        what.lost,
        "slicer, timeline or query was removed, as only its own workbook can have it",
        "slicers, timelines or queries were removed, as only their own workbook can have them",
    );
    for (is, text) in [
        (
            what.signature,
            "the digital signature is not valid for a part and was removed",
        ),
        (
            what.macros,
            "macros were removed, as only .xlsm files can have them",
        ),
        (
            what.shown,
            "the sheet was hidden and is now visible, as it is the only one",
        ),
        (
            what.stale,
            "the workbook was changed and never recalculated, so formulas have old values; open and save it in a spreadsheet program first",
        ),
        (
            what.theme,
            "the workbooks have different themes: charts and shapes use the theme of the first, cells keep their colors",
        ),
    ] {
        if is {
            texts.push(text.to_owned());
        }
    }
    if !what.renamed.is_empty() {
        let shown: Vec<String> = what
            .renamed
            .iter()
            .map(|(old, new)| format!("{old} → {new}"))
            .collect();
        texts.push(format!(
            "named ranges and tables with the same name are renamed, in formulas too: {}",
            shown.join(", ")
        ));
    }
    texts
}

/// What does not agree in messages as they are.
pub(super) fn messages(source: &str, facts: &MessageFacts) -> String {
    let mut texts = Vec::new();
    if facts.unbalanced > 0 {
        texts.push(format!(
            "in {} of {} the amounts do not add up to the stated total",
            number(facts.unbalanced),
            counted(facts.messages, "message", "messages")
        ));
    }
    if facts.miscounted > 0 {
        texts.push(format!(
            "{} (--miscounted decides what is written)",
            counted(
                facts.miscounted,
                "count or control number does not agree",
                "counts or control numbers do not agree"
            )
        ));
    }
    if facts.lower_case > 0 {
        texts.push(format!(
            "{} in lower case",
            counted(facts.lower_case, "segment tag is", "segment tags are")
        ));
    }
    let first = facts.first.as_deref().unwrap_or_default();
    format!(
        "{source}, {}: {}; {first}",
        facts.kind,
        texts.join(", and ")
    )
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
            "{what}; the stated total {stated} is kept, and the records add up to {sum}, {difference} less"
        );
    }
    let dropped = match note.dropped.len() {
        0 => String::new(),
        count => format!(
            ", and {} removed: {}",
            counted(count as u64, "adjustment is", "adjustments are"),
            note.dropped.join(" ")
        ),
    };
    format!("{what}; the stated total is now {sum} instead of {stated}{dropped}")
}

/// What is odd about the cells of a sheet.
pub(super) fn sheet(note: &SheetNote) -> String {
    match note {
        SheetNote::Uncomputed { count, as_text } => format!(
            "{} never calculated and {} read as {}; open and save the workbook in a spreadsheet program first",
            counted(*count, "formula was", "formulas were"),
            if *count == 1 { "was" } else { "were" },
            if *as_text { "text" } else { "blank" }
        ),
        SheetNote::Errors(count) => format!(
            "{} an error such as #N/A, which was read as text",
            counted(*count, "cell holds", "cells hold")
        ),
        SheetNote::Merged(count) => format!(
            "{} merged; the value is in the first cell of each",
            counted(*count, "range of cells is", "ranges of cells are")
        ),
        SheetNote::HiddenRows(count) => format!(
            "{} hidden and read too",
            counted(*count, "row is", "rows are")
        ),
        SheetNote::Hidden => "the sheet is hidden".to_owned(),
        SheetNote::LeftOut(extras) => format!(
            "outputs have its values and formats, but not its {}; split --like-source and --per-sheet keep them",
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
                "column {} has no name; its name here is '{name}'",
                number(*column as u64)
            )
        }
        HeaderNote::Duplicate {
            column,
            header,
            name,
        } => format!(
            "column {} has the same name as an earlier one, '{header}'; its name here is '{name}'",
            number(*column as u64)
        ),
        HeaderNote::Padded { column, name } => format!(
            "column {} has white space around its name; its name here is '{name}'",
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
