//! From outputs and routes to the messages of a delivery.

use std::collections::BTreeMap;

use jiff::civil::DateTime;

use crate::attachment::{self, AttachError, Attachments, encoded_size};
use crate::channel::{HandOverError, below};
use crate::message::{Texts, escaped};
use crate::routes::Match;
use crate::{Deliverable, PlannedMessage, TemplateError, TextTemplate, Values};
use numerant_data::value::{ArithmeticError, Number};
use numerant_engine::job::{DeliveryChannel, OversizePolicy};

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
    /// The channel of routes that state none.
    pub channel: DeliveryChannel,
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
    /// Routes that lack what their channel needs.
    #[error("routes without what their channel needs: {}", .0.join("; "))]
    Incomplete(Vec<String>),
    /// Control totals of the files of a message cannot be added up.
    #[error("the control totals of a message cannot be added up: {0}")]
    Sum(ArithmeticError),
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
    /// The folder of the output, without the template's braces.
    folder: Option<String>,
    subject: Option<String>,
    body: Option<String>,
    channel: DeliveryChannel,
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
            folder: folder(found, options.now)?,
            subject: route.subject.clone(),
            body: route.body.clone(),
            channel: route.channel.unwrap_or(options.channel),
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
    check_routes(matches, options.channel)?;
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

/// The folder that an output goes to.
fn folder(found: &Match<'_>, now: DateTime) -> Result<Option<String>, PlanError> {
    let Some(folder) = found.route.folder.as_deref() else {
        return Ok(None);
    };
    let values = values(&[&found], std::slice::from_ref(found.output))?;
    let rendered = TextTemplate::parse(folder)
        .and_then(|template| template.render(&values, now, str::to_owned));
    rendered.map(Some).map_err(|problem| PlanError::Template {
        what: format!("the folder of row {} of the routes", found.route.row),
        problem,
    })
}

