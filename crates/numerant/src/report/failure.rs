//! Errors of commands in words.

use std::io::{self, Write};

use super::{screen, words};
use crate::failure::Failure;
use crate::hint;

/// Why a command failed, and what to do about it.
pub(crate) fn failure_in_words(failure: &Failure) -> (String, Option<String>) {
    match failure {
        Failure::Engine(error) => (error.to_string(), hint::of_error(error)),
        Failure::JobFile(error) => (error.to_string(), hint::of_job_file(&error.problem)),
        Failure::Usage { message, hint }
        | Failure::Delivery { message, hint }
        | Failure::Demo { message, hint } => (
            message.clone(),
            Some(hint.clone()).filter(|hint| !hint.is_empty()),
        ),
        Failure::Page {
            path,
            cause,
            is_done,
        } => {
            let done = if *is_done {
                "the outputs are in place, but "
            } else {
                ""
            };
            (format!("{done}--page {}: {cause}", path.display()), None)
        }
        Failure::Busy { message } => (message.clone(), None),
        Failure::Show(error) => (format!("the result could not be shown: {error}"), None),
        Failure::ShowDone(error) => (
            format!("the outputs are in place, but the report could not be shown: {error}"),
            None,
        ),
        Failure::DoesNotHold => ("the check failed".to_owned(), None),
        Failure::SomeFailed => ("some files failed".to_owned(), None),
        Failure::Declined => ("not confirmed; nothing was written".to_owned(), None),
    }
}

/// Shows an error on standard error, with lines that say more of it, and what to do.
pub(super) fn show(
    message: &str,
    details: &[String],
    left: u64,
    hint: Option<&str>,
) -> io::Result<()> {
    let mut err = screen::stderr();
    words::labelled(&mut err, words::ERROR, "error", message)?;
    for detail in details {
        writeln!(err, "       {detail}")?;
    }
    if left > 0 {
        writeln!(err, "       and {} more", words::number(left))?;
    }
    if let Some(hint) = hint {
        words::labelled(&mut err, words::HINT, " hint", hint)?;
    }
    Ok(())
}
