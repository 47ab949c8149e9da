//! From outputs and routes to the messages of a delivery.

use std::collections::BTreeMap;

use jiff::civil::DateTime;

use crate::attachment::{self, AttachError, Attachments, Oversize, encoded_size};
use crate::message::escaped;
use crate::routes::Match;
use crate::{Deliverable, PlannedMessage, TemplateError, TextTemplate, Values};

/// What messages are made with.
#[derive(Clone, Debug)]
pub struct PlanOptions<'p> {
    /// The subject of messages whose route has none.
    pub subject: &'p str,
    /// The text of messages whose route has none.
    pub body: &'p str,
    /// The text as HTML, if there is one.
    pub html: Option<&'p str>,
    /// How files are attached.
    pub attachments: &'p Attachments,
    /// The domains that addresses must have; any if none is stated.
    pub domains: &'p [String],
    /// The day and time of templates.
    pub now: DateTime,
}

/// Why no messages can be made.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// A template cannot be used.
    #[error("{what}: {problem}")]
    Template {
        /// Which.
        what: String,
        /// Why.
        problem: TemplateError,
    },
    /// Addresses of domains that are not allowed.
    #[error("addresses outside the allowed domains: {}", .0.join(", "))]
    Domains(Vec<String>),
    /// Messages that are too large.
    #[error("larger than a message may be: {}", .0.join("; "))]
    TooLarge(Vec<String>),
    /// A file cannot be read.
    #[error(transparent)]
    Attach(#[from] AttachError),
}

/// What the outputs of one message have in common.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Shared {
    to: Vec<String>,
    cc: Vec<String>,
    bcc: Vec<String>,
    folder: Option<String>,
    subject: Option<String>,
    body: Option<String>,
}

