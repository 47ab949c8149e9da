//! Options that formats describe, as keys of a job.

use numerant_format::{OptionValues, Side, Takes};
use numerant_formats::options;

/// The options of formats for both sides.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct FormatOptions {
    pub(super) read: OptionValues,
    pub(super) write: OptionValues,
}

/// A value as the text that the option takes, if it is one.
enum Given {
    Text(String),
    Switch(bool),
    Other,
}

/// Takes the options of formats out of the keys of a job.
///
/// # Errors
///
/// The key, and what is wrong with its value.
fn take<V>(
    mut remove: impl FnMut(&str) -> Option<V>,
    given: impl Fn(V) -> Given,
) -> Result<FormatOptions, (String, String)> {
    let mut taken = FormatOptions::default();
    for side in [Side::Reading, Side::Writing] {
        for option in options(side) {
            let Some(value) = remove(option.name) else {
                continue;
            };
            let failed = |what: String| (option.name.to_owned(), what);
            let text = match (given(value), option.takes) {
                (Given::Switch(false), Takes::Nothing) => continue,
                (Given::Switch(true), Takes::Nothing) => String::new(),
                (Given::Text(text), Takes::Text | Takes::File) => {
                    (option.check)(&text).map_err(failed)?;
                    text
                }
                (_, Takes::Nothing) => return Err(failed("expected true or false".to_owned())),
                _ => return Err(failed("expected a text".to_owned())),
            };
            let values = match side {
                Side::Reading => &mut taken.read,
                Side::Writing => &mut taken.write,
            };
            values.set(option.name, &text);
        }
    }
    Ok(taken)
}

/// Those of a table of a job file.
pub(super) fn take_from_toml(table: &mut toml::Table) -> Result<FormatOptions, (String, String)> {
    let given = |value| match value {
        toml::Value::String(text) => Given::Text(text),
        toml::Value::Integer(number) => Given::Text(number.to_string()),
        toml::Value::Boolean(set) => Given::Switch(set),
        _ => Given::Other,
    };
    take(|name| table.remove(name), given)
}

/// Those of the job that a ledger keeps.
pub(super) fn take_from_json(
    keys: &mut serde_json::Map<String, serde_json::Value>,
) -> Result<FormatOptions, (String, String)> {
    let given = |value| match value {
        serde_json::Value::String(text) => Given::Text(text),
        serde_json::Value::Number(number) => Given::Text(number.to_string()),
        serde_json::Value::Bool(set) => Given::Switch(set),
        _ => Given::Other,
    };
    take(|name| keys.remove(name), given)
}
