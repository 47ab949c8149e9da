//! Drafts: a file for each message, to be looked at and sent by any mail program.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::PathBuf;

use super::{Channel, Composed, HandOverError, Wants};

/// Writes each message as a file `.eml` (RFC 5322) into a folder.
#[derive(Debug)]
pub struct Drafts {
    folder: PathBuf,
}

impl Drafts {
    /// Drafts in a folder, which is made when the first is written.
    pub fn new(folder: PathBuf) -> Self {
        Self { folder }
    }
}

impl Channel for Drafts {
    fn name(&self) -> &'static str {
        "drafts"
    }

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
            .and_then(|()| write_whole(&self.folder, &name, &message.mail));
        let failed =
            |cause: io::Error| HandOverError::Closed(format!("{}: {cause}", path.display()));
        written.map_err(failed)?;
        Ok(path.display().to_string())
    }
}

/// Writes a file that is there as a whole or not at all.
pub(super) fn write_whole(folder: &std::path::Path, name: &str, bytes: &[u8]) -> io::Result<()> {
    let staged = folder.join(format!(".{name}.{}", std::process::id()));
    let written = File::create(&staged).and_then(|mut file| {
        file.write_all(bytes)?;
        file.sync_all()
    });
    let moved = written.and_then(|()| fs::rename(&staged, folder.join(name)));
    if moved.is_err() {
        // What is half-written is of no use.
        let _ = fs::remove_file(&staged);
    }
    moved
}
