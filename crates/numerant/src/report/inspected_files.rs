//! What was found in several files: one table with a line for each, and how their columns differ.

use std::collections::HashSet;
use std::io::{self, Write};

use numerant_engine::Inspection;

use super::table::{Align, Table, visible};
use super::words::{FAINT, HEADING, bytes, counted, files, folded, number, records};

/// Names of columns that are listed of a group of files.
const NAMES: usize = 20;

/// Groups of files with different columns that are listed.
const GROUPS: usize = 10;

/// Whether the inspections are of more than one file.
pub(super) fn are_several(inspections: &[Inspection]) -> bool {
    let first = inspections.first().map(file_of);
    inspections.iter().any(|one| Some(file_of(one)) != first)
}

/// The path of the file; that of an inspection may name a sheet in it.
fn file_of(inspection: &Inspection) -> &str {
    let path = inspection.path.as_str();
    let sheet = inspection.sheet.as_ref();
    let suffix = sheet.map(|sheet| format!(", sheet '{}'", sheet.sheet));
    suffix
        .and_then(|suffix| path.strip_suffix(suffix.as_str()))
        .unwrap_or(path)
}

/// The files, a line for each sheet or file, and groups of those with the same columns.
pub(super) fn show(out: &mut impl Write, inspections: &[Inspection]) -> io::Result<()> {
    let mut paths = HashSet::new();
    let mut size = 0;
    for inspection in inspections {
        if paths.insert(file_of(inspection)) {
            size += inspection.bytes.unwrap_or(0);
        }
    }
    let all: u64 = inspections.iter().map(|one| one.tally.records).sum();
    writeln!(
        out,
        "{HEADING}{}, {}, {}{HEADING:#}",
        files(paths.len() as u64),
        records(all),
        bytes(size)
    )?;
    writeln!(out)?;
    table(inspections).show(out)?;
    writeln!(out)?;
    show_groups(out, inspections)?;
    writeln!(
        out,
        "{FAINT}--details shows the columns and first records of each file{FAINT:#}"
    )
}

/// The line of each file. Columns that no file has a value for are left out.
fn table(inspections: &[Inspection]) -> Table {
    let has_text = inspections.iter().any(|one| one.dialect.is_some());
    let has_sheets = inspections.iter().any(|one| one.sheet.is_some());
    let has_trees = inspections.iter().any(|one| one.tree.is_some());
    let mut columns = vec![("records", Align::Right), ("columns", Align::Right)];
    columns.extend([("size", Align::Right), ("format", Align::Left)]);
    if has_text {
        columns.extend([("delimiter", Align::Left), ("encoding", Align::Left)]);
    }
    if has_sheets {
        columns.push(("sheet", Align::Left));
    }
    if has_trees {
        columns.push(("record path", Align::Left));
    }
    columns.push(("file", Align::Left));
    let mut table = Table::new(2, &columns);
    let mut last = "";
    for inspection in inspections {
        let file = file_of(inspection);
        // The size of a workbook is shown once, with its first sheet.
        let size = inspection.bytes.filter(|_| file != last);
        last = file;
        let mut row = vec![
            number(inspection.tally.records),
            number(inspection.source_columns),
            size.map(bytes).unwrap_or_default(),
            format_of(inspection),
        ];
        if has_text {
            row.extend(dialect_of(inspection));
        }
        if has_sheets {
            row.push(sheet_of(inspection));
        }
        if has_trees {
            let tree = inspection.tree.as_ref();
            row.push(tree.map_or_else(String::new, |tree| tree.facts.records.clone()));
        }
        row.push(file.to_owned());
        table.row(&row);
    }
    table
}

fn format_of(inspection: &Inspection) -> String {
    let compression = inspection.compression.map(|name| format!(", {name}"));
    format!("{}{}", inspection.format, compression.unwrap_or_default())
}

