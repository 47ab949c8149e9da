//! Puts the page about a run beside its outputs.

use std::io;
use std::path::Path;

use numerant_engine::Summary;

use super::Failure;
use crate::report::page;

/// Refuses a path at which something else is than a page of a run.
pub(super) fn check(path: &Path) -> Result<(), Failure> {
    checked(path).map_err(|cause| Failure::Page {
        path: path.to_owned(),
        cause,
        is_done: false,
    })
}

fn checked(path: &Path) -> io::Result<()> {
    match std::fs::read(path) {
        Ok(found) if memchr::memmem::find(&found, page::MARK.as_bytes()).is_some() => Ok(()),
        Ok(_) => Err(io::Error::other(
            "it exists and is no page of a run; choose another name",
        )),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(error),
    }
}

/// Writes the page of a run that is done.
pub(super) fn write(path: &Path, summary: &Summary) -> Result<(), Failure> {
    let failed = |cause: io::Error| Failure::Page {
        path: path.to_owned(),
        cause,
        is_done: true,
    };
    // An output may have come to be there.
    checked(path).map_err(failed)?;
    let parent = path
        .parent()
        .filter(|parent| !parent.as_os_str().is_empty());
    let folder = parent.unwrap_or(Path::new("."));
    std::fs::create_dir_all(folder).map_err(failed)?;
    let now = jiff::Zoned::now().strftime("%Y-%m-%d %H:%M").to_string();
    let command = page::command(std::env::args());
    let text = page::page(summary, folder, &now, &command);
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let staged = folder.join(format!(".{name}.{}", std::process::id()));
    let written = std::fs::write(&staged, text).and_then(|()| std::fs::rename(&staged, path));
    if written.is_err() {
        // What is half-written is of no use.
        let _ = std::fs::remove_file(&staged);
    }
    written.map_err(failed)
}
