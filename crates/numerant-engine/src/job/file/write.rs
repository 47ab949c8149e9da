//! A job as the text of a job file, with a comment on each key.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use toml::{Table, Value};

use super::schema::meanings;
use super::{VerifyJob, Work};
use crate::job::{DeliverJob, InspectJob, Job};
use crate::ledger::from_folder_of;

/// Signs of a comment's line.
const WIDTH: usize = 96;

/// The text of a job file that is to be at `path`: what differs from the defaults, each key with a
/// comment, and paths as they lead from the folder of the file.
///
/// # Errors
///
/// If a value has no form in TOML, as a whole number beyond 63 bits.
pub fn to_toml(work: &Work, path: &Path) -> Result<String, toml::ser::Error> {
    let near = |named: &Path| -> PathBuf {
        if named.is_absolute() {
            named.to_owned()
        } else {
            PathBuf::from(from_folder_of(path, named))
        }
    };
    let command = work.command();
    let (table, usual) = match work {
        Work::Split(job) | Work::Combine(job) | Work::Convert(job) | Work::Fill(job) => {
            let mut job = (**job).clone();
            job.map_paths(&near);
            (Table::try_from(&job)?, Table::try_from(Job::default())?)
        }
        Work::Inspect(inspect) => {
            let mut inspect = (**inspect).clone();
            inspect.job.map_paths(&near);
            (
                Table::try_from(&inspect)?,
                Table::try_from(InspectJob::default())?,
            )
        }
        Work::Verify(verify) => {
            let mut verify = (**verify).clone();
            verify.map_paths(&near);
            (
                Table::try_from(&verify)?,
                Table::try_from(VerifyJob::default())?,
            )
        }
        Work::Deliver(deliver) => {
            let mut deliver = (**deliver).clone();
            deliver.map_paths(&near);
            (
                Table::try_from(&deliver)?,
                Table::try_from(DeliverJob::default())?,
            )
        }
    };
    let mut text = String::from(
        "# A job for 'numerant run'. Relative paths start in the folder of this file. Keys that are missing\n\
         # have their defaults.\n#\n\
         # Use parameters for values that change from run to run: write ${month}, for example, in any text,\n\
         # and its default here; 'numerant run FILE month=2026-04' replaces it.\n\
         # [params]\n# month = \"2026-03\"\n\n[[job]]\n",
    );
    let _ = writeln!(text, "command = {}", Value::from(command));
    let meanings = meanings(command);
    for (key, value) in &table {
        if usual.get(key) == Some(value) {
            continue;
        }
        text.push('\n');
        if let Some(meaning) = meanings.get(key) {
            comment(meaning, &mut text);
        }
        let _ = writeln!(text, "{key} = {}", shown(value));
    }
    Ok(text)
}

/// Appends a comment, in lines that are not too long.
fn comment(meaning: &str, text: &mut String) {
    let mut line = String::from("#");
    for word in meaning.split(' ') {
        if line.len() + word.len() >= WIDTH {
            text.push_str(&line);
            text.push('\n');
            line = String::from("#");
        }
        line.push(' ');
        line.push_str(word);
    }
    text.push_str(&line);
    text.push('\n');
}

/// A value; a list of several on a line each.
fn shown(value: &Value) -> String {
    match value {
        Value::Array(items) if items.len() > 1 || items.iter().any(Value::is_table) => {
            let lines: String = items
                .iter()
                .map(|item| format!("  {},\n", inline(item)))
                .collect();
            format!("[\n{lines}]")
        }
        other => inline(other),
    }
}

/// A value on one line.
fn inline(value: &Value) -> String {
    match value {
        Value::Table(table) => {
            let pairs: Vec<String> = table
                .iter()
                .map(|(key, value)| format!("{key} = {}", inline(value)))
                .collect();
            format!("{{ {} }}", pairs.join(", "))
        }
        Value::Array(items) => {
            let items: Vec<String> = items.iter().map(inline).collect();
            format!("[{}]", items.join(", "))
        }
        Value::String(text) if text.contains("${") => {
            // It is meant verbatim.
            Value::from(text.replace("${", "$${")).to_string()
        }
        other => other.to_string(),
    }
}
