//! Messages: what is in them, and their bytes after RFC 5322 and MIME.

use std::time::SystemTime;

use lettre::Address;
use lettre::Message;
use lettre::message::header::{ContentTransferEncoding, ContentType, HeaderName, HeaderValue};
use lettre::message::{Attachment, Body, Mailbox, MultiPart, MultiPartKind, SinglePart};

use crate::attachment::{self, AttachError};
use crate::channel::{Composed, Wants};
use crate::{Deliverable, Password};
use numerant_engine::job::DeliveryChannel;
use numerant_markup::push_escaped;

/// Who sends, and when.
#[derive(Clone, Debug)]
pub struct Sender {
    /// The sender.
    pub from: Mailbox,
    /// When.
    pub at: SystemTime,
    /// All messages go to this address, and say in their text who they are for.
    pub test_to: Option<Mailbox>,
}

/// The texts of a message.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Texts {
    pub(crate) subject: String,
    pub(crate) text: String,
    pub(crate) html: Option<String>,
    pub(crate) folder: Option<String>,
}

/// A message that is planned.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PlannedMessage {
    /// Its identifier: a digest of its content, its channel and its recipients, without the day and time.
    pub id: String,
    /// How it is handed over.
    pub channel: DeliveryChannel,
    /// Who gets it.
    pub to: Vec<Mailbox>,
    /// Who gets a copy.
    pub cc: Vec<Mailbox>,
    /// Who gets a copy that the others do not see.
    pub bcc: Vec<Mailbox>,
    /// The folder that its files are copied to, if the route names one.
    pub folder: Option<String>,
    /// Its subject.
    pub subject: String,
    /// Its text.
    pub text: String,
    /// Its text as HTML.
    pub html: Option<String>,
    /// The outputs in it.
    pub files: Vec<Deliverable>,
    /// The archive that its files go into, if they do.
    pub archive: Option<String>,
    /// Bytes that it has about.
    pub size: u64,
}

/// A message that cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum ComposeError {
    /// A file of it cannot be attached.
    #[error(transparent)]
    Attach(#[from] AttachError),
    /// It is no message that can be sent.
    #[error("the message cannot be made: {0}")]
    Message(String),
}

impl PlannedMessage {
    /// Sets its identifier, with texts that do not depend on the day and time of the delivery: a delivery that is
    /// repeated later makes the same messages.
    pub(crate) fn with_id(mut self, timeless: &Texts) -> Self {
        let mut digest = blake3::Hasher::new();
        let mut add = |text: &str| {
            digest.update(&(text.len() as u64).to_le_bytes());
            digest.update(text.as_bytes());
        };
        add(self.channel.name());
        for (kind, list) in [("to", &self.to), ("cc", &self.cc), ("bcc", &self.bcc)] {
            add(kind);
            list.iter().for_each(|mailbox| add(&mailbox.to_string()));
        }
        add(timeless.folder.as_deref().unwrap_or_default());
        add(&timeless.subject);
        add(&timeless.text);
        add(timeless.html.as_deref().unwrap_or_default());
        add(self.archive.as_deref().unwrap_or_default());
        for file in &self.files {
            add(&file.path);
            add(&file.blake3);
        }
        self.id = digest.finalize().to_hex()[..32].to_owned();
        self
    }

    /// All addresses that it goes to.
    pub fn recipients(&self) -> Vec<&Mailbox> {
        self.to.iter().chain(&self.cc).chain(&self.bcc).collect()
    }

    /// What a channel hands over.
    ///
    /// # Errors
    ///
    /// If a file cannot be read or has changed, or the message cannot be made.
    pub fn compose(
        &self,
        sender: &Sender,
        wants: Wants,
        password: Option<&Password>,
    ) -> Result<Composed, ComposeError> {
        let mut files = attachment::read_all(&self.files)?;
        if let Some(name) = &self.archive {
            files = vec![(name.clone(), attachment::archive(&files, password)?)];
        }
        let is_test = sender.test_to.is_some();
        let mut recipients: Vec<Address> = Vec::new();
        let all = match &sender.test_to {
            Some(test) => vec![test],
            None => self.recipients(),
        };
        for mailbox in all {
            // Somebody may stand among several of them.
            if !recipients.contains(&mailbox.email) {
                recipients.push(mailbox.email.clone());
            }
        }
        let mut composed = Composed {
            id: self.id.clone(),
            from: sender.from.email.clone(),
            recipients,
            folder: self.folder.clone(),
            mail: Vec::new(),
            files: Vec::new(),
        };
        if wants == Wants::Files {
            composed.files = files;
            return Ok(composed);
        }
        composed.mail = self.mail(sender, wants, is_test, files)?;
        Ok(composed)
    }