/// Mail needs a recipient, and files need a folder.
fn check_routes(matches: &[Match<'_>], usual: DeliveryChannel) -> Result<(), PlanError> {
    let mut incomplete = Vec::new();
    for found in matches {
        let route = found.route;
        let missing = match route.channel.unwrap_or(usual) {
            DeliveryChannel::Folder if route.folder.is_none() => "folder",
            DeliveryChannel::Drafts | DeliveryChannel::Smtp | DeliveryChannel::Command
                if route.to.is_empty() =>
            {
                "to"
            }
            _ => continue,
        };
        let text = format!("row {} ({missing})", route.row);
        if !incomplete.contains(&text) {
            incomplete.push(text);
        }
    }
    if incomplete.is_empty() {
        Ok(())
    } else {
        Err(PlanError::Incomplete(incomplete))
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
    let must_zip = attachments.password.is_some();
    if must_zip || (is_too_large && attachments.oversize == OversizePolicy::Zip) {
        let name = match files {
            [one] => format!("{}.zip", one.name()),
            _ => "files.zip".to_owned(),
        };
        // How large an archive is shows when it is made.
        let mut size = all;
        if attachments.max_message.is_some() {
            let content = attachment::read_all(files)?;
            let zipped = attachment::archive(&content, attachments.password.as_ref())?;
            size = TEXTS + encoded_size(zipped.len() as u64);
        }
        if size > max {
            return Ok(Err(described(size)));
        }
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
    if attachments.oversize == OversizePolicy::Refuse {
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
    let values = values(&of_part, &part.files)?;
    let route = group[0].route;
    let texts = |now: DateTime| -> Result<Texts, PlanError> {
        let rendered = |what: &str, text: &str, escape: fn(&str) -> String| {
            let wrong = |problem| PlanError::Template {
                what: format!("{what} of the message for row {} of the routes", route.row),
                problem,
            };
            let template = TextTemplate::parse(text);
            let rendered = template.and_then(|template| template.render(&values, now, escape));
            rendered.map_err(wrong)
        };
        let plain: fn(&str) -> String = str::to_owned;
        let subject = route.subject.as_deref().unwrap_or(options.subject);
        // A value can never begin a header of its own.
        let subject = rendered("the subject", subject, plain)?;
        let subject = subject
            .chars()
            .map(|sign| if sign.is_control() { ' ' } else { sign });
        let mut subject: String = subject.collect();
        if count > 1 {
            subject.push_str(&format!(" ({place} of {count})"));
        }
        let text = route.body.as_deref().unwrap_or(options.body);
        let html = options.html.filter(|_| route.body.is_none());
        Ok(Texts {
            subject,
            text: rendered("the text", text, plain)?,
            html: html
                .map(|html| rendered("the HTML", html, escaped))
                .transpose()?,
            // All outputs of a group have the same.
            folder: folder(group[0], now)?,
        })
    };
    let shown = texts(options.now)?;
    let channel = route.channel.unwrap_or(options.channel);
    if let Some(folder) = shown
        .folder
        .as_deref()
        .filter(|_| channel == DeliveryChannel::Folder)
    {
        let wrong =
            |why: HandOverError| PlanError::Incomplete(vec![format!("row {}: {why}", route.row)]);
        below(folder).map_err(wrong)?;
    }
    let message = PlannedMessage {
        id: String::new(),
        channel,
        to: route.to.clone(),
        cc: route.cc.clone(),
        bcc: route.bcc.clone(),
        folder: shown.folder,
        subject: shown.subject,
        text: shown.text,
        html: shown.html,
        files: part.files,
        archive: part.archive,
        size: part.size,
    };
    Ok(message.with_id(&texts(DateTime::ZERO)?))
}

/// What placeholders represent: a value that differs between the outputs is all of them, with commas.
fn values(group: &[&&Match<'_>], files: &[Deliverable]) -> Result<Values, PlanError> {
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
    let mut totals: Vec<(String, Number)> = Vec::new();
    for (column, total) in files.iter().flat_map(|file| &file.totals) {
        match totals.iter_mut().find(|(known, _)| known == column) {
            Some((_, sum)) => *sum = sum.plus(*total).map_err(PlanError::Sum)?,
            None => totals.push((column.clone(), *total)),
        }
    }
    Ok(Values {
        columns: columns.collect(),
        rows: files.iter().map(|file| file.records).sum(),
        totals,
        files: attachment::names(files),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Routes, Unmatched};

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
                totals: vec![(
                    "dues".to_owned(),
                    format!("{place}.5").parse().expect("a number"),
                )],
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
                channel: DeliveryChannel::Drafts,
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
            Some("<b>Bo<br>\nBcc: x@y.example</b>")
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
    fn the_clock_does_not_make_other_messages() {
        let folder = tempfile::tempdir().expect("a folder");
        let outputs = outputs(folder.path());
        let columns = ["quay", "to"].map(str::to_owned);
        let row = |quay: &str| vec![quay.to_owned(), "a@varnholm.example".to_owned()];
        let routes = Routes::new(&columns, ["North", "East", "West"].map(row).into());
        let routes = routes.expect("routes");
        let matches = routes
            .matched(&outputs, Unmatched::default())
            .expect("matched");
        let planned = |day: i8, subject: &str| {
            let options = PlanOptions {
                subject,
                body: "{.time}",
                html: Some("{.date}"),
                attachments: &Attachments::default(),
                channel: DeliveryChannel::Smtp,
                domains: &[],
                now: jiff::civil::date(2026, 3, day).at(9, day, 0, 0),
            };
            plan(&matches, &options).expect("planned").remove(0)
        };
        let (one, other) = (planned(5, "for {.date}"), planned(6, "for {.date}"));
        assert_eq!(
            (one.subject.as_str(), other.subject.as_str()),
            ("for 2026-03-05", "for 2026-03-06")
        );
        assert_eq!(one.id, other.id);
        assert_ne!(one.id, planned(5, "of {.date}").id);
    }

    #[test]
    fn routes_have_what_their_channel_needs() {
        let folder = tempfile::tempdir().expect("a folder");
        let outputs = outputs(folder.path());
        let columns = ["quay", "to", "folder", "channel"].map(str::to_owned);
        let plans = |rows: [[&str; 4]; 3], channel| -> Result<Vec<DeliveryChannel>, String> {
            let rows = rows.map(|row| row.map(str::to_owned).to_vec()).to_vec();
            let routes = Routes::new(&columns, rows).map_err(|error| error.to_string())?;
            let matches = routes.matched(&outputs, Unmatched::default());
            let matches = matches.map_err(|error| error.to_string())?;
            let options = PlanOptions {
                subject: "{quay}",
                body: "",
                html: None,
                attachments: &Attachments::default(),
                channel,
                domains: &[],
                now: jiff::civil::date(2026, 3, 5).at(9, 30, 0, 0),
            };
            let messages = plan(&matches, &options).map_err(|error| error.to_string())?;
            Ok(messages.iter().map(|message| message.channel).collect())
        };
        let rows = [
            ["North", "a@varnholm.example", "", ""],
            ["East", "", "{quay}/x", "folder"],
            ["West", "a@varnholm.example", "", "smtp"],
        ];
        use DeliveryChannel::{Drafts, Folder, Smtp};
        assert_eq!(plans(rows, Drafts), Ok(vec![Drafts, Folder, Smtp]));
        let refused = plans(rows, Folder).expect_err("no folder");
        assert!(refused.ends_with("row 1 (folder)"), "{refused}");
        let mut without = rows;
        without[0][1] = "";
        let refused = plans(without, Drafts).expect_err("no address");
        assert!(refused.ends_with("row 1 (to)"), "{refused}");
        for (folder, channel, why) in [
            ("../x", "folder", "not one below"),
            ("x", "fax", "unknown channels"),
        ] {
            let mut wrong = rows;
            (wrong[1][2], wrong[1][3]) = (folder, channel);
            let refused = plans(wrong, Drafts).expect_err(folder);
            assert!(refused.contains(why), "{refused}");
        }
    }

    #[test]
    fn large_messages_are_refused_zipped_or_split() {
        let with = |max: u64, oversize| Attachments {
            max_message: Some(max),
            oversize,
            password: None,
        };
        let refused = planned(&with(20_000, OversizePolicy::Refuse), &[]).expect_err("refused");
        assert!(
            refused.to_string().contains("North.csv, West.csv"),
            "{refused}"
        );
        let zipped = planned(&with(20_000, OversizePolicy::Zip), &[]).expect("planned");
        assert_eq!(zipped[0].archive.as_deref(), Some("files.zip"));
        let split = planned(&with(20_000, OversizePolicy::Split), &[]).expect("planned");
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
        assert!(planned(&with(5_000, OversizePolicy::Split), &[]).is_err());
        let outside = planned(&Attachments::default(), &["other.example"]).expect_err("refused");
        assert_eq!(
            outside.to_string(),
            "addresses outside the allowed domains: A@varnholm.example, a@varnholm.example, b@varnholm.example"
        );
    }
}
