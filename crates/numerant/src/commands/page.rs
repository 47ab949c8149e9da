//! Puts the page about a run, a look or a proof where `--page` says.

use std::io;
use std::path::{Path, PathBuf};

use jiff::Zoned;
use numerant_data::disk::Disk;

use crate::failure::Failure;
use crate::report::page::{self, Made};

/// Where a page is to be, which is known to be free or to have an earlier page.
#[derive(Debug)]
pub(super) struct PagePlace {
    path: PathBuf,
}

impl PagePlace {
    /// Takes a path, in whose `{.date}` and `{.time}` the day and the time of day stand.
    ///
    /// # Errors
    ///
    /// If another file is there than a page.
    pub(super) fn new(path: &Path) -> Result<Self, Failure> {
        let path = numerant_engine::dated_path(path, Zoned::now().datetime());
        match checked(&path) {
            Ok(()) => Ok(Self { path }),
            Err(cause) => Err(Failure::Page {
                path,
                cause,
                is_done: false,
            }),
        }
    }

    /// Writes a page, made for the folder that it is in.
    ///
    /// # Errors
    ///
    /// If it cannot be written, or another file has come to be there.
    pub(super) fn write(&self, page: impl FnOnce(&Path, &Made) -> String) -> Result<(), Failure> {
        let path = &self.path;
        self.put(page).map_err(|cause| Failure::Page {
            path: path.clone(),
            cause,
            is_done: true,
        })
    }

    fn put(&self, page: impl FnOnce(&Path, &Made) -> String) -> io::Result<()> {
        let path = &self.path;
        checked(path)?;
        let parent = path
            .parent()
            .filter(|parent| !parent.as_os_str().is_empty());
        let folder = parent.unwrap_or(Path::new("."));
        std::fs::create_dir_all(folder)?;
        let made = Made {
            at: Zoned::now().strftime("%Y-%m-%d %H:%M").to_string(),
            command: page::command(std::env::args()),
        };
        Disk::default().write_whole(path, page(folder, &made).as_bytes())
    }
}

/// The place of a page, if one is asked for.
pub(super) fn place(path: Option<&PathBuf>) -> Result<Option<PagePlace>, Failure> {
    path.map(|path| PagePlace::new(path)).transpose()
}

fn checked(path: &Path) -> io::Result<()> {
    match std::fs::read(path) {
        Ok(found) if memchr::memmem::find(&found, page::MARK.as_bytes()).is_some() => Ok(()),
        Ok(_) => Err(io::Error::other(
            "it exists and is not a page of Numerant; choose another name",
        )),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(error),
    }
}
