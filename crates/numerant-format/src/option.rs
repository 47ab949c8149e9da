//! Options of formats that describe themselves: the command line, the keys of jobs, their schema, the reference and
//! the help are made of the descriptions, and only the format itself knows what a value means.

use std::collections::BTreeMap;

use serde::Serialize;
use serde::ser::{SerializeMap, Serializer};

/// Whether an option says how sources are read or how outputs are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// How sources are read.
    Reading,
    /// How outputs are written.
    Writing,
}

/// What an option takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Takes {
    /// Nothing: it is set or not.
    Nothing,
    /// A text.
    Text,
    /// The path of a file, which is read and never written.
    File,
}

/// The description of an option.
#[derive(Clone, Copy, Debug)]
pub struct FormatOption {
    /// Its word: `--widths` on the command line, `widths` in a job.
    pub name: &'static str,
    /// Which side it is for.
    pub side: Side,
    /// What it takes.
    pub takes: Takes,
    /// What represents its value in the help.
    pub value_name: &'static str,
    /// What it does, in the imperative, with its default.
    pub help: &'static str,
    /// Checks a value.
    ///
    /// # Errors
    ///
    /// What is wrong with it.
    pub check: fn(&str) -> Result<(), String>,
}

impl FormatOption {
    /// Whether two descriptions are of one option.
    pub fn is(&self, name: &str, side: Side) -> bool {
        self.name == name && self.side == side
    }
}

/// The values of options, by their words.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OptionValues(BTreeMap<String, String>);

impl OptionValues {
    /// The value of an option, if it is set; empty if it takes none.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.0.get(name).map(String::as_str)
    }

    /// Sets an option.
    pub fn set(&mut self, name: &str, value: &str) {
        self.0.insert(name.to_owned(), value.to_owned());
    }

    /// Changes the value of an option, if it is set.
    pub fn change(&mut self, name: &str, change: impl FnOnce(&str) -> String) {
        if let Some(value) = self.0.get_mut(name) {
            *value = change(value);
        }
    }

    /// The words of those that are set.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// Whether none is set.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl Serialize for OptionValues {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(self.0.len()))?;
        for (name, value) in &self.0 {
            match value.as_str() {
                "" => map.serialize_entry(name, &true)?,
                value => map.serialize_entry(name, value)?,
            }
        }
        map.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_written_as_keys_of_a_job() {
        let mut values = OptionValues::default();
        values.set("widths", "8,20");
        values.set("packed", "");
        values.change("widths", |widths| format!("{widths},4"));
        values.change("other", |_| "x".to_owned());
        let json = serde_json::to_string(&values).expect("JSON");
        assert_eq!(json, r#"{"packed":true,"widths":"8,20,4"}"#);
        assert_eq!(values.get("packed"), Some(""));
        assert_eq!(values.get("other"), None);
    }
}
