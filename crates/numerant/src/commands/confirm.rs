//! The question before a run or a delivery.

use std::io::{self, BufRead, Write};

/// Asks on standard error; any answer but yes is no.
pub(super) fn confirmed(question: &str) -> io::Result<bool> {
    let mut out = crate::report::screen::stderr();
    write!(out, "{question} [y/N] ")?;
    out.flush()?;
    let mut answer = String::new();
    io::stdin().lock().read_line(&mut answer)?;
    Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
}
