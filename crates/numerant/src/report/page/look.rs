//! A page about a look at files: each column with its type, its blanks, and how its values are spread.

use maud::{Markup, html};
use numerant_engine::{ColumnProfile, Distinct, Inspection, TreeInspection, ValueCounts};

use super::chart::{bar, histogram};
use super::{Made, frame};
use crate::report::inspection::{facts, kind, misfits};
use crate::report::notice;
use crate::report::words::{counted, number, records};

/// Paths of a document, and values of a column, that are listed.
const LISTED: usize = 500;

/// The page about what was found in files.
pub(crate) fn look(inspections: &[Inspection], made: &Made) -> String {
    let title = match inspections {
        [one] => one.path.clone(),
        several => counted(several.len() as u64, "table", "tables"),
    };
    let content = html! {
        @if inspections.len() > 1 { h1 { (title) } }
        @for inspection in inspections { (table(inspection)) }
    };
    frame(&title, made, &content)
}

/// The page about the values of a column.
pub(crate) fn values(counts: &[ValueCounts], made: &Made) -> String {
    let title = counts
        .first()
        .map_or(String::new(), |first| format!("Values of {}", first.key));
    let content = html! {
        @for counts in counts {
            h1 { (counts.path) ": values of " (counts.key) }
            p.soft {
                (counted(counts.values.len() as u64, "value", "values")) " in " (records(counts.records))
                @if counts.incomplete { "; there are more values than could be counted" }
            }
            div.wide tabindex="0" { (value_table(counts)) }
        }
    };
    frame(&title, made, &content)
}

fn value_table(counts: &ValueCounts) -> Markup {
    let most = counts.values.first().map_or(1, |value| value.records);
    let rest = counts.values.len().saturating_sub(LISTED) as u64;
    html! {
        table {
            thead { tr {
                th.n scope="col" { "records" } th.n scope="col" { "share" }
                th scope="col" { "of the largest" } th scope="col" { "value" }
            } }
            tbody { @for value in counts.values.iter().take(LISTED) { tr {
                td.n { (number(value.records)) }
                td.n { (share(value.records, counts.records)) }
                td.chart { (bar(value.records, most)) }
                td { (shown(&value.value)) }
            } } }
        }
        @if rest > 0 { p.soft { "and " (number(rest)) " more" } }
    }
}

fn shown(value: &str) -> &str {
    match value {
        "" => "(blank)",
        value => value,
    }
}

fn share(count: u64, of: u64) -> String {
    format!("{:.1} %", count as f64 * 100.0 / of.max(1) as f64)
}

fn table(inspection: &Inspection) -> Markup {
    let notices = inspection.notices();
    let misfits = misfits(inspection);
    html! {
        h1 { (inspection.path) }
        dl.facts { @for (label, text) in facts(inspection) { div { dt { (label) } dd { (text) } } } }
        @if !notices.is_empty() {
            h2 { "Notes" }
            ul { @for one in &notices { li { (notice::text(one)) } } }
        }
        @if let Some(tree) = &inspection.tree { (paths(tree)) }
        h2 { "Columns" }
        div.cards { @for column in &inspection.columns { (card(column, inspection.kept)) } }
        @if !misfits.is_empty() {
            h2 { "Columns that stay text" }
            ul { @for line in &misfits { li { (line) } } }
        }
        @if !inspection.records.is_empty() {
            h2 { "The first " (records(inspection.records.len() as u64)) }
            div.wide tabindex="0" { table {
                thead { tr { @for column in &inspection.columns { th scope="col" { (column.name) } } } }
                tbody { @for record in &inspection.records { tr { @for value in record { td { (value) } } } } }
            } }
        }
    }
}

fn card(column: &ColumnProfile, records: u64) -> Markup {
    let distinct = match column.distinct {
        Distinct::Exactly(count) => counted(count, "distinct value", "distinct values"),
        Distinct::MoreThan(count) => format!("more than {} distinct values", number(count)),
    };
    html! {
        section {
            h3 { (column.name) }
            p.soft { (kind(column)) ", " (distinct) }
            @if column.blanks > 0 {
                p.soft { (number(column.blanks)) " blank (" (share(column.blanks, records)) ")" }
            }
            @if let Some(range) = &column.range {
                (histogram(&range.histogram, &range.minimum, &range.maximum))
                p.ends { span { (range.minimum) } span { (range.maximum) } }
            } @else if !column.most_frequent.is_empty() {
                table { tbody { @for value in &column.most_frequent { tr {
                    td { (value.value) }
                    td.n { (number(value.records)) }
                    td.share { (bar(value.records, column.most_frequent[0].records)) }
                } } } }
            } @else if let Some(example) = &column.example {
                p { "for example " q { (example) } }
            }
        }
    }
}

/// The paths of a document.
fn paths(tree: &TreeInspection) -> Markup {
    let nodes = &tree.survey.nodes;
    let rest = nodes.len().saturating_sub(LISTED + 1) as u64;
    html! {
        h2 { "Paths" }
        div.wide tabindex="0" { table {
            thead { tr {
                th scope="col" { "path" } th.n scope="col" { "times" } th.n scope="col" { "in one" }
                th scope="col" { "type" } th scope="col" { "example" }
            } }
            tbody { @for node in nodes.iter().skip(1).take(LISTED) { tr {
                td style=(format!("padding-left:{}rem", node.depth - 1)) {
                    (if node.items { "[]" } else { node.name.as_str() })
                }
                td.n { (number(node.times)) }
                td.n { @if node.most > 1 { "up to " } (number(node.most)) }
                td { (node.kind) }
                td { (node.example.as_deref().unwrap_or_default()) }
            } } }
        } }
        @if rest > 0 { p.soft { "and " (number(rest)) " more" } }
    }
}
