//! Texts with placeholders: subjects and bodies of messages.

use std::collections::BTreeMap;
use std::fmt;

use jiff::civil::DateTime;
use numerant_data::value::{Number, grouped};

/// A text in which `{quay}` represents a value. `{{` and `}}` are braces.
///
/// Besides keys and columns of the routes there are `{.rows}`, `{.total:COLUMN}`, `{.files}` (names, one a line),
/// `{.file}` (the only name, or how many there are), `{.date}`, `{.time}` and `{.date:PART}`, where a part is `year`,
/// `quarter`, `month`, `week`, `day`, `weekday`, or a pattern such as `%d.%m.%Y`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextTemplate {
    text: String,
    parts: Vec<Part>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    Text(String),
    /// A name, and what is after its colon.
    Placeholder(String, Option<String>),
}

/// A text that is no template, or names what there is not.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// A brace that begins or ends nothing.
    #[error("a single '{0}' in the text; write '{0}{0}' for the character itself")]
    Brace(char),
    /// A placeholder that represents nothing.
    #[error("{{{name}}} is not a placeholder here; there are {known}")]
    Unknown {
        /// What is between the braces.
        name: String,
        /// What there is.
        known: String,
    },
}

/// What placeholders represent in one message.
#[derive(Clone, Debug, Default)]
pub struct Values {
    /// Keys and columns of the routes.
    pub columns: BTreeMap<String, String>,
    /// Records in all outputs of the message.
    pub rows: u64,
    /// Control totals over all outputs of the message.
    pub totals: Vec<(String, Number)>,
    /// The names of the attached files.
    pub files: Vec<String>,
}

impl TextTemplate {
    /// Reads a template.
    ///
    /// # Errors
    ///
    /// If a brace is alone.
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let mut parts = Vec::new();
        let mut plain = String::new();
        let mut signs = text.chars().peekable();
        while let Some(sign) = signs.next() {
            match sign {
                '{' | '}' if signs.next_if_eq(&sign).is_some() => plain.push(sign),
                '}' => return Err(TemplateError::Brace('}')),
                '{' => {
                    let mut inside = String::new();
                    loop {
                        match signs.next() {
                            Some('}') => break,
                            Some('{' | '\n') | None => return Err(TemplateError::Brace('{')),
                            Some(sign) => inside.push(sign),
                        }
                    }
                    if !plain.is_empty() {
                        parts.push(Part::Text(std::mem::take(&mut plain)));
                    }
                    let (name, part) = match inside.split_once(':') {
                        Some((name, part)) => (name.trim(), Some(part.trim().to_owned())),
                        None => (inside.trim(), None),
                    };
                    parts.push(Part::Placeholder(name.to_owned(), part));
                }
                other => plain.push(other),
            }
        }
        if !plain.is_empty() {
            parts.push(Part::Text(plain));
        }
        Ok(Self {
            text: text.to_owned(),
            parts,
        })
    }

    /// The text with values in it; `escape` changes each value first.
    ///
    /// # Errors
    ///
    /// If a placeholder represents nothing.
    pub fn render(
        &self,
        values: &Values,
        now: DateTime,
        escape: impl Fn(&str) -> String,
    ) -> Result<String, TemplateError> {
        let mut text = String::new();
        for part in &self.parts {
            match part {
                Part::Text(plain) => text.push_str(plain),
                Part::Placeholder(name, part) => {
                    let value = values.value(name, part.as_deref(), now);
                    let value = value.ok_or_else(|| values.unknown(name, part.as_deref()))?;
                    text.push_str(&escape(&value));
                }
            }
        }
        Ok(text)
    }
}

impl fmt::Display for TextTemplate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Values {
    fn value(&self, name: &str, part: Option<&str>, now: DateTime) -> Option<String> {
        match (name, part) {
            (".rows", None) => Some(grouped(&self.rows.to_string())),
            (".files", None) => Some(self.files.join("\n")),
            (".file", None) => Some(match self.files.as_slice() {
                [one] => one.clone(),
                several => format!("{} files", several.len()),
            }),
            (".date", part) => date(now, part),
            (".time", None) => Some(now.strftime("%H:%M").to_string()),
            (".total", Some(column)) => {
                let total = self.totals.iter().find(|(known, _)| known == column);
                total.map(|(_, total)| grouped(&total.to_string()))
            }
            // Keys can be parts of columns, and have a colon then.
            (name, Some(part)) => self.columns.get(&format!("{name}:{part}")).cloned(),
            (name, None) => self.columns.get(name).cloned(),
        }
    }

    fn unknown(&self, name: &str, part: Option<&str>) -> TemplateError {
        let columns = self.columns.keys().map(|name| format!("{{{name}}}"));
        let totals = self
            .totals
            .iter()
            .map(|(name, _)| format!("{{.total:{name}}}"));
        let run = ["{.rows}", "{.file}", "{.files}", "{.date}", "{.time}"].map(str::to_owned);
        let known: Vec<String> = columns.chain(totals).chain(run).collect();
        TemplateError::Unknown {
            name: part.map_or_else(|| name.to_owned(), |part| format!("{name}:{part}")),
            known: known.join(" "),
        }
    }
}

/// A part of the day of the delivery.
fn date(now: DateTime, part: Option<&str>) -> Option<String> {
    let date = now.date();
    Some(match part {
        None => date.to_string(),
        Some("year") => format!("{:04}", date.year()),
        Some("quarter") => format!("{:04}-Q{}", date.year(), (date.month() + 2) / 3),
        Some("month") => date.strftime("%Y-%m").to_string(),
        Some("week") => date.strftime("%G-W%V").to_string(),
        Some("day") => date.to_string(),
        Some("weekday") => date.strftime("%A").to_string(),
        Some(pattern) if pattern.starts_with('%') => {
            jiff::fmt::strtime::format(pattern, date).ok()?
        }
        Some(_) => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rendered(text: &str) -> Result<String, TemplateError> {
        let values = Values {
            columns: [("quay", "Coal Dock"), ("arrived:month", "2026-03")]
                .map(|(name, value)| (name.to_owned(), value.to_owned()))
                .into(),
            rows: 12_345,
            totals: vec![("dues".to_owned(), "-1299.50".parse().expect("a number"))],
            files: vec!["a.csv".to_owned(), "b.csv".to_owned()],
        };
        let now = jiff::civil::date(2026, 3, 5).at(9, 30, 0, 0);
        TextTemplate::parse(text)?.render(&values, now, str::to_owned)
    }

    #[test]
    fn values_are_put_in() {
        for (text, expected) in [
            ("{quay}: {.rows} calls", "Coal Dock: 12,345 calls"),
            (
                "{arrived:month} {.total:dues} {{x}}",
                "2026-03 -1,299.50 {x}",
            ),
            ("{.file} {.date} {.time}", "2 files 2026-03-05 09:30"),
            ("{.files}", "a.csv\nb.csv"),
            (
                "{.date:month} {.date:quarter} {.date:%d.%m.%Y}",
                "2026-03 2026-Q1 05.03.2026",
            ),
            ("", ""),
        ] {
            assert_eq!(rendered(text).as_deref(), Ok(expected), "{text}");
        }
        for wrong in ["{", "}", "{quay", "a } b", "{a{b}"] {
            assert!(
                matches!(rendered(wrong), Err(TemplateError::Brace(_))),
                "{wrong}"
            );
        }
        for unknown in ["{quai}", "{.total:tonnes}", "{.date:moon}", "{.rows:x}"] {
            let error = rendered(unknown).expect_err(unknown);
            assert!(error.to_string().contains("{quay}"), "{error}");
        }
    }
}