fn dialect_of(inspection: &Inspection) -> [String; 2] {
    match (&inspection.dialect, &inspection.detected) {
        (Some(dialect), Some(detected)) => {
            let delimiter = if detected.single_column {
                "none".to_owned()
            } else {
                dialect.delimiter.to_string()
            };
            [delimiter, dialect.encoding.name().to_owned()]
        }
        _ => Default::default(),
    }
}

/// `calls (1 of 3)`.
fn sheet_of(inspection: &Inspection) -> String {
    let Some(sheet) = &inspection.sheet else {
        return String::new();
    };
    let mut names = sheet.sheets.iter().map(|info| &info.name);
    let place = names.position(|name| *name == sheet.sheet).unwrap_or(0) + 1;
    format!("{} ({place} of {})", sheet.sheet, sheet.sheets.len())
}

/// Files that have the same columns, in whatever order.
struct Group<'i> {
    columns: Vec<&'i str>,
    members: Vec<&'i Inspection>,
}

fn groups(inspections: &[Inspection]) -> Vec<Group<'_>> {
    let mut groups: Vec<Group<'_>> = Vec::new();
    for inspection in inspections {
        let columns: Vec<&str> = inspection
            .columns
            .iter()
            .map(|column| column.name.as_str())
            .collect();
        let set: HashSet<&str> = columns.iter().copied().collect();
        let same = groups.iter_mut().find(|group| {
            group.columns.len() == columns.len()
                && group.columns.iter().all(|name| set.contains(name))
        });
        match same {
            Some(group) => group.members.push(inspection),
            None => groups.push(Group {
                columns,
                members: vec![inspection],
            }),
        }
    }
    groups.sort_by_key(|group| std::cmp::Reverse(group.members.len()));
    groups
}

/// Which files have which columns: the largest group with all names, the others by what differs.
fn show_groups(out: &mut impl Write, inspections: &[Inspection]) -> io::Result<()> {
    let groups = groups(inspections);
    let Some((first, others)) = groups.split_first() else {
        return Ok(());
    };
    if others.is_empty() {
        let text = format!("all have the same columns: {}", listed(&first.columns));
        return folded(out, "", 2, &text);
    }
    writeln!(
        out,
        "{HEADING}{} of columns{HEADING:#}",
        counted(groups.len() as u64, "set", "sets")
    )?;
    let text = format!("{}: {}", members(first), listed(&first.columns));
    folded(out, "  ", 4, &text)?;
    for group in others.iter().take(GROUPS - 1) {
        let lacks = difference(&first.columns, &group.columns);
        let has = difference(&group.columns, &first.columns);
        let mut texts = Vec::new();
        let shared = first.columns.len() - lacks.len();
        if shared * 2 < group.columns.len() {
            texts.push(listed(&group.columns));
        } else {
            if !lacks.is_empty() {
                texts.push(format!("without {}", listed(&lacks)));
            }
            if !has.is_empty() {
                texts.push(format!("with {}", listed(&has)));
            }
        }
        let text = format!("{}: {}", members(group), texts.join(", "));
        folded(out, "  ", 4, &text)?;
    }
    if groups.len() > GROUPS {
        let more = counted((groups.len() - GROUPS) as u64, "more set", "more sets");
        writeln!(out, "  {FAINT}and {more}{FAINT:#}")?;
    }
    writeln!(out)
}

/// `24 files, such as gauges/inner/V02_level.txt`.
fn members(group: &Group<'_>) -> String {
    let first = visible(&group.members[0].path);
    match group.members.len() {
        1 => first,
        count => format!("{}, such as {first}", files(count as u64)),
    }
}

fn difference<'n>(one: &[&'n str], other: &[&str]) -> Vec<&'n str> {
    let other: HashSet<&&str> = other.iter().collect();
    let missing = one.iter().filter(|name| !other.contains(name));
    missing.copied().collect()
}

fn listed(names: &[&str]) -> String {
    let shown: Vec<String> = names.iter().take(NAMES).map(|name| visible(name)).collect();
    let more = names.len().saturating_sub(NAMES);
    let more = if more > 0 {
        format!(" and {} more", number(more as u64))
    } else {
        String::new()
    };
    format!("{}{more}", shown.join(", "))
}
