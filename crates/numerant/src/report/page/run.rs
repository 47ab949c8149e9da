//! A page about a run: what was read, left out and written.

use std::path::{Path, PathBuf};

use maud::{Markup, html};
use numerant_engine::Summary;
use numerant_engine::ledger::{Ledger, OutputEntry};

use super::chart::bar;
use super::{Made, frame};
use crate::report::notice;
use crate::report::run::{by_name, has_unseen, outputs_in_words, reason, sources, values_left_out};
use crate::report::words::{bytes, decimal, folder, number, records};

/// Outputs and rejected records that are listed.
const LISTED: usize = 500;
const REJECTS: usize = 50;

/// The page of a run, as it is in a folder.
pub(crate) fn run(summary: &Summary, page_folder: &Path, made: &Made) -> String {
    let ledger = &summary.ledger;
    let totals = &ledger.totals;
    let content = html! {
        h1 { (sources(ledger)) " → " (outputs_in_words(ledger)) }
        p.soft { "in " (folder(&summary.out)) }
        ul.flow {
            li { b { (number(totals.read)) } "read" }
            @if totals.left_out > 0 { li.out { b { (number(totals.left_out)) } "left out" } }
            @if totals.rejected > 0 { li.out { b { (number(totals.rejected)) } "rejected" } }
            li { b { (number(totals.written)) } "written" }
            (balance(summary))
        }
        (left_out(ledger))
        (sums(ledger))
        (outputs(summary, page_folder))
        @if !summary.notices.is_empty() {
            h2 { "Notes" }
            ul { @for one in &summary.notices { li { (notice::text(one)) } } }
        }
        (rejects(ledger))
        (read(ledger))
    };
    frame(&sources(ledger), made, &content)
}

/// Whether all is accounted for; values that no record has are a loss.
fn balance(summary: &Summary) -> Markup {
    let ledger = &summary.ledger;
    let values: u64 = values_left_out(ledger).iter().map(|(_, count)| count).sum();
    html! {
        @if values > 0 {
            li.out { b { (number(values)) } "values outside the records, not written" }
        } @else if has_unseen(&summary.notices) {
            li.out { b { "in part" } "not all records can be seen on the pages" }
        } @else if ledger.balanced {
            li { b { "balanced" } "read = written + left out + rejected" }
        } @else {
            li.out { b { "NOT balanced" } "read is not written + left out + rejected" }
        }
    }
}

fn left_out(ledger: &Ledger) -> Markup {
    html! {
        @if !ledger.left_out.is_empty() {
            h2 { "Left out" }
            ul {
                @for left_out in &ledger.left_out {
                    li { (records(left_out.records)) " " (reason(left_out)) }
                }
            }
        }
    }
}

fn sums(ledger: &Ledger) -> Markup {
    html! {
        @if !ledger.sums.is_empty() {
            h2 { "Control totals" }
            div.wide tabindex="0" { table {
                thead { tr {
                    th scope="col" { "column" }
                    th.n scope="col" { "read" } th.n scope="col" { "written" }
                    th.n scope="col" { "left out" } th.n scope="col" { "rejected" }
                } }
                tbody { @for sum in &ledger.sums { tr {
                    th scope="row" { (sum.column) }
                    td.n { (decimal(sum.read)) } td.n { (decimal(sum.written)) }
                    td.n { (decimal(sum.left_out)) } td.n { (decimal(sum.rejected)) }
                } } }
            } }
        }
    }
}

