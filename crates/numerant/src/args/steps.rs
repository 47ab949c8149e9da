//! The steps, which every command takes in the same order.

use std::path::PathBuf;

use clap::Args;
use numerant_data::value::ColumnType;
use numerant_naming::parse_columns;
use numerant_steps::expr::Expression;
use numerant_steps::{Lookup, OnError, Repeated, SortColumn, Step, Unmatched};

use super::options::{ColumnList, choice, columns, names};

const ON_ERROR: &[(&str, OnError)] = &[("error", OnError::Error), ("reject", OnError::Reject)];

const UNMATCHED: &[(&str, Unmatched)] = &[
    ("refuse", Unmatched::Refuse),
    ("blank", Unmatched::Blank),
    ("reject", Unmatched::Reject),
];

const REPEATED: &[(&str, Repeated)] = &[
    ("refuse", Repeated::Refuse),
    ("first", Repeated::First),
    ("last", Repeated::Last),
];

/// What is done to the values of records, in the order of these options whatever the order they are typed
/// in.
#[derive(Debug, Args)]
#[command(next_help_heading = "Steps, in this order")]
pub(super) struct ChangeOptions {
    /// Trim values, and remove blank records and blank columns
    #[arg(long)]
    tidy: bool,
    /// Check that all values of a column have a type: text, integer, decimal, date, datetime or
    /// boolean; may be repeated
    #[arg(long = "type", value_name = "COLUMN=TYPE", value_parser = column_type)]
    types: Vec<(String, ColumnType)>,
    /// Add the columns of the table in FILE by the key column KEY; FILE:KEY=COLUMN if the column
    /// has another name in the data; may be repeated
    #[arg(long, value_name = "FILE:KEY", value_parser = lookup)]
    lookup: Vec<Lookup>,
    /// Records whose key is not in the lookup table: refuse ends the run, blank leaves the added
    /// columns blank, reject leaves the records out
    #[arg(
        long,
        value_name = "POLICY",
        value_parser = choice(UNMATCHED),
        default_value = "refuse",
        requires = "lookup"
    )]
    unmatched: Unmatched,
    /// Keys that the lookup table has twice: refuse ends the run, first and last use one of the
    /// rows
    #[arg(
        long,
        value_name = "POLICY",
        value_parser = choice(REPEATED),
        default_value = "refuse",
        requires = "lookup"
    )]
    repeated: Repeated,
    /// Compute a column, such as net='dues * 0.8'; may be repeated
    #[arg(long, value_name = "NAME=EXPRESSION", value_parser = set)]
    set: Vec<(String, Expression)>,
    /// Keep only records that match a condition, such as "tonnes > 1000 AND quay = 'Coal Dock'";
    /// may be repeated
    #[arg(long = "where", value_name = "CONDITION", value_parser = condition)]
    conditions: Vec<Expression>,
    /// Write dates as in ISO 8601 (2026-03-05) and numbers as digits with a point, in columns
    /// detected with other notations
    #[arg(long)]
    normalize: bool,
    /// Rename a column; may be repeated
    #[arg(long, value_name = "OLD=NEW", value_parser = rename)]
    rename: Vec<(String, String)>,
}

/// What is done to records, in the order of these options whatever the order they are typed in.
#[derive(Debug, Args)]
#[command(next_help_heading = "Steps, in this order")]
pub(super) struct StepOptions {
    #[command(flatten)]
    changes: ChangeOptions,
    /// Write only these columns, in this order: names, patterns such as 'dues*', or positions such
    /// as 3 or 5-7
    #[arg(long, value_name = "COLUMN[,COLUMN…]", value_parser = columns)]
    keep: Vec<ColumnList>,
    /// Do not write these columns, chosen as with --keep; --name, --by and --case can still use
    /// them
    #[arg(long, value_name = "COLUMN[,COLUMN…]", value_parser = columns)]
    drop: Vec<ColumnList>,
    /// Write only source columns whose values all have one of these types: text, integer, decimal
    /// (includes integers), date, datetime or boolean
    #[arg(long, value_name = "TYPE[,TYPE…]", value_delimiter = ',', value_parser = one_type)]
    keep_type: Vec<ColumnType>,
    /// Sort the records; -COLUMN sorts in descending order
    #[arg(
        long,
        value_name = "COLUMN[,-COLUMN…]",
        value_parser = sort_columns,
        allow_hyphen_values = true
    )]
    sort: Vec<SortList>,
    /// Records for which a step, a key or a total fails: error ends the run, reject leaves the
    /// records out
    #[arg(
        long,
        value_name = "POLICY",
        value_parser = choice(ON_ERROR),
        default_value = "error"
    )]
    pub(super) on_error: OnError,
}

#[derive(Clone, Debug)]
struct SortList(Vec<SortColumn>);

