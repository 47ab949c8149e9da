//! Mail by SMTP (RFC 5321), encrypted and with the certificate of the server checked.
//!
//! # Invariants
//!
//! A message is in doubt only between its last byte and the answer to that: what fails before was not taken, and can
//! be handed over again.

use std::fmt;
use std::io;
use std::time::Duration;

use lettre::transport::smtp::authentication::{Credentials, Mechanism};
use lettre::transport::smtp::client::{Certificate, SmtpConnection, TlsParameters};
use lettre::transport::smtp::commands::{Data, Mail, Rcpt, Rset};
use lettre::transport::smtp::extension::{ClientId, Extension, MailParameter};

use super::{Channel, Composed, HandOverError, Wants};
use numerant_engine::job::Encryption;

use crate::Password;

/// The server, and how it is spoken to.
#[derive(Clone, Debug)]
pub struct SmtpOptions {
    /// Its name.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// How the connection is encrypted.
    pub tls: Encryption,
    /// The user and the password.
    pub login: Option<(String, Password)>,
    /// A certificate in PEM that is trusted besides those of the system.
    pub authority: Option<Vec<u8>>,
    /// How long an answer may take.
    pub timeout: Duration,
}

/// Hands messages to a server.
pub struct Smtp {
    options: SmtpOptions,
    connection: Option<SmtpConnection>,
}

impl fmt::Debug for Smtp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Smtp")
            .field("options", &self.options)
            .finish_non_exhaustive()
    }
}

/// What a server says, in one line.
fn said(error: &lettre::transport::smtp::Error) -> String {
    if is_timeout(error) {
        return "no answer in time".to_owned();
    }
    let mut text = error.to_string();
    let mut cause = std::error::Error::source(error);
    while let Some(inner) = cause {
        let inner_text = inner.to_string();
        if !text.contains(&inner_text) {
            text.push_str(&format!(": {inner_text}"));
        }
        cause = inner.source();
    }
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Whether an answer took too long.
fn is_timeout(error: &lettre::transport::smtp::Error) -> bool {
    let mut cause = std::error::Error::source(error);
    while let Some(inner) = cause {
        if let Some(io) = inner.downcast_ref::<io::Error>() {
            return matches!(
                io.kind(),
                io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock
            );
        }
        cause = inner.source();
    }
    error.is_timeout()
}

/// An error before the message was handed over.
fn before(error: &lettre::transport::smtp::Error) -> HandOverError {
    if error.is_permanent() {
        HandOverError::Final(said(error))
    } else {
        HandOverError::Temporary(said(error))
    }
}

/// The content of a message with the end of data, in one piece: written in two, the second would wait for the
/// receipt of the first, which the other side holds back (RFC 896, RFC 1122 4.2.3.2).
struct Content<'c>(&'c [u8]);

impl fmt::Display for Content<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for line in self.0.split_inclusive(|byte| *byte == b'\n') {
            if line.starts_with(b".") {
                f.write_str(".")?;
            }
            f.write_str(&String::from_utf8_lossy(line))?;
        }
        if !self.0.ends_with(b"\r\n") {
            f.write_str("\r\n")?;
        }
        f.write_str(".\r\n")
    }
}

impl Smtp {
    /// A server that is spoken to when the first message is handed over.
    pub fn new(options: SmtpOptions) -> Self {
        Self {
            options,
            connection: None,
        }
    }

