//! Drafts: a file for each message, to be looked at and sent by any mail program.

use std::fs;
use std::io;
use std::path::PathBuf;

use super::{Channel, Composed, HandOverError, Wants};
use numerant_data::disk::Disk;

/// Writes each message as a file `.eml` (RFC 5322) into a folder.
#[derive(Debug)]
pub struct Drafts {
    folder: PathBuf,
    disk: Disk,
}

impl Drafts {
    /// Drafts in a folder, which is made when the first is written.
    pub fn new(folder: PathBuf, disk: Disk) -> Self {
        Self { folder, disk }
    }
}

impl Channel for Drafts {
    fn wants(&self) -> Wants {
        Wants::Draft
    }

    fn is_repeatable(&self) -> bool {
        true
    }

    fn hand_over(&mut self, message: &Composed) -> Result<String, HandOverError> {
        let to = message
            .recipients
            .first()
            .map_or("", |address| address.user());
        let plain = |sign: char| {
            if sign.is_ascii_alphanumeric() || "-_.".contains(sign) {
                sign
            } else {
                '_'
            }
        };
        let who: String = to.chars().map(plain).take(40).collect();
        let name = format!("{who}-{}.eml", &message.id[..12]);
        let path = self.folder.join(&name);
        let written = fs::create_dir_all(&self.folder)
            .and_then(|()| self.disk.write_whole(&path, &message.mail));
        let failed =
            |cause: io::Error| HandOverError::Closed(format!("{}: {cause}", path.display()));
        written.map_err(failed)?;
        Ok(path.display().to_string())
    }
}
