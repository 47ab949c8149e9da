//! Parameters of job files: `${month}` in any text of a job.

use std::collections::BTreeMap;

use toml::de::{DeTable, DeValue};
use toml::{Table, Value};

use super::Source;
use super::error::{JobFileError, JobFileProblem};
use numerant_data::record::nearest;

/// What a text is, which says how a value is put into it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// As it stands.
    Plain,
    /// A template, in which braces have a meaning.
    Template,
    /// An expression, in which quotes enclose texts.
    Expression,
}

impl Kind {
    /// The kind of the value of a key of a job, or of one within.
    pub(super) fn of(key: &str) -> Self {
        match key {
            "name" | "sheet" | "title" | "subtitle" | "subject" | "comment" | "from-name" => {
                Self::Template
            }
            _ => Self::Plain,
        }
    }

    fn within(self, key: &str) -> Self {
        match key {
            "where" | "value" | "when" => Self::Expression,
            _ => Self::Plain,
        }
    }
}

/// The parameters of a file, with their values.
#[derive(Clone, Debug, Default)]
pub(super) struct Parameters {
    values: BTreeMap<String, Option<String>>,
    about: BTreeMap<String, String>,
}

impl Parameters {
    /// Those of a file, with the values that are `given` before the defaults.
    pub(super) fn read(
        source: &Source<'_>,
        spans: &DeTable<'_>,
        values: &Table,
        given: &[(String, String)],
    ) -> Result<Self, JobFileError> {
        let mut parameters = Self::default();
        let table = match (values.get("params"), spans.get("params")) {
            (Some(Value::Table(table)), Some(spans)) => match spans.get_ref() {
                DeValue::Table(spans) => Some((table, spans)),
                _ => None,
            },
            _ => None,
        };
        for (name, value) in table.iter().flat_map(|(table, _)| table.iter()) {
            let span =
                table.and_then(|(_, spans)| Some(spans.get_key_value(name.as_str())?.0.span()));
            let wrong = |problem| source.error_at(span.clone(), problem);
            if name.is_empty()
                || !name
                    .chars()
                    .all(|c| c.is_alphanumeric() || "-_".contains(c))
            {
                return Err(wrong(JobFileProblem::ParameterName(name.clone())));
            }
            let default = match value {
                Value::Table(described) => {
                    let known = |key: &String| key == "about" || key == "default";
                    if !described.keys().all(known) {
                        return Err(wrong(JobFileProblem::ParameterForm(name.clone())));
                    }
                    if let Some(about) = described.get("about").and_then(Value::as_str) {
                        parameters.about.insert(name.clone(), about.to_owned());
                    }
                    described.get("default")
                }
                other => Some(other),
            };
            let default = match default {
                None => None,
                Some(value) => Some(
                    text_of(value)
                        .ok_or_else(|| wrong(JobFileProblem::ParameterForm(name.clone())))?,
                ),
            };
            parameters.values.insert(name.clone(), default);
        }
        for (name, value) in given {
            match parameters.values.get_mut(name) {
                Some(known) => *known = Some(value.clone()),
                None => return Err(source.error(None, parameters.unknown(name))),
            }
        }
        for (name, value) in &parameters.values {
            if value.is_none() {
                let about = parameters.about.get(name).cloned();
                let name = name.clone();
                return Err(source.error(None, JobFileProblem::NoValue { name, about }));
            }
        }
        Ok(parameters)
    }

    pub(super) fn into_values(self) -> BTreeMap<String, String> {
        let values = self.values.into_iter();
        values
            .filter_map(|(name, value)| Some((name, value?)))
            .collect()
    }

    fn unknown(&self, name: &str) -> JobFileProblem {
        let names = self.values.keys().map(String::as_str);
        JobFileProblem::NoParameter {
            name: name.to_owned(),
            nearest: nearest(name, names).map(str::to_owned),
        }
    }

    /// A value with those of the parameters that it names.
    pub(super) fn fill(&self, value: &Value, kind: Kind) -> Result<Value, JobFileProblem> {
        Ok(match value {
            Value::String(text) => Value::String(self.fill_text(text, kind)?),
            Value::Array(items) => {
                let items: Result<_, _> = items.iter().map(|item| self.fill(item, kind)).collect();
                Value::Array(items?)
            }
            Value::Table(table) => {
                let mut filled = Table::new();
                for (key, value) in table {
                    filled.insert(key.clone(), self.fill(value, kind.within(key))?);
                }
                Value::Table(filled)
            }
            other => other.clone(),
        })
    }

    fn fill_text(&self, text: &str, kind: Kind) -> Result<String, JobFileProblem> {
        let mut filled = String::with_capacity(text.len());
        let mut rest = text;
        while let Some(at) = rest.find("${") {
            if rest[..at].ends_with('$') {
                // Two of them represent the sign itself.
                filled.push_str(&rest[..at - 1]);
                filled.push_str("${");
                rest = &rest[at + 2..];
                continue;
            }
            filled.push_str(&rest[..at]);
            let inside = &rest[at + 2..];
            let Some(end) = inside.find('}') else {
                return Err(JobFileProblem::Unclosed(text.to_owned()));
            };
            let name = inside[..end].trim();
            let Some(Some(value)) = self.values.get(name) else {
                return Err(self.unknown(name));
            };
            match kind {
                Kind::Plain => filled.push_str(value),
                Kind::Template => {
                    filled.push_str(&value.replace('{', "{{").replace('}', "}}"));
                }
                Kind::Expression => {
                    let quotes = filled.bytes().filter(|byte| *byte == b'\'').count();
                    match quotes % 2 {
                        1 => filled.push_str(&value.replace('\'', "''")),
                        _ => filled.push_str(value),
                    }
                }
            }
            rest = &inside[end + 1..];
        }
        filled.push_str(rest);
        Ok(filled)
    }
}

/// The text of a value that is none of several.
fn text_of(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Array(_) | Value::Table(_) => None,
        other => Some(other.to_string()),
    }
}