fn outputs(summary: &Summary, page_folder: &Path) -> Markup {
    let ledger = &summary.ledger;
    let mut outputs: Vec<&OutputEntry> = ledger.outputs.iter().collect();
    outputs.sort_by(|one, other| by_name(one, other));
    let most = outputs
        .iter()
        .map(|output| output.records)
        .max()
        .unwrap_or(1)
        .max(1);
    let has_sheets = outputs.iter().any(|output| output.sheet.is_some());
    let rest = outputs.len().saturating_sub(LISTED) as u64;
    html! {
        h2 { "Outputs" }
        div.wide tabindex="0" { table {
            thead { tr {
                th.n scope="col" { "records" }
                th scope="col" { "share of the largest" }
                @for sum in &ledger.sums { th.n scope="col" { (sum.column) } }
                th.n scope="col" { "size" }
                th scope="col" { "file" }
                @if has_sheets { th scope="col" { "sheet" } }
            } }
            tbody { @for output in outputs.iter().take(LISTED) { tr {
                td.n { (number(output.records)) }
                td.chart { (bar(output.records, most)) }
                @for sum in &output.sums { td.n { (decimal(*sum)) } }
                td.n { (output.bytes.map(bytes).unwrap_or_default()) }
                td { a href=(link(&summary.out, &output.path, page_folder)) { (output.path) } }
                @if has_sheets { td { (output.sheet.as_deref().unwrap_or_default()) } }
            } } }
        } }
        @if rest > 0 { p.soft { "and " (number(rest)) " more" } }
    }
}

fn rejects(ledger: &Ledger) -> Markup {
    let rest = ledger.totals.rejected.saturating_sub(REJECTS as u64);
    html! {
        @if !ledger.rejects.is_empty() {
            h2 { "Rejected" }
            div.wide tabindex="0" { table {
                thead { tr {
                    th scope="col" { "source" } th.n scope="col" { "line" } th scope="col" { "why" }
                } }
                tbody { @for reject in ledger.rejects.iter().take(REJECTS) { tr {
                    td { (reject.source) } td.n { (number(reject.line)) } td { (reject.reason) }
                } } }
            } }
            @if rest > 0 { p.soft { "and " (number(rest)) " more" } }
        }
    }
}

fn read(ledger: &Ledger) -> Markup {
    html! {
        h2 { "Read" }
        div.wide tabindex="0" { table {
            thead { tr {
                th scope="col" { "source" } th.n scope="col" { "size" }
                th.n scope="col" { "records" } th.n scope="col" { "rejected" }
            } }
            tbody { @for source in ledger.sources.iter().take(LISTED) { tr {
                td { (source.path) @if let Some(sheet) = &source.sheet { ", sheet '" (sheet) "'" } }
                td.n { (source.bytes.map(bytes).unwrap_or_default()) }
                td.n { (number(source.records)) }
                td.n { (number(source.rejected)) }
            } } }
        } }
    }
}

/// The address of an output from the folder that the page is in, with what addresses cannot hold in hexadecimal.
fn link(out: &Path, path: &str, page_folder: &Path) -> String {
    let absolute = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let (file, from) = (absolute(&out.join(path)), absolute(page_folder));
    let common = file
        .components()
        .zip(from.components())
        .take_while(|(one, other)| one == other);
    let common = common.count();
    let up = from.components().skip(common).map(|_| PathBuf::from(".."));
    let down = file
        .components()
        .skip(common)
        .map(|part| PathBuf::from(part.as_os_str()));
    let relative: PathBuf = up.chain(down).collect();
    let mut address = String::from("./");
    for byte in relative.to_string_lossy().bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => {
                address.push(char::from(byte));
            }
            byte => address.push_str(&format!("%{byte:02X}")),
        }
    }
    address
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_lead_from_the_page_to_the_outputs() {
        let link = |out: &str, path: &str, from: &str| link(Path::new(out), path, Path::new(from));
        assert_eq!(link("/a/out", "b c/d.csv", "/a"), "./out/b%20c/d.csv");
        assert_eq!(link("/a/out", "d.csv", "/a/pages/x"), "./../../out/d.csv");
        assert_eq!(link("/a/out", "Å#?.csv", "/a/out"), "./%C3%85%23%3F.csv");
        assert_eq!(link("/a", "/b/c.csv", "/a"), "./../b/c.csv");
    }
}
