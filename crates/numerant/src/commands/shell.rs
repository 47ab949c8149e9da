//! `numerant completions` and `numerant manual`.

use std::fs;
use std::io::{self, Write};
use std::path::Path;

use clap::CommandFactory;

use crate::args::{Arguments, CompletionsArguments, ManualArguments};
use crate::failure::Failure;

pub(super) fn completions(arguments: &CompletionsArguments) -> Result<(), Failure> {
    let mut script = Vec::new();
    let mut command = Arguments::command();
    clap_complete::generate(arguments.shell, &mut command, "numerant", &mut script);
    let mut out = io::stdout().lock();
    out.write_all(&script)?;
    out.flush()?;
    Ok(())
}

pub(super) fn manual(arguments: &ManualArguments) -> Result<(), Failure> {
    let folder = &arguments.folder;
    let written = fs::create_dir_all(folder).and_then(|()| pages(folder));
    let count = written.map_err(|cause| Failure::Usage {
        message: format!("writing in {}: {cause}", folder.display()),
        hint: "name a folder that you may write to".into(),
    })?;
    writeln!(
        crate::report::screen::stdout(),
        "{count} pages are in {}; 'man {}/numerant.1' shows the first",
        folder.display(),
        folder.display()
    )?;
    Ok(())
}

fn pages(folder: &Path) -> io::Result<usize> {
    let command = Arguments::command();
    let mut pages = vec![(command.clone(), "numerant".to_owned())];
    for part in command.get_subcommands() {
        let name = format!("numerant-{}", part.get_name());
        pages.push((part.clone(), name));
    }
    let count = pages.len();
    for (command, name) in pages {
        let command = command.name(name.clone());
        let mut text = Vec::new();
        clap_mangen::Man::new(command).render(&mut text)?;
        fs::write(folder.join(format!("{name}.1")), text)?;
    }
    Ok(count)
}
