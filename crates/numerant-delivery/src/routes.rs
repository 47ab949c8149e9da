//! The table of routes: which people get the outputs with which keys.

use std::collections::BTreeMap;

use lettre::message::Mailbox;

use crate::Deliverable;
use numerant_engine::job::{DeliveryChannel, WithoutCounterpart};

/// Columns of the table that are no keys and no values for templates alone.
const TO: &str = "to";
const CC: &str = "cc";
const BCC: &str = "bcc";
const SUBJECT: &str = "subject";
const BODY: &str = "body";
const FOLDER: &str = "folder";
const CHANNEL: &str = "channel";
/// The column that names an output by its path.
const FILE: &str = "file";

/// What is in a key column for any value.
const ANY: &str = "*";

/// A row of the table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Route {
    /// Its row, from 1, without the header.
    pub row: usize,
    /// All its values by column.
    pub values: BTreeMap<String, String>,
    /// Who gets the outputs.
    pub to: Vec<Mailbox>,
    /// Who gets a copy.
    pub cc: Vec<Mailbox>,
    /// Who gets a copy that the others do not see.
    pub bcc: Vec<Mailbox>,
    /// The template of the subject, if it has one of its own.
    pub subject: Option<String>,
    /// The template of the text, if it has one of its own.
    pub body: Option<String>,
    /// The folder that the outputs are copied to.
    pub folder: Option<String>,
    /// How the outputs are handed over, if that is stated.
    pub channel: Option<DeliveryChannel>,
}

/// The table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Routes {
    columns: Vec<String>,
    routes: Vec<Route>,
}

/// An output and a row that it belongs to.
#[derive(Clone, Debug)]
pub struct Match<'m> {
    /// The output.
    pub output: &'m Deliverable,
    /// The row.
    pub route: &'m Route,
}

/// What to do with outputs without a route, and with routes without an output.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Unmatched {
    /// Outputs without a route.
    pub outputs: WithoutCounterpart,
    /// Routes without an output.
    pub routes: WithoutCounterpart,
}

/// Why routes cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RouteError {
    /// It has no column for recipients.
    #[error("the routes have no column 'to' or 'folder'; their columns are {0}")]
    NoRecipients(String),
    /// Addresses that are none.
    #[error("{} not valid: {}", counted(.0.len(), "address is", "addresses are"), .0.join("; "))]
    Addresses(Vec<String>),
    /// Channels that there are not.
    #[error("unknown channels (drafts, smtp, folder and command are known): {}", .0.join("; "))]
    Channels(Vec<String>),
    /// No column of the routes is a key.
    #[error(
        "no column of the routes is a key of the outputs ({keys}) or 'file'; their columns are {columns}"
    )]
    NoKey {
        /// The keys of the outputs.
        keys: String,
        /// The columns of the routes.
        columns: String,
    },
    /// Outputs that no row is for.
    #[error("{} without a route: {}", counted(.0.len(), "output", "outputs"), .0.join("; "))]
    WithoutRoute(Vec<String>),
    /// Rows that no output is for.
    #[error("{} without an output: {}", counted(.0.len(), "route", "routes"), .0.join("; "))]
    WithoutOutput(Vec<String>),
}

fn counted(count: usize, one: &str, many: &str) -> String {
    if count == 1 {
        format!("1 {one}")
    } else {
        format!("{count} {many}")
    }
}

impl Routes {
    /// The table with these columns and rows.
    ///
    /// # Errors
    ///
    /// If it has no recipients, or an address is not valid.
    pub fn new(columns: &[String], rows: Vec<Vec<String>>) -> Result<Self, RouteError> {
        let columns: Vec<String> = columns.iter().map(|name| name.trim().to_owned()).collect();
        let has = |name: &str| columns.iter().any(|column| column == name);
        if !has(TO) && !has(FOLDER) {
            return Err(RouteError::NoRecipients(columns.join(", ")));
        }
        let (mut wrong, mut channels) = (Vec::new(), Vec::new());
        let mut routes = Vec::new();
        for (place, row) in rows.into_iter().enumerate() {
            let values: BTreeMap<String, String> = columns.iter().cloned().zip(row).collect();
            if values.values().all(|value| value.trim().is_empty()) {
                continue;
            }
            let mut addresses = |column: &str| {
                let text = values.get(column).map_or("", String::as_str);
                let (found, bad) = mailboxes(text);
                let row = place + 1;
                wrong.extend(
                    bad.into_iter()
                        .map(|text| format!("row {row}, {column}: '{text}'")),
                );
                found
            };
            let (to, cc, bcc) = (addresses(TO), addresses(CC), addresses(BCC));
            let stated = |column: &str| {
                values
                    .get(column)
                    .filter(|value| !value.trim().is_empty())
                    .cloned()
            };
            let (subject, body, folder) = (stated(SUBJECT), stated(BODY), stated(FOLDER));
            let channel = stated(CHANNEL).map(|name| {
                let known = DeliveryChannel::of_name(name.trim());
                known.ok_or_else(|| channels.push(format!("row {}: '{name}'", place + 1)))
            });
            let channel = channel.and_then(Result::ok);
            routes.push(Route {
                row: place + 1,
                to,
                cc,
                bcc,
                subject,
                body,
                folder,
                channel,
                values,
            });
        }
        if !channels.is_empty() {
            return Err(RouteError::Channels(channels));
        }
        if !wrong.is_empty() {
            return Err(RouteError::Addresses(wrong));
        }
        Ok(Self { columns, routes })
    }

