//! Folders of people, such as on a network drive.

use std::fs;
use std::io;
use std::path::{Component, Path, PathBuf};

use super::{Channel, Composed, HandOverError, Wants};
use numerant_data::disk::Disk;

/// Copies the files of each message into the folder that its route names, below a folder for all.
#[derive(Debug)]
pub struct Folders {
    folder: PathBuf,
    disk: Disk,
}

impl Folders {
    /// Folders below this one.
    pub fn new(folder: PathBuf, disk: Disk) -> Self {
        Self { folder, disk }
    }
}

impl Channel for Folders {
    fn wants(&self) -> Wants {
        Wants::Files
    }

    fn is_repeatable(&self) -> bool {
        true
    }

    fn hand_over(&mut self, message: &Composed) -> Result<String, HandOverError> {
        let Some(wanted) = &message.folder else {
            return Err(HandOverError::Final(
                "its route names no folder (column 'folder')".to_owned(),
            ));
        };
        let folder = self.folder.join(below(wanted)?);
        let failed =
            |cause: io::Error| HandOverError::Final(format!("{}: {cause}", folder.display()));
        fs::create_dir_all(&folder).map_err(failed)?;
        for (name, bytes) in &message.files {
            let path = folder.join(name);
            match self.disk.write_new(&path, bytes) {
                Ok(()) => {}
                // A delivery that was cut off may have written it.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                    if fs::read(&path).map_err(failed)? != *bytes {
                        let why =
                            "another file is there; move it, or give the outputs another name";
                        return Err(HandOverError::Final(format!("{}: {why}", path.display())));
                    }
                }
                Err(error) => return Err(failed(error)),
            }
        }
        Ok(folder.display().to_string())
    }
}

/// A path that leads nowhere else than below a folder.
pub(crate) fn below(text: &str) -> Result<&Path, HandOverError> {
    let path = Path::new(text.trim());
    let is_below = path
        .components()
        .all(|part| matches!(part, Component::Normal(_)));
    if is_below && !text.trim().is_empty() && !text.chars().any(char::is_control) {
        Ok(path)
    } else {
        Err(HandOverError::Final(format!(
            "the folder '{text}' is not one below the folder for all"
        )))
    }
}
