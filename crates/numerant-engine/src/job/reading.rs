//! Options that differ from others in a few keys.

use std::path::PathBuf;

use serde_json::{Map, Value as Json};
use toml::{Table, Value};

use super::Job;
use super::format_options::take_from_json;
use numerant_data::record::nearest;
use numerant_format::{ReadOptions, Side};

/// The keys of reading options, as job files have them.
fn keys() -> Vec<String> {
    let schema = schemars::schema_for!(ReadOptions);
    let properties = schema
        .get("properties")
        .and_then(serde_json::Value::as_object);
    let keys = properties.into_iter().flatten();
    keys.map(|(key, _)| key.clone()).collect()
}

/// Options for reading with others for some keys: `skip-lines` and `0`, or `delimiter` and `tab`.
///
/// # Errors
///
/// A message, if there is no such key, or the value is none for it.
pub fn read_options_with(
    base: &ReadOptions,
    options: &[(String, String)],
) -> Result<ReadOptions, String> {
    let keys = keys();
    let mut table = Table::try_from(base).map_err(|error| error.to_string())?;
    let mut of_formats = base.of_formats.clone();
    let described = numerant_formats::options(Side::Reading);
    for (key, text) in options {
        if let Some(option) = described.iter().find(|option| option.name == key) {
            match option.value(text)? {
                Some(value) => of_formats.put(key, value),
                None => of_formats.remove(key),
            }
            continue;
        }
        if !keys.contains(key) {
            let near = nearest(key, keys.iter().map(String::as_str));
            let hint = near.map_or_else(String::new, |near| format!("; did you mean '{near}'?"));
            return Err(format!("'{key}' is not a reading option{hint}"));
        }
        let plain = match text.as_str() {
            "true" | "yes" => Value::Boolean(true),
            "false" | "no" => Value::Boolean(false),
            text => match text.parse::<i64>() {
                Ok(number) => Value::Integer(number),
                Err(_) => Value::String(text.to_owned()),
            },
        };
        let list = || Value::Array(vec![Value::String(text.clone())]);
        let ways = [plain, Value::String(text.clone()), list()];
        let fits = ways.into_iter().find(|value| {
            let mut one = Table::new();
            one.insert(key.clone(), value.clone());
            one.try_into::<ReadOptions>().is_ok()
        });
        let value = fits.ok_or_else(|| format!("'{text}' is not a value of '{key}'"))?;
        table.insert(key.clone(), value);
    }
    let with: ReadOptions = table.try_into().map_err(|error| error.to_string())?;
    Ok(ReadOptions { of_formats, ..with })
}

impl Job {
    /// The job that a ledger keeps.
    ///
    /// # Errors
    ///
    /// If its keys are none of a job.
    pub(crate) fn from_kept(mut keys: Map<String, Json>) -> Result<Self, serde_json::Error> {
        let failed =
            |(key, what)| <serde_json::Error as serde::de::Error>::custom(format!("{key}: {what}"));
        let of_formats = take_from_json(&mut keys).map_err(failed)?;
        let mut job: Self = serde_json::from_value(Json::Object(keys))?;
        job.read.of_formats = of_formats.read;
        job.write.of_formats = of_formats.write;
        Ok(job)
    }

    /// Its keys as job files have them, but for those that are as usual.
    ///
    /// # Errors
    ///
    /// If a path in it is no text.
    pub(crate) fn keys_that_differ(&self) -> Result<Map<String, Json>, serde_json::Error> {
        let usual = serde_json::to_value(Self::default())?;
        // JSON has no way to write paths that are not Unicode.
        let known = |path: &Option<PathBuf>| path.clone().filter(|path| path.to_str().is_some());
        let own = Self {
            out: known(&self.out),
            pack: known(&self.pack),
            ledger: known(&self.ledger),
            rejects: known(&self.rejects),
            ..self.clone()
        };
        let Json::Object(mut keys) = serde_json::to_value(own)? else {
            return Ok(Map::new());
        };
        keys.retain(|key, value| usual.get(key) != Some(value));
        Ok(keys)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn some_keys_differ() {
        let options = ReadOptions {
            skip_lines: 2,
            no_header: true,
            ..ReadOptions::default()
        };
        let pair = |key: &str, value: &str| (key.to_owned(), value.to_owned());
        let with = read_options_with(
            &options,
            &[
                pair("skip-lines", "0"),
                pair("delimiter", "tab"),
                pair("no-header", "no"),
                pair("blank-values", "NA"),
            ],
        );
        let with = with.expect("they fit");
        assert_eq!(
            (with.skip_lines, with.no_header, with.blank_values.len()),
            (0, false, 1)
        );
        assert_eq!(with.delimiter, "tab".parse().ok());
        let wrong =
            |key, value| read_options_with(&options, &[pair(key, value)]).expect_err("wrong");
        assert_eq!(
            wrong("skip-line", "1"),
            "'skip-line' is not a reading option; did you mean 'skip-lines'?"
        );
        assert_eq!(
            wrong("skip-lines", "x"),
            "'x' is not a value of 'skip-lines'"
        );
    }
}