    /// The rows.
    pub fn routes(&self) -> &[Route] {
        &self.routes
    }

    /// Each output with each row that it belongs to, in the order of the outputs and then of the rows.
    ///
    /// # Errors
    ///
    /// If no column is a key, or something has no counterpart and that is refused.
    pub fn matched<'m>(
        &'m self,
        outputs: &'m [Deliverable],
        unmatched: Unmatched,
    ) -> Result<Vec<Match<'m>>, RouteError> {
        let is_key = |column: &&String| {
            *column == FILE
                || outputs
                    .iter()
                    .any(|output| output.keys.contains_key(*column))
        };
        let keys: Vec<&String> = self.columns.iter().filter(is_key).collect();
        if keys.is_empty() && outputs.len() > 1 {
            let mut known: Vec<&String> = outputs
                .iter()
                .flat_map(|output| output.keys.keys())
                .collect();
            known.sort();
            known.dedup();
            let names: Vec<&str> = known.iter().map(|name| name.as_str()).collect();
            return Err(RouteError::NoKey {
                keys: if names.is_empty() {
                    "they have none".to_owned()
                } else {
                    names.join(", ")
                },
                columns: self.columns.join(", "),
            });
        }
        let mut used = vec![false; self.routes.len()];
        let mut without = Vec::new();
        let mut matches = Vec::new();
        for output in outputs {
            let count = matches.len();
            for (place, route) in self.routes.iter().enumerate() {
                let holds = |key: &&String| {
                    let wanted = route.values.get(*key).map_or("", String::as_str).trim();
                    let value = if **key == FILE {
                        Some(output.path.as_str())
                    } else {
                        output.keys.get(*key).map(String::as_str)
                    };
                    wanted == ANY || value.is_some_and(|value| value.trim() == wanted)
                };
                if keys.iter().all(holds) {
                    used[place] = true;
                    matches.push(Match { output, route });
                }
            }
            if matches.len() == count {
                without.push(described(output));
            }
        }
        if !without.is_empty() && unmatched.outputs == WithoutCounterpart::Refuse {
            return Err(RouteError::WithoutRoute(without));
        }
        let unused = self.routes.iter().zip(&used).filter(|(_, used)| !**used);
        let unused: Vec<String> = unused
            .map(|(route, _)| {
                let values = keys.iter().filter_map(|key| route.values.get(*key));
                let values: Vec<&str> = values.map(String::as_str).collect();
                format!("row {} ({})", route.row, values.join(" / "))
            })
            .collect();
        if !unused.is_empty() && unmatched.routes == WithoutCounterpart::Refuse {
            return Err(RouteError::WithoutOutput(unused));
        }
        Ok(matches)
    }
}

/// An output with its keys.
fn described(output: &Deliverable) -> String {
    let keys: Vec<String> = output
        .keys
        .iter()
        .map(|(key, value)| format!("{key} '{value}'"))
        .collect();
    if keys.is_empty() {
        output.path.clone()
    } else {
        format!("{} ({})", output.path, keys.join(", "))
    }
}