    fn mail(
        &self,
        sender: &Sender,
        wants: Wants,
        is_test: bool,
        files: Vec<(String, Vec<u8>)>,
    ) -> Result<Vec<u8>, ComposeError> {
        let wrong = |error: &dyn std::fmt::Display| ComposeError::Message(error.to_string());
        let id = format!("<{}@{}>", self.id, sender.from.email.domain());
        let mut message = Message::builder()
            .from(sender.from.clone())
            .date(sender.at)
            .message_id(Some(id));
        let mut text = self.text.clone();
        let mut html = self.html.clone();
        if let Some(test) = &sender.test_to {
            message = message.to(test.clone());
            let all = |list: &[Mailbox]| {
                list.iter()
                    .map(Mailbox::to_string)
                    .collect::<Vec<_>>()
                    .join(", ")
            };
            let note = format!(
                "This is a test. The message is for: {}; copies: {}; hidden copies: {}",
                all(&self.to),
                all(&self.cc),
                all(&self.bcc)
            );
            text = format!("{note}\n\n{text}");
            html = html.map(|html| format!("<p>{}</p>\n{html}", escaped(&note)));
        } else {
            for mailbox in &self.to {
                message = message.to(mailbox.clone());
            }
            for mailbox in &self.cc {
                message = message.cc(mailbox.clone());
            }
            // A draft keeps them, as whoever sends it has to know them.
            if wants == Wants::Draft {
                for mailbox in &self.bcc {
                    message = message.bcc(mailbox.clone());
                }
                message = message.keep_bcc();
            }
        }
        let subject = if is_test {
            format!("[test] {}", self.subject)
        } else {
            self.subject.clone()
        };
        message = message.subject(subject);
        let plain = SinglePart::plain(text);
        let mut parts = MultiPart::builder()
            .kind(MultiPartKind::Mixed)
            .boundary(format!("=_{}_files", &self.id[..24]))
            .build();
        parts = match html {
            None => parts.singlepart(plain),
            Some(html) => parts.multipart(
                MultiPart::builder()
                    .kind(MultiPartKind::Alternative)
                    .boundary(format!("=_{}_texts", &self.id[..24]))
                    .singlepart(plain)
                    .singlepart(SinglePart::html(html)),
            ),
        };
        for (name, bytes) in files {
            let kind = content_type(&name).map_err(|error| wrong(&error))?;
            // Only so do they arrive byte for byte: line ends of text can change on the way.
            let body = Body::new_with_encoding(bytes, ContentTransferEncoding::Base64);
            let body = body.map_err(|_| wrong(&"a file cannot be encoded"))?;
            parts = parts.singlepart(Attachment::new(name).body(body, kind));
        }
        let mut message = message.multipart(parts).map_err(|error| wrong(&error))?;
        if wants == Wants::Draft {
            // Mail programs open it as a message that is still to be sent.
            let name = HeaderName::new_from_ascii_str("X-Unsent");
            message
                .headers_mut()
                .insert_raw(HeaderValue::new(name, "1".to_owned()));
        }
        Ok(message.formatted())
    }
}

/// The type of a file by its extension.
fn content_type(name: &str) -> Result<ContentType, lettre::message::header::ContentTypeErr> {
    let extension = name.rsplit('.').next().unwrap_or_default().to_lowercase();
    let kind = match extension.as_str() {
        "csv" => "text/csv; charset=utf-8",
        "tsv" => "text/tab-separated-values; charset=utf-8",
        "txt" => "text/plain; charset=utf-8",
        "html" => "text/html; charset=utf-8",
        "json" => "application/json",
        "xml" => "application/xml",
        "pdf" => "application/pdf",
        "zip" => "application/zip",
        "xlsx" => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
        "xls" => "application/vnd.ms-excel",
        "ods" => "application/vnd.oasis.opendocument.spreadsheet",
        "mrc" => "application/marc",
        _ => "application/octet-stream",
    };
    ContentType::parse(kind)
}

/// A text as HTML, whose lines stay lines.
pub(crate) fn escaped(text: &str) -> String {
    let mut out = Vec::new();
    for (place, line) in text.lines().enumerate() {
        if place > 0 {
            out.extend_from_slice(b"<br>\n");
        }
        push_escaped(line, true, &mut out);
    }
    String::from_utf8_lossy(&out).into_owned()
}
