//! The walk: each command as one would type it, then what it really answers.

use std::env;
use std::io::{self, Write};
use std::path::Path;
use std::process::{Command, Stdio};

use crate::report::screen::Mark;

use super::stops::STOPS;
use crate::failure::Failure;

const TITLE: Mark = Mark::Green;
const TYPED: Mark = Mark::Bold;

/// Walks through the work in `folder`, which holds the sample data.
pub(crate) fn walk(folder: &Path) -> Result<(), Failure> {
    let program = env::current_exe()?;
    {
        let mut out = crate::report::screen::stdout();
        let shown = crate::report::folder(folder);
        writeln!(
            out,
            "{TITLE}The Port of Varnholm{TITLE:#}: the sample data is in {shown}"
        )?;
        writeln!(out, "{TYPED}$ cd {shown}{TYPED:#}")?;
        out.flush()?;
    }
    for stop in STOPS {
        {
            let mut out = crate::report::screen::stdout();
            writeln!(out, "\n{TITLE}# {}{TITLE:#}", stop.why)?;
            writeln!(out, "{TYPED}$ numerant {}{TYPED:#}", stop.typed)?;
            out.flush()?;
        }
        let words = shlex::split(stop.typed).unwrap_or_default();
        // What is said on standard error belongs between the lines of the walk, so both streams
        // are one here.
        let status = Command::new(&program)
            .args(words)
            .current_dir(folder)
            .stdin(Stdio::null())
            .stderr(standard_output()?)
            .status()?;
        if status.code() != Some(stop.code) {
            return Err(Failure::Demo {
                message: format!("'numerant {}' ended with {status}", stop.typed),
                hint: "is there room on the disk?".into(),
            });
        }
    }
    let mut out = crate::report::screen::stdout();
    let shown = crate::report::folder(folder);
    writeln!(
        out,
        "\n{TITLE}That was the demo.{TITLE:#} All files are in {shown}: look around."
    )?;
    Ok(out.flush()?)
}

/// Standard output once more, for the standard error of a command.
fn standard_output() -> io::Result<Stdio> {
    #[cfg(unix)]
    {
        use std::os::fd::AsFd;
        Ok(Stdio::from(io::stdout().as_fd().try_clone_to_owned()?))
    }
    #[cfg(not(unix))]
    Ok(Stdio::inherit())
}