/// The addresses in a cell, between commas or semicolons outside quotes, and the texts that are none.
fn mailboxes(text: &str) -> (Vec<Mailbox>, Vec<String>) {
    let (mut found, mut wrong) = (Vec::new(), Vec::new());
    let mut in_quotes = false;
    let pieces = text.split(|sign: char| {
        in_quotes ^= sign == '"';
        !in_quotes && matches!(sign, ',' | ';')
    });
    for piece in pieces.map(str::trim).filter(|piece| !piece.is_empty()) {
        let has_control = piece.chars().any(char::is_control);
        match piece.parse::<Mailbox>() {
            Ok(mailbox) if !has_control => found.push(mailbox),
            _ => wrong.push(piece.chars().filter(|sign| !sign.is_control()).collect()),
        }
    }
    (found, wrong)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn output(path: &str, keys: &[(&str, &str)]) -> Deliverable {
        Deliverable {
            path: path.to_owned(),
            keys: keys
                .iter()
                .map(|(key, value)| ((*key).to_owned(), (*value).to_owned()))
                .collect(),
            ..Deliverable::default()
        }
    }

    fn routes(columns: &str, rows: &[&str]) -> Result<Routes, RouteError> {
        let split = |line: &str| -> Vec<String> { line.split('|').map(str::to_owned).collect() };
        Routes::new(&split(columns), rows.iter().map(|row| split(row)).collect())
    }

    fn pairs(
        routes: &Routes,
        outputs: &[Deliverable],
        unmatched: Unmatched,
    ) -> Result<Vec<String>, RouteError> {
        let matched = routes.matched(outputs, unmatched)?;
        Ok(matched
            .iter()
            .map(|found| format!("{} → {}", found.output.path, found.route.row))
            .collect())
    }

    const SKIP: Unmatched = Unmatched {
        outputs: WithoutCounterpart::Skip,
        routes: WithoutCounterpart::Skip,
    };

    #[test]
    fn outputs_find_their_rows() {
        let outputs = [
            output("n.csv", &[("quay", "North"), ("arrived:month", "2026-03")]),
            output("e.csv", &[("quay", "East"), ("arrived:month", "2026-03")]),
        ];
        let table = routes(
            "quay|to",
            &[
                "East|a@x.example",
                "North|b@x.example; \"B, C\" <c@x.example>",
                " East |d@x.example",
            ],
        );
        let table = table.expect("routes");
        assert_eq!(
            pairs(&table, &outputs, Unmatched::default()).expect("all"),
            ["n.csv → 2", "e.csv → 1", "e.csv → 3"]
        );
        assert_eq!(table.routes()[1].to.len(), 2);
        let by_month = routes("arrived:month|quay|to", &["2026-03|*|a@x.example"]).expect("routes");
        assert_eq!(
            pairs(&by_month, &outputs, Unmatched::default())
                .expect("all")
                .len(),
            2
        );
        let by_file = routes("file|folder", &["e.csv|east"]).expect("routes");
        assert_eq!(pairs(&by_file, &outputs, SKIP).expect("one"), ["e.csv → 1"]);
    }

    #[test]
    fn what_has_no_counterpart_is_refused() {
        let outputs = [
            output("n.csv", &[("quay", "North")]),
            output("e.csv", &[("quay", "East")]),
        ];
        let table = routes("quay|to", &["East|a@x.example", "West|b@x.example"]).expect("routes");
        let refused = pairs(&table, &outputs, Unmatched::default())
            .expect_err("refused")
            .to_string();
        assert_eq!(refused, "1 output without a route: n.csv (quay 'North')");
        let skip_outputs = Unmatched {
            outputs: WithoutCounterpart::Skip,
            ..Unmatched::default()
        };
        let refused = pairs(&table, &outputs, skip_outputs)
            .expect_err("refused")
            .to_string();
        assert_eq!(refused, "1 route without an output: row 2 (West)");
        assert_eq!(pairs(&table, &outputs, SKIP).expect("one"), ["e.csv → 1"]);
        let table = routes("pier|to", &["East|a@x.example"]).expect("routes");
        assert!(matches!(
            pairs(&table, &outputs, SKIP),
            Err(RouteError::NoKey { .. })
        ));
    }

    #[test]
    fn addresses_are_checked() {
        for wrong in [
            "nobody",
            "a@",
            "@b.example",
            "a@x.example\r\nBcc: b@y.example",
            "a b@x.example",
        ] {
            let found = routes("quay|to", &[&format!("East|{wrong}")]);
            assert!(
                matches!(found, Err(RouteError::Addresses(_))),
                "{wrong:?}: {found:?}"
            );
        }
        assert!(matches!(
            routes("quay|too", &[]),
            Err(RouteError::NoRecipients(_))
        ));
        let refused =
            routes("quay|to|cc", &["East|a@x.example|b@x.example,oops"]).expect_err("refused");
        assert_eq!(
            refused.to_string(),
            "1 address is not valid: row 1, cc: 'oops'"
        );
    }
}