    fn connect(&self) -> Result<SmtpConnection, HandOverError> {
        let options = &self.options;
        let closed = |what: &str, error: &lettre::transport::smtp::Error| {
            let text = format!("{}:{}: {what}{}", options.host, options.port, said(error));
            let is_trust = error.is_tls() || text.contains("certificate");
            // A server that answers with 4xx, or not at all, may do otherwise later.
            let may_change = error.is_transient() || error.status().is_none();
            if may_change && !is_trust && !error.is_client() {
                HandOverError::Unreachable(text)
            } else {
                HandOverError::Closed(text)
            }
        };
        let mut parameters = TlsParameters::builder(options.host.clone());
        if let Some(pem) = &options.authority {
            let certificate = Certificate::from_pem(pem);
            let certificate =
                certificate.map_err(|error| closed("the certificate that is trusted: ", &error))?;
            parameters = parameters.add_root_certificate(certificate);
        }
        let parameters = parameters.build().map_err(|error| closed("", &error))?;
        let name = ClientId::default();
        let address = (options.host.as_str(), options.port);
        let implicit = (options.tls == Encryption::Implicit).then_some(&parameters);
        let mut connection =
            SmtpConnection::connect(address, Some(options.timeout), &name, implicit, None)
                .map_err(|error| closed("", &error))?;
        if options.tls == Encryption::StartTls {
            if !connection.can_starttls() {
                connection.abort();
                return Err(HandOverError::Closed(format!(
                    "{}:{}: the server does not offer encryption (STARTTLS), which the job demands",
                    options.host, options.port
                )));
            }
            connection
                .starttls(&parameters, &name)
                .map_err(|error| closed("encryption: ", &error))?;
        }
        if let Some((user, password)) = &options.login {
            let credentials = Credentials::new(user.clone(), password.0.clone());
            let mechanisms = [Mechanism::Plain, Mechanism::Login];
            connection
                .auth(&mechanisms, &credentials)
                .map_err(|error| closed("login: ", &error))?;
        }
        Ok(connection)
    }

    /// The sender and the recipients, up to where the content is wanted.
    fn envelope(connection: &mut SmtpConnection, message: &Composed) -> Result<(), HandOverError> {
        let mut parameters = Vec::new();
        let is_ascii = message
            .recipients
            .iter()
            .chain([&message.from])
            .all(|address| {
                let text: &str = address.as_ref();
                text.is_ascii()
            });
        if !is_ascii {
            if !connection
                .server_info()
                .supports_feature(Extension::SmtpUtfEight)
            {
                let why =
                    "the server does not take addresses with other than ASCII letters (SMTPUTF8)";
                return Err(HandOverError::Final(why.to_owned()));
            }
            parameters.push(MailParameter::SmtpUtfEight);
        }
        let mail = Mail::new(Some(message.from.clone()), parameters);
        connection.command(mail).map_err(|error| before(&error))?;
        for recipient in &message.recipients {
            connection
                .command(Rcpt::new(recipient.clone(), Vec::new()))
                .map_err(|error| match before(&error) {
                    HandOverError::Final(why) => {
                        HandOverError::Final(format!("{recipient}: {why}"))
                    }
                    HandOverError::Temporary(why) => {
                        HandOverError::Temporary(format!("{recipient}: {why}"))
                    }
                    other => other,
                })?;
        }
        connection.command(Data).map_err(|error| before(&error))?;
        Ok(())
    }
}

impl Channel for Smtp {
    fn wants(&self) -> Wants {
        Wants::Mail
    }

    fn is_repeatable(&self) -> bool {
        false
    }

    fn hand_over(&mut self, message: &Composed) -> Result<String, HandOverError> {
        let mut connection = match self.connection.take() {
            Some(connection) => connection,
            None => self.connect()?,
        };
        if let Err(error) = Self::envelope(&mut connection, message) {
            // A server that answers can be asked again on the same line.
            if connection.command(Rset).is_ok() {
                self.connection = Some(connection);
            } else {
                connection.abort();
            }
            return Err(error);
        }
        match connection.command(Content(&message.mail)) {
            Ok(response) => {
                self.connection = Some(connection);
                let lines: Vec<&str> = response.message().collect();
                Ok(format!("{} {}", response.code(), lines.join(" ")))
            }
            // The server has answered, so it is known what became of it.
            Err(error) if error.status().is_some() => {
                self.connection = Some(connection);
                Err(before(&error))
            }
            Err(error) => {
                connection.abort();
                Err(HandOverError::Unclear(said(&error)))
            }
        }
    }

    fn close(&mut self) {
        if let Some(mut connection) = self.connection.take() {
            // All is handed over; how the line ends is of no matter.
            let _ = connection.quit();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::Content;

    #[test]
    fn content_is_stuffed_and_ended() {
        let shown = |text: &str| Content(text.as_bytes()).to_string();
        assert_eq!(shown("a\r\n.b\r\n..\r\n"), "a\r\n..b\r\n...\r\n.\r\n");
        assert_eq!(shown("a"), "a\r\n.\r\n");
        assert_eq!(shown("."), "..\r\n.\r\n");
    }
}
