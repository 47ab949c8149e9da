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
    /// Several texts, each time it is stated.
    Texts,
    /// The path of a file, which is read and never written.
    File,
    /// A whole number.
    Number,
    /// One of some words.
    Choice {
        /// The words.
        of: &'static [&'static str],
        /// The one that holds if none is stated.
        default: &'static str,
    },
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
    /// Whether it is the option of this word and side.
    pub fn is(&self, name: &str, side: Side) -> bool {
        self.name == name && self.side == side
    }

    /// The value that a text is for this option; `None` if it is what holds anyway.
    ///
    /// # Errors
    ///
    /// What is wrong with the text.
    pub fn value(&self, text: &str) -> Result<Option<OptionValue>, String> {
        (self.check)(text)?;
        Ok(Some(match self.takes {
            Takes::Nothing => OptionValue::Set,
            Takes::Text | Takes::File => OptionValue::Text(text.to_owned()),
            Takes::Texts => OptionValue::Texts(vec![text.to_owned()]),
            Takes::Number => match text.parse() {
                Ok(number) => OptionValue::Number(number),
                Err(_) => return Err(format!("'{text}' is not a whole number")),
            },
            Takes::Choice { of, default } => {
                if !of.contains(&text) {
                    return Err(format!("'{text}' is not one of {}", of.join(", ")));
                }
                if text == default {
                    return Ok(None);
                }
                OptionValue::Text(text.to_owned())
            }
        }))
    }
}

/// The value of an option that is set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OptionValue {
    /// It takes none.
    Set,
    /// A text, the path of a file, or a word that was chosen.
    Text(String),
    /// Several texts.
    Texts(Vec<String>),
    /// A whole number.
    Number(u64),
}

/// The values of options, by their words. What is as without the option is not among them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OptionValues(BTreeMap<String, OptionValue>);

impl OptionValues {
    /// The text of an option, if it is set; empty if it takes none.
    pub fn get(&self, name: &str) -> Option<&str> {
        match self.0.get(name)? {
            OptionValue::Set => Some(""),
            OptionValue::Text(text) => Some(text),
            OptionValue::Texts(texts) => texts.first().map(String::as_str),
            OptionValue::Number(_) => None,
        }
    }

    /// The texts of an option that may be repeated.
    pub fn texts(&self, name: &str) -> &[String] {
        match self.0.get(name) {
            Some(OptionValue::Texts(texts)) => texts,
            _ => &[],
        }
    }

    /// The number of an option, if it is set.
    pub fn number(&self, name: &str) -> Option<u64> {
        match self.0.get(name)? {
            OptionValue::Number(number) => Some(*number),
            _ => None,
        }
    }

    /// Whether an option is set.
    pub fn is_set(&self, name: &str) -> bool {
        self.0.contains_key(name)
    }

    /// Sets an option to a text.
    pub fn set(&mut self, name: &str, text: &str) {
        self.put(name, OptionValue::Text(text.to_owned()));
    }

    /// Sets an option; texts of one that may be repeated are added to those that it has.
    pub fn put(&mut self, name: &str, value: OptionValue) {
        match (self.0.get_mut(name), value) {
            (Some(OptionValue::Texts(texts)), OptionValue::Texts(more)) => texts.extend(more),
            (_, value) => {
                self.0.insert(name.to_owned(), value);
            }
        }
    }

    /// Takes an option back.
    pub fn remove(&mut self, name: &str) {
        self.0.remove(name);
    }

    /// Changes the text of an option, if it is set.
    pub fn change(&mut self, name: &str, change: impl FnOnce(&str) -> String) {
        if let Some(OptionValue::Text(text)) = self.0.get_mut(name) {
            *text = change(text);
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
            match value {
                OptionValue::Set => map.serialize_entry(name, &true)?,
                OptionValue::Text(text) => map.serialize_entry(name, text)?,
                OptionValue::Texts(texts) => map.serialize_entry(name, texts)?,
                OptionValue::Number(number) => map.serialize_entry(name, number)?,
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
        values.put("packed", OptionValue::Set);
        values.put("indent", OptionValue::Number(2));
        for text in ["a=urn:a", "b=urn:b"] {
            values.put("namespace", OptionValue::Texts(vec![text.to_owned()]));
        }
        values.change("widths", |widths| format!("{widths},4"));
        values.change("other", |_| "x".to_owned());
        let json = serde_json::to_string(&values).expect("JSON");
        assert_eq!(
            json,
            r#"{"indent":2,"namespace":["a=urn:a","b=urn:b"],"packed":true,"widths":"8,20,4"}"#
        );
        assert_eq!(
            (values.number("indent"), values.number("widths")),
            (Some(2), None)
        );
        assert_eq!(values.texts("namespace").len(), 2);
        assert_eq!(values.get("packed"), Some(""));
        assert_eq!(values.get("other"), None);
        assert!(values.is_set("packed") && !values.is_set("other"));
    }

    #[test]
    fn a_text_is_the_value_that_the_option_takes() {
        let option = |takes| FormatOption {
            name: "nulls",
            side: Side::Writing,
            takes,
            value_name: "HOW",
            help: "",
            check: |_| Ok(()),
        };
        let choice = option(Takes::Choice {
            of: &["keep", "null"],
            default: "keep",
        });
        assert_eq!(choice.value("keep"), Ok(None));
        assert_eq!(
            choice.value("null"),
            Ok(Some(OptionValue::Text("null".into())))
        );
        assert_eq!(
            choice.value("none"),
            Err("'none' is not one of keep, null".to_owned())
        );
        assert_eq!(
            option(Takes::Number).value("4"),
            Ok(Some(OptionValue::Number(4)))
        );
        assert!(option(Takes::Number).value("x").is_err());
    }
}
