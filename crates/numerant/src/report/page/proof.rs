//! A page about a proof: whether files are what a ledger says, or parts are the whole.

use maud::{Markup, html};
use numerant_engine::{FoundRecord, LedgerCheck, PartsCheck};

use super::{Made, frame};
use crate::report::verify::{changed, times};
use crate::report::words::{bytes, counted, files, folder, number, records};

/// Files of each kind that are listed.
const LISTED: usize = 500;

fn verdict(holds: bool) -> Markup {
    html! {
        @if holds { li { b { "holds" } "nothing was lost or added" } }
        @else { li.out { b { "does not hold" } "see below" } }
    }
}

/// The page about files that were held against a ledger.
pub(crate) fn ledger(check: &LedgerCheck, made: &Made) -> String {
    let content = html! {
        h1 { (check.ledger) ": " (if check.holds { "holds" } else { "does not hold" }) }
        p.soft { "in " (folder(&check.out)) }
        ul.flow {
            li { b { (number(check.outputs)) } (if check.outputs == 1 { "file" } else { "files" }) }
            li { b { (number(check.records)) } (if check.records == 1 { "record" } else { "records" }) }
            li { b { (bytes(check.bytes)) } "read and compared" }
            (verdict(check.holds))
        }
        @if check.unbalanced { p { "The ledger does not add up: it was changed, or is damaged." } }
        (list("Missing", &check.missing))
        (list("Changed", &check.changed.iter().map(changed).collect::<Vec<_>>()))
        (list("Extra: the ledger does not name them", &check.extra))
        @if check.others > 0 {
            p.soft { (counted(check.others, "other file is", "other files are")) " in the folder too" }
        }
    };
    frame(&check.ledger, made, &content)
}

fn list(heading: &str, items: &[String]) -> Markup {
    let rest = items.len().saturating_sub(LISTED) as u64;
    html! {
        @if !items.is_empty() {
            h2 { (heading) }
            ul {
                @for item in items.iter().take(LISTED) { li { (item) } }
                @if rest > 0 { li { "and " (number(rest)) " more" } }
            }
        }
    }
}

/// The page about parts that were held against the whole.
pub(crate) fn parts(check: &PartsCheck, made: &Made) -> String {
    let title = if check.as_shown {
        "The parts have exactly the records of the whole, in the values that their sheets show"
    } else if check.holds {
        "The parts have exactly the records of the whole"
    } else {
        "The parts do not have exactly the records of the whole"
    };
    let content = html! {
        h1 { (title) }
        ul.flow {
            li { b { (number(check.whole.records)) } "in the whole, " (files(check.whole_files)) }
            li { b { (number(check.parts.records)) } "in the parts, " (files(check.parts_files)) }
            (verdict(check.holds))
        }
        p.soft {
            (counted(check.columns.len() as u64, "column", "columns")) " compared: "
            (check.columns.join(", "))
        }
        @if check.holds {
            p { "Digest of the records of both: " code { (check.whole.digest) } }
        }
        (found("Missing", check.missing_records, &check.missing, &check.columns))
        (found("Extra", check.extra_records, &check.extra, &check.columns))
        (found("Doubled", check.doubled_records, &check.doubled, &check.columns))
    };
    frame(title, made, &content)
}

/// Records that make a difference.
fn found(heading: &str, count: u64, found: &[FoundRecord], columns: &[String]) -> Markup {
    html! {
        @if count > 0 {
            h2 { (heading) ": " (records(count)) }
            div.wide tabindex="0" { table {
                thead { tr {
                    th scope="col" { "source" } th.n scope="col" { "at" }
                    th scope="col" { "in the whole" } th scope="col" { "in the parts" }
                    th scope="col" { "changed" }
                    @for column in columns { th scope="col" { (column) } }
                } }
                tbody { @for record in found { tr {
                    td { (record.source) }
                    td.n { (record.unit) " " (number(record.line)) }
                    td { (times(record.in_whole)) } td { (times(record.in_parts)) }
                    td { @if let Some(changed) = &record.changed {
                        (changed.column) ": " (changed.whole) " → " (changed.part)
                    } }
                    @for value in &record.values { td { (value) } }
                } } }
            } }
            @if found.len() as u64 != count {
                p.soft { "The first " (number(found.len() as u64)) " different ones are shown." }
            }
        }
    }
}
