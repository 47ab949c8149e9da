//! Options that formats describe, as keys of a job.

use numerant_format::{OptionValues, Side, Takes};
use numerant_formats::options;

/// The options of formats for both sides.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct FormatOptions {
    pub(super) read: OptionValues,
    pub(super) write: OptionValues,
}

/// A value as the texts that the option takes, if it is such.
enum Given {
    Texts(Vec<String>),
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
            let texts = match (given(value), option.takes) {
                (Given::Switch(false), Takes::Nothing) => continue,
                (Given::Switch(true), Takes::Nothing) => vec![String::new()],
                (_, Takes::Nothing) => return Err(failed("expected true or false".to_owned())),
                (Given::Texts(texts), Takes::Texts) => texts,
                (Given::Texts(texts), _) if texts.len() == 1 => texts,
                (_, Takes::Number) => return Err(failed("expected a whole number".to_owned())),
                _ => return Err(failed("expected a text".to_owned())),
            };
            let values = match side {
                Side::Reading => &mut taken.read,
                Side::Writing => &mut taken.write,
            };
            for text in texts {
                if let Some(value) = option.value(&text).map_err(failed)? {
                    values.put(option.name, value);
                }
            }
        }
    }
    Ok(taken)
}

/// The items of a list, if all are texts.
fn texts<V>(items: Vec<V>, text: impl Fn(V) -> Option<String>) -> Given {
    match items.into_iter().map(text).collect() {
        Some(texts) => Given::Texts(texts),
        None => Given::Other,
    }
}

/// Those of a table of a job file.
pub(super) fn take_from_toml(table: &mut toml::Table) -> Result<FormatOptions, (String, String)> {
    let given = |value| match value {
        toml::Value::String(text) => Given::Texts(vec![text]),
        toml::Value::Integer(number) => Given::Texts(vec![number.to_string()]),
        toml::Value::Boolean(set) => Given::Switch(set),
        toml::Value::Array(items) => texts(items, |item| match item {
            toml::Value::String(text) => Some(text),
            _ => None,
        }),
        _ => Given::Other,
    };
    take(|name| table.remove(name), given)
}

/// Those of the job that a ledger keeps.
pub(super) fn take_from_json(
    keys: &mut serde_json::Map<String, serde_json::Value>,
) -> Result<FormatOptions, (String, String)> {
    let given = |value| match value {
        serde_json::Value::String(text) => Given::Texts(vec![text]),
        serde_json::Value::Number(number) => Given::Texts(vec![number.to_string()]),
        serde_json::Value::Bool(set) => Given::Switch(set),
        serde_json::Value::Array(items) => texts(items, |item| match item {
            serde_json::Value::String(text) => Some(text),
            _ => None,
        }),
        _ => Given::Other,
    };
    take(|name| keys.remove(name), given)
}
