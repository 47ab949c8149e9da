//! A page about a run: what was read, left out and written, for people who would rather look than read. It holds all
//! that it needs.

use std::path::{Path, PathBuf};

use maud::{DOCTYPE, Markup, PreEscaped, html};
use numerant_engine::Summary;
use numerant_engine::ledger::{Ledger, OutputEntry};

use super::notice;
use super::run::{outputs_in_words, reason, sources, values_left_out};
use super::words::{bytes, decimal, folder, number, records};

/// What a page of a run can be told by, so that no other file is replaced.
pub(crate) const MARK: &str = "<meta name=\"generator\" content=\"numerant run page\">";

/// Outputs and rejected records that are listed.
const LISTED: usize = 500;
const REJECTS: usize = 50;

const STYLE: &str = include_str!("page.css");

/// The words of a command as a shell takes them.
pub(crate) fn command(words: impl Iterator<Item = String>) -> String {
    let quoted = words.enumerate().map(|(place, word)| {
        let is_plain =
            |character: char| character.is_alphanumeric() || "-_./=,:+@%".contains(character);
        if place == 0 {
            "numerant".to_owned()
        } else if !word.is_empty() && word.chars().all(is_plain) {
            word
        } else {
            format!("'{}'", word.replace('\'', "'\\''"))
        }
    });
    Vec::from_iter(quoted).join(" ")
}

/// The page of a run, as it stands in a folder.
pub(crate) fn page(summary: &Summary, page_folder: &Path, now: &str, command: &str) -> String {
    markup(summary, page_folder, now, command).into_string()
}

fn markup(summary: &Summary, page_folder: &Path, now: &str, command: &str) -> Markup {
    let ledger = &summary.ledger;
    let totals = &ledger.totals;
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                (PreEscaped(MARK))
                title { (sources(ledger)) }
                style { (PreEscaped(STYLE)) }
            }
            body { main {
                h1 { (sources(ledger)) " → " (outputs_in_words(ledger)) }
                p.soft { "in " (folder(&summary.out)) ", " (now) }
                ul.flow {
                    li { b { (number(totals.read)) } "read" }
                    @if totals.left_out > 0 { li.out { b { (number(totals.left_out)) } "left out" } }
                    @if totals.rejected > 0 { li.out { b { (number(totals.rejected)) } "rejected" } }
                    li { b { (number(totals.written)) } "written" }
                    (balance(ledger))
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
                h2 { "The command" }
                pre { (command) }
            } }
        }
    }
}

/// Whether all is accounted for; values that no record has are a loss.
fn balance(ledger: &Ledger) -> Markup {
    let values: u64 = values_left_out(ledger).iter().map(|(_, count)| count).sum();
    html! {
        @if values > 0 {
            li.out { b { (number(values)) } "values beside the records, not written" }
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
            div.wide { table {
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
    outputs.sort_by(|one, other| {
        let by_name = || (&one.path, &one.sheet).cmp(&(&other.path, &other.sheet));
        other.records.cmp(&one.records).then_with(by_name)
    });
    let most = outputs.first().map_or(1, |output| output.records.max(1));
    let has_sheets = outputs.iter().any(|output| output.sheet.is_some());
    let rest = outputs.len().saturating_sub(LISTED) as u64;
    html! {
        h2 { "Outputs" }
        div.wide { table {
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

/// A bar as long as a number is beside the largest.
fn bar(count: u64, most: u64) -> Markup {
    let width = 200.0 * count as f64 / most as f64;
    let label = format!("{:.0} % of the largest", 100.0 * count as f64 / most as f64);
    html! {
        svg width="200" height="12" role="img" aria-label=(label) {
            rect width=(format!("{width:.1}")) height="12" rx="2" {}
        }
    }
}

fn rejects(ledger: &Ledger) -> Markup {
    let rest = ledger.totals.rejected.saturating_sub(REJECTS as u64);
    html! {
        @if !ledger.rejects.is_empty() {
            h2 { "Rejected" }
            div.wide { table {
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
        div.wide { table {
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

    #[test]
    fn commands_are_quoted() {
        let words = [
            "/x/numerant",
            "split",
            "a b.csv",
            "--where",
            "a = 'x'",
            "--by=q",
        ];
        let words = words.into_iter().map(str::to_owned);
        assert_eq!(
            command(words),
            "numerant split 'a b.csv' --where 'a = '\\''x'\\''' --by=q"
        );
    }
}