/// The messages for outputs with routes, in the order of the first output of each. Outputs for the same people with
/// the same texts go in one message.
///
/// # Errors
///
/// If a template names what there is not, an address is not allowed, or a message is too large.
pub fn plan(
    matches: &[Match<'_>],
    options: &PlanOptions<'_>,
) -> Result<Vec<PlannedMessage>, PlanError> {
    let mut places: BTreeMap<Shared, usize> = BTreeMap::new();
    let mut groups: Vec<Vec<&Match<'_>>> = Vec::new();
    for found in matches {
        let route = found.route;
        let addresses = |list: &[lettre::message::Mailbox]| -> Vec<String> {
            let mut all: Vec<String> = list
                .iter()
                .map(|one| one.email.to_string().to_lowercase())
                .collect();
            all.sort();
            all.dedup();
            all
        };
        let shared = Shared {
            to: addresses(&route.to),
            cc: addresses(&route.cc),
            bcc: addresses(&route.bcc),
            folder: route.folder.clone(),
            subject: route.subject.clone(),
            body: route.body.clone(),
        };
        let place = *places.entry(shared).or_insert_with(|| {
            groups.push(Vec::new());
            groups.len() - 1
        });
        let is_new = !groups[place]
            .iter()
            .any(|known| known.output.path == found.output.path);
        if is_new {
            groups[place].push(found);
        }
    }
    check_domains(matches, options.domains)?;
    let mut messages = Vec::new();
    let mut too_large = Vec::new();
    for group in groups {
        let files: Vec<Deliverable> = group.iter().map(|found| found.output.clone()).collect();
        match parts(&files, options.attachments)? {
            Ok(parts) => {
                let count = parts.len();
                for (place, part) in parts.into_iter().enumerate() {
                    messages.push(message(&group, part, (place + 1, count), options)?);
                }
            }
            Err(what) => too_large.push(what),
        }
    }
    if too_large.is_empty() {
        Ok(messages)
    } else {
        Err(PlanError::TooLarge(too_large))
    }
}

fn check_domains(matches: &[Match<'_>], allowed: &[String]) -> Result<(), PlanError> {
    if allowed.is_empty() {
        return Ok(());
    }
    let routes = matches.iter().map(|found| found.route);
    let all = routes.flat_map(|route| route.to.iter().chain(&route.cc).chain(&route.bcc));
    let is_outside = |address: &&lettre::message::Mailbox| {
        !allowed.iter().any(|domain| {
            address
                .email
                .domain()
                .eq_ignore_ascii_case(domain.trim_start_matches('@'))
        })
    };
    let mut outside: Vec<String> = all
        .filter(is_outside)
        .map(|one| one.email.to_string())
        .collect();
    outside.sort();
    outside.dedup();
    if outside.is_empty() {
        Ok(())
    } else {
        Err(PlanError::Domains(outside))
    }
}

/// The files of one message, and the archive that they go into.
struct MessageFiles {
    files: Vec<Deliverable>,
    archive: Option<String>,
    size: u64,
}

/// Bytes of a message besides its files.
const TEXTS: u64 = 4_000;

/// Files spread over messages that are not too large; what is too large where that cannot be.
fn parts(
    files: &[Deliverable],
    attachments: &Attachments,
) -> Result<Result<Vec<MessageFiles>, String>, AttachError> {
    let size = |files: &[Deliverable]| -> u64 {
        TEXTS
            + files
                .iter()
                .map(|file| encoded_size(file.bytes))
                .sum::<u64>()
    };
    let max = attachments.max_message.unwrap_or(u64::MAX);
    let all = size(files);
    let described = |size: u64| {
        let names: Vec<&str> = files.iter().map(Deliverable::name).collect();
        format!("{} ({size} bytes)", names.join(", "))
    };
    let is_too_large = all > max;
    if attachments.password.is_some() || (is_too_large && attachments.oversize == Oversize::Zip) {
        let names = attachment::names(files);
        let mut content = Vec::new();
        for (name, file) in names.into_iter().zip(files) {
            content.push((name, attachment::read(file)?));
        }
        let zipped = attachment::archive(&content, attachments.password.as_deref())?;
        let size = TEXTS + encoded_size(zipped.len() as u64);
        if size > max {
            return Ok(Err(described(size)));
        }
        let name = match files {
            [one] => format!("{}.zip", one.name()),
            _ => "files.zip".to_owned(),
        };
        return Ok(Ok(vec![MessageFiles {
            files: files.to_vec(),
            archive: Some(name),
            size,
        }]));
    }
    if !is_too_large {
        return Ok(Ok(vec![MessageFiles {
            files: files.to_vec(),
            archive: None,
            size: all,
        }]));
    }
    if attachments.oversize == Oversize::Refuse {
        return Ok(Err(described(all)));
    }
    let mut parts: Vec<MessageFiles> = Vec::new();
    for file in files {
        let own = size(std::slice::from_ref(file));
        if own > max {
            return Ok(Err(described(own)));
        }
        match parts.last_mut() {
            Some(part) if part.size + encoded_size(file.bytes) <= max => {
                part.size += encoded_size(file.bytes);
                part.files.push(file.clone());
            }
            _ => parts.push(MessageFiles {
                files: vec![file.clone()],
                archive: None,
                size: own,
            }),
        }
    }
    Ok(Ok(parts))
}

/// One message of a group.
fn message(
    group: &[&Match<'_>],
    part: MessageFiles,
    (place, count): (usize, usize),
    options: &PlanOptions<'_>,
) -> Result<PlannedMessage, PlanError> {
    let of_part: Vec<&&Match<'_>> = group
        .iter()
        .filter(|found| part.files.iter().any(|file| file.path == found.output.path))
        .collect();
    let values = values(&of_part, &part.files);
    let route = group[0].route;
    let rendered = |what: &str, text: &str, escape: fn(&str) -> String| {
        let wrong = |problem| PlanError::Template {
            what: format!("{what} of the message for row {} of the routes", route.row),
            problem,
        };
        TextTemplate::parse(text)
            .and_then(|template| template.render(&values, options.now, escape))
            .map_err(wrong)
    };
    let plain: fn(&str) -> String = str::to_owned;
    let subject = rendered(
        "the subject",
        route.subject.as_deref().unwrap_or(options.subject),
        plain,
    )?;
    // A value can never begin a header of its own.
    let mut subject: String = subject
        .chars()
        .map(|sign| if sign.is_control() { ' ' } else { sign })
        .collect();
    if count > 1 {
        subject.push_str(&format!(" ({place} of {count})"));
    }
    let text = rendered(
        "the text",
        route.body.as_deref().unwrap_or(options.body),
        plain,
    )?;
    let html = match options.html {
        Some(html) if route.body.is_none() => Some(rendered("the HTML", html, escaped)?),
        _ => None,
    };
    let folder = match &route.folder {
        Some(folder) => Some(rendered("the folder", folder, plain)?),
        None => None,
    };
    let unsent = PlannedMessage {
        id: String::new(),
        to: route.to.clone(),
        cc: route.cc.clone(),
        bcc: route.bcc.clone(),
        folder,
        subject,
        text,
        html,
        files: part.files,
        archive: part.archive,
        size: part.size,
    };
    Ok(unsent.with_id())
}

/// What placeholders stand for: a value that differs between the outputs is all of them, with commas.
fn values(group: &[&&Match<'_>], files: &[Deliverable]) -> Values {
    let mut columns: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for found in group {
        let of_route = found.route.values.iter();
        for (name, value) in of_route.chain(&found.output.keys) {
            let known = columns.entry(name.clone()).or_default();
            if !known.contains(value) && value != "*" {
                known.push(value.clone());
            }
        }
    }
    let columns = columns
        .into_iter()
        .map(|(name, values)| (name, values.join(", ")));
    let mut totals: Vec<(String, String)> = Vec::new();
    for (column, _) in files.first().map_or(&[][..], |file| &file.totals) {
        let of_files = files.iter().filter_map(|file| {
            file.totals
                .iter()
                .find(|(known, _)| known == column)
                .map(|(_, total)| total.as_str())
        });
        totals.push((column.clone(), sum(of_files)));
    }
    Values {
        columns: columns.collect(),
        rows: files.iter().map(|file| file.records).sum(),
        totals,
        files: attachment::names(files),
    }
}

/// The sum of decimal numbers, exactly.
fn sum<'a>(numbers: impl Iterator<Item = &'a str>) -> String {
    let numbers: Vec<&str> = numbers.collect();
    let places = numbers
        .iter()
        .map(|text| text.split_once('.').map_or(0, |(_, digits)| digits.len()));
    let places = places.max().unwrap_or(0);
    let mut units: i128 = 0;
    for text in &numbers {
        let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
        let digits = format!("{whole}{fraction:0<places$}");
        let Some(sum) = digits
            .parse::<i128>()
            .ok()
            .and_then(|number| units.checked_add(number))
        else {
            return numbers.join(" + ");
        };
        units = sum;
    }
    let digits = format!("{:0>width$}", units.unsigned_abs(), width = places + 1);
    let (whole, fraction) = digits.split_at(digits.len() - places);
    let sign = if units < 0 { "-" } else { "" };
    if places == 0 {
        format!("{sign}{whole}")
    } else {
        format!("{sign}{whole}.{fraction}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Routes, Unmatched};

    #[test]
    fn sums_are_exact() {
        for (numbers, expected) in [
            (&["1.10", "2.205"][..], "3.305"),
            (&["-0.5", "0.25"], "-0.25"),
            (&["99999999999999999999", "1"], "100000000000000000000"),
            (&[], "0"),
        ] {
            assert_eq!(sum(numbers.iter().copied()), expected);
        }
    }

    fn outputs(folder: &std::path::Path) -> Vec<Deliverable> {
        let named = ["North", "East", "West"].into_iter().enumerate();
        let output = |(place, quay): (usize, &str)| {
            let text = format!("id\n{quay}\n").repeat(1000);
            let file = folder.join(format!("{quay}.csv"));
            std::fs::write(&file, &text).expect("written");
            Deliverable {
                path: format!("{quay}.csv"),
                file,
                keys: [("quay".to_owned(), quay.to_owned())].into(),
                records: 10 * (place as u64 + 1),
                totals: vec![("dues".to_owned(), format!("{place}.5"))],
                bytes: text.len() as u64,
                blake3: blake3::hash(text.as_bytes()).to_hex().to_string(),
            }
        };
        named.map(output).collect()
    }

    fn planned(
        attachments: &Attachments,
        domains: &[&str],
    ) -> Result<Vec<PlannedMessage>, PlanError> {
        let folder = tempfile::tempdir().expect("a folder");
        let outputs = outputs(folder.path());
        let columns = ["quay", "to", "name"].map(str::to_owned);
        let rows = [
            ["North", "a@varnholm.example", "Ada"],
            ["East", "b@varnholm.example", "Bo\r\nBcc: x@y.example"],
            ["West", "A@varnholm.example", "Ada"],
        ];
        let rows = rows.map(|row| row.map(str::to_owned).to_vec()).to_vec();
        let routes = Routes::new(&columns, rows).expect("routes");
        let matches = routes
            .matched(&outputs, Unmatched::default())
            .expect("matched");
        let domains: Vec<String> = domains.iter().map(|domain| (*domain).to_owned()).collect();
        plan(
            &matches,
            &PlanOptions {
                subject: "{quay} for {name}",
                body: "{.rows} records, {.total:dues} of dues\n{.files}",
                html: Some("<b>{name}</b>"),
                attachments,
                domains: &domains,
                now: jiff::civil::date(2026, 3, 5).at(9, 30, 0, 0),
            },
        )
    }

    #[test]
    fn outputs_for_one_person_go_in_one_message() {
        let messages = planned(&Attachments::default(), &["varnholm.example"]).expect("planned");
        let subjects: Vec<&str> = messages
            .iter()
            .map(|message| message.subject.as_str())
            .collect();
        assert_eq!(
            subjects,
            ["North, West for Ada", "East for Bo  Bcc: x@y.example"]
        );
        assert_eq!(
            messages[0].text,
            "40 records, 3.0 of dues\nNorth.csv\nWest.csv"
        );
        assert_eq!(
            messages[1].html.as_deref(),
            Some("<b>Bo\r<br>\nBcc: x@y.example</b>")
        );
        assert_eq!(messages[0].id.len(), 32);
        assert_ne!(messages[0].id, messages[1].id);
        let again = planned(&Attachments::default(), &[]).expect("planned");
        let ids = |messages: &[PlannedMessage]| -> Vec<String> {
            messages.iter().map(|message| message.id.clone()).collect()
        };
        assert_eq!(ids(&messages), ids(&again));
    }

    #[test]
    fn large_messages_are_refused_zipped_or_split() {
        let with = |max: u64, oversize| Attachments {
            max_message: Some(max),
            oversize,
            password: None,
        };
        let refused = planned(&with(20_000, Oversize::Refuse), &[]).expect_err("refused");
        assert!(
            refused.to_string().contains("North.csv, West.csv"),
            "{refused}"
        );
        let zipped = planned(&with(20_000, Oversize::Zip), &[]).expect("planned");
        assert_eq!(zipped[0].archive.as_deref(), Some("files.zip"));
        let split = planned(&with(20_000, Oversize::Split), &[]).expect("planned");
        let subjects: Vec<&str> = split
            .iter()
            .map(|message| message.subject.as_str())
            .collect();
        assert_eq!(
            subjects,
            [
                "North for Ada (1 of 2)",
                "West for Ada (2 of 2)",
                "East for Bo  Bcc: x@y.example"
            ]
        );
        assert!(planned(&with(5_000, Oversize::Split), &[]).is_err());
        let outside = planned(&Attachments::default(), &["other.example"]).expect_err("refused");
        assert_eq!(
            outside.to_string(),
            "addresses outside the allowed domains: A@varnholm.example, a@varnholm.example, b@varnholm.example"
        );
    }
}
