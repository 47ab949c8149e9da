//! A program that takes messages, such as `sendmail -t`.

use std::io::Write;
use std::process::{Command, Stdio};

use super::{Channel, Composed, HandOverError, Wants};

/// Hands each message to a program on its standard input. No shell is between.
#[derive(Debug)]
pub struct CommandChannel {
    words: Vec<String>,
}

impl CommandChannel {
    /// The command, as it is typed in a shell; `None` if it has no words.
    pub fn new(command: &str) -> Option<Self> {
        let words = shlex::split(command).filter(|words| !words.is_empty())?;
        Some(Self { words })
    }
}

impl Channel for CommandChannel {
    fn wants(&self) -> Wants {
        Wants::Draft
    }

    fn is_repeatable(&self) -> bool {
        false
    }

    fn hand_over(&mut self, message: &Composed) -> Result<String, HandOverError> {
        let program = &self.words[0];
        let spawned = Command::new(program)
            .args(&self.words[1..])
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn();
        let mut child =
            spawned.map_err(|cause| HandOverError::Closed(format!("{program}: {cause}")))?;
        let mut failed = None;
        if let Some(mut input) = child.stdin.take()
            && let Err(cause) = input.write_all(&message.mail)
        {
            failed = Some(cause);
        }
        let done = child.wait_with_output();
        let done = done.map_err(|cause| HandOverError::Unclear(format!("{program}: {cause}")))?;
        let said = String::from_utf8_lossy(&done.stderr)
            .trim()
            .lines()
            .last()
            .unwrap_or_default()
            .to_owned();
        match (done.status.code(), failed) {
            (Some(0), None) => Ok(format!("{program} took it")),
            (Some(0), Some(cause)) => Err(HandOverError::Unclear(format!(
                "{program} did not read all: {cause}"
            ))),
            // EX_TEMPFAIL of sysexits.
            (Some(75), _) => Err(HandOverError::Temporary(format!("{program}: {said}"))),
            (Some(code), _) => Err(HandOverError::Final(format!(
                "{program} ended with {code}: {said}"
            ))),
            (None, _) => Err(HandOverError::Unclear(format!("{program} was killed"))),
        }
    }
}