fn sort_columns(text: &str) -> Result<SortList, String> {
    // The sign stands before the quotes of a name that needs them.
    let signs: Vec<&str> = split_outside_quotes(text);
    let columns: Result<Vec<SortColumn>, String> = signs
        .into_iter()
        .map(|part| {
            let part = part.trim();
            let (name, descending) = match part.strip_prefix('-') {
                Some(name) => (name, true),
                None => (part, false),
            };
            let names = parse_columns(name).map_err(|error| error.to_string())?;
            match names.as_slice() {
                [column] => Ok(SortColumn {
                    column: column.clone(),
                    descending,
                }),
                _ => Err(format!("'{part}' is not one column")),
            }
        })
        .collect();
    columns.map(SortList)
}

fn split_outside_quotes(text: &str) -> Vec<&str> {
    let mut quoted = false;
    text.split(|c: char| {
        quoted ^= c == '"';
        c == ',' && !quoted
    })
    .collect()
}

/// `NAME=REST` with a name that may stand in double quotes.
fn assignment<'t>(text: &'t str, form: &str) -> Result<(String, &'t str), String> {
    let missing = || format!("write it as {form}");
    if let Some(inside) = text.strip_prefix('"') {
        let end = inside.find("\"=").ok_or_else(missing)?;
        let name = inside[..end].replace("\"\"", "\"");
        return Ok((name, &inside[end + 2..]));
    }
    let (name, rest) = text.split_once('=').ok_or_else(missing)?;
    if name.trim().is_empty() {
        return Err(missing());
    }
    Ok((name.trim().to_owned(), rest))
}

fn column_type(text: &str) -> Result<(String, ColumnType), String> {
    let (name, rest) = assignment(text, "COLUMN=TYPE")?;
    let found = rest.trim().parse::<ColumnType>();
    found
        .map(|found| (name, found))
        .map_err(|error| error.to_string())
}

fn one_type(text: &str) -> Result<ColumnType, String> {
    let found = text.trim().parse::<ColumnType>();
    found.map_err(|error| error.to_string())
}

fn rename(text: &str) -> Result<(String, String), String> {
    let (from, to) = assignment(text, "OLD=NEW")?;
    Ok((from, to.trim().to_owned()))
}

fn set(text: &str) -> Result<(String, Expression), String> {
    let (name, rest) = assignment(text, "NAME=EXPRESSION")?;
    Ok((name, condition(rest)?))
}

/// `NAME=CONDITION`.
pub(super) fn case(text: &str) -> Result<numerant_steps::Case, String> {
    let (name, rest) = assignment(text, "NAME=CONDITION")?;
    let when = condition(rest)?;
    Ok(numerant_steps::Case { name, when })
}

fn condition(text: &str) -> Result<Expression, String> {
    text.parse::<Expression>().map_err(|error| {
        let mut lines = vec![error.to_string()];
        lines.extend(error.marked());
        lines.extend(crate::hint::of_expression(&error).map(|hint| format!("hint: {hint}")));
        lines.join("\n  ")
    })
}

fn lookup(text: &str) -> Result<Lookup, String> {
    let (file, key) = text
        .rsplit_once(':')
        .filter(|(file, key)| !file.is_empty() && !key.trim().is_empty())
        .ok_or("write it as FILE:KEY, such as owners.csv:quay")?;
    let (key, column) = match key.split_once('=') {
        Some((key, column)) => (key, Some(column.trim().to_owned())),
        None => (key, None),
    };
    Ok(Lookup {
        file: PathBuf::from(file),
        key: key.trim().to_owned(),
        column,
        unmatched: Unmatched::default(),
        repeated: Repeated::default(),
    })
}

impl ChangeOptions {
    /// The steps in their order.
    pub(super) fn into_steps(self) -> Vec<Step> {
        let mut steps = Vec::new();
        if self.tidy {
            steps.push(Step::Tidy);
        }
        let types = self.types.into_iter();
        steps.extend(types.map(|(column, is)| Step::Type { column, is }));
        steps.extend(self.lookup.into_iter().map(|lookup| {
            Step::Lookup(Lookup {
                unmatched: self.unmatched,
                repeated: self.repeated,
                ..lookup
            })
        }));
        let set = self.set.into_iter();
        steps.extend(set.map(|(name, value)| Step::Set { name, value }));
        steps.extend(self.conditions.into_iter().map(Step::Where));
        if self.normalize {
            steps.push(Step::Normalize);
        }
        let rename = self.rename.into_iter();
        steps.extend(rename.map(|(from, to)| Step::Rename { from, to }));
        steps
    }
}

impl StepOptions {
    /// The steps in their order.
    pub(super) fn into_steps(self) -> Vec<Step> {
        let mut steps = self.changes.into_steps();
        if !self.keep.is_empty() {
            steps.push(Step::Keep(names(self.keep)));
        }
        if !self.drop.is_empty() {
            steps.push(Step::Drop(names(self.drop)));
        }
        if !self.keep_type.is_empty() {
            steps.push(Step::KeepType(self.keep_type));
        }
        if !self.sort.is_empty() {
            let sort = self.sort.into_iter().flat_map(|list| list.0);
            steps.push(Step::Sort(sort.collect()));
        }
        steps
    }
}
