//! The channels of a delivery, and the passwords that they take.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use lettre::message::Mailbox;
use numerant_data::disk::Disk;
use numerant_delivery::{Channel, CommandChannel, Drafts, Folders, Password, Smtp, SmtpOptions};
use numerant_engine::job::{DeliveryChannel, Encryption, Transport};

use super::{refused, usage, with_hint};
use crate::failure::Failure;

/// The environment variable with the password of the mail server.
const PASSWORD: &str = "NUMERANT_SMTP_PASSWORD";

/// Opens a channel.
pub(in crate::commands) fn channel(
    transport: &Transport,
    channel: DeliveryChannel,
    disk: &Disk,
) -> Result<Box<dyn Channel>, Failure> {
    Ok(match channel {
        DeliveryChannel::Drafts => {
            let into = transport
                .into
                .clone()
                .unwrap_or_else(|| PathBuf::from("drafts"));
            Box::new(Drafts::new(into, disk.clone()))
        }
        DeliveryChannel::Folder => match &transport.into {
            Some(into) => Box::new(Folders::new(into.clone(), disk.clone())),
            None => {
                return Err(usage(
                    "--into is missing",
                    "name the folder that the folders of routes are in",
                ));
            }
        },
        DeliveryChannel::Command => {
            let command = transport.program.as_deref().and_then(CommandChannel::new);
            let hint = "such as --program 'sendmail -t'";
            Box::new(command.ok_or_else(|| usage("--program is missing", hint))?)
        }
        DeliveryChannel::Smtp => Box::new(Smtp::new(smtp(transport)?)),
    })
}

fn smtp(transport: &Transport) -> Result<SmtpOptions, Failure> {
    let Some(server) = &transport.smtp else {
        return Err(usage(
            "--smtp is missing",
            "name the mail server: --smtp mail.varnholm.example",
        ));
    };
    let usual = if transport.tls == Encryption::Implicit {
        465
    } else {
        587
    };
    let (host, port) = match server.rsplit_once(':') {
        None => (server.as_str(), usual),
        Some((host, port)) => {
            let port = port.parse().map_err(|_| {
                usage(
                    format!("--smtp {server}: '{port}' is not a port"),
                    "write HOST or HOST:PORT",
                )
            })?;
            (host, port)
        }
    };
    let login = match &transport.user {
        None => None,
        Some(_) if transport.tls == Encryption::None => {
            return Err(usage(
                "--user with --tls none would send the password in the clear",
                "remove one of the two",
            ));
        }
        Some(user) => {
            let password = match (&transport.password_file, &transport.password_command) {
                (Some(path), _) => secret(path)?,
                (None, Some(command)) => printed_secret(command)?,
                (None, None) => {
                    let stated = std::env::var(PASSWORD).map_err(|_| {
                        usage(
                            format!("the password of {user} is missing"),
                            format!(
                                "put it into the environment as {PASSWORD}, or name --password-file or --password-command"
                            ),
                        )
                    });
                    Password(stated?)
                }
            };
            Some((user.clone(), password))
        }
    };
    let authority = match &transport.trust {
        None => None,
        Some(path) => Some(text_of(path)?.into_bytes()),
    };
    Ok(SmtpOptions {
        host: host.to_owned(),
        port,
        tls: transport.tls,
        login,
        authority,
        timeout: Duration::from_secs(transport.timeout),
    })
}

/// The text of a file.
pub(super) fn text_of(path: &Path) -> Result<String, Failure> {
    std::fs::read_to_string(path).map_err(|cause| refused(&format!("{}: {cause}", path.display())))
}

/// The first line of a file that only its owner may read.
pub(super) fn secret(path: &Path) -> Result<Password, Failure> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let facts = std::fs::metadata(path);
        let facts = facts.map_err(|cause| refused(&format!("{}: {cause}", path.display())))?;
        if facts.mode() & 0o077 != 0 {
            let shown = path.display();
            return Err(with_hint(
                &format!("{shown}: others than its owner may read it"),
                &format!("chmod 600 {shown}"),
            ));
        }
    }
    first_line(&text_of(path)?, &path.display())
}

/// The password that a program prints, without a shell between.
fn printed_secret(command: &str) -> Result<Password, Failure> {
    let words = shlex::split(command).filter(|words| !words.is_empty());
    let Some(words) = words else {
        return Err(usage(
            "--password-command has no words",
            "such as 'secret-tool lookup service mail'",
        ));
    };
    let output = Command::new(&words[0])
        .args(&words[1..])
        .stderr(Stdio::inherit())
        .output();
    let output = output.map_err(|cause| refused(&format!("{}: {cause}", words[0])))?;
    if !output.status.success() {
        return Err(refused(&format!(
            "{}: it ended with {}",
            words[0], output.status
        )));
    }
    first_line(&String::from_utf8_lossy(&output.stdout), &words[0])
}

/// The password in the first line of a text.
fn first_line(text: &str, place: &dyn std::fmt::Display) -> Result<Password, Failure> {
    match text.lines().next() {
        Some(line) if !line.is_empty() => Ok(Password(line.to_owned())),
        _ => Err(refused(&format!("{place}: it has no password"))),
    }
}

/// The address that an option states.
pub(in crate::commands) fn address(option: &str, text: &str) -> Result<Mailbox, Failure> {
    text.parse().map_err(|_| {
        usage(
            format!("{option} {text}: it is not an address"),
            "write ADDRESS or 'NAME <ADDRESS>'",
        )
    })
}
