//! The files of a message: read and checked, under names of their own, zipped or encrypted where that is asked for.

use std::fs;
use std::io::{Cursor, Write};
use std::path::PathBuf;

use zip::write::SimpleFileOptions;
use zip::{AesMode, CompressionMethod, DateTime, ZipWriter};

use crate::{Deliverable, Password};
use numerant_engine::job::OversizePolicy;

/// How files are attached.
#[derive(Clone, Debug, Default)]
pub struct Attachments {
    /// Bytes of a message at most.
    pub max_message: Option<u64>,
    /// What to do with more.
    pub oversize: OversizePolicy,
    /// All files go into a zip archive that is encrypted (AES-256) with this password.
    pub password: Option<Password>,
}

/// A file that cannot be attached.
#[derive(Debug, thiserror::Error)]
pub enum AttachError {
    /// It cannot be read.
    #[error("{}: {cause}", .file.display())]
    Read {
        /// The file.
        file: PathBuf,
        /// Why.
        cause: std::io::Error,
    },
    /// It is not what the run has written.
    #[error("{}: it has changed since the run", .0.display())]
    Changed(PathBuf),
    /// The archive cannot be made.
    #[error("the archive cannot be made: {0}")]
    Zip(String),
}

/// The bytes that a file takes as an attachment: base64 in lines, with its headers.
pub(crate) fn encoded_size(bytes: u64) -> u64 {
    bytes.div_ceil(3) * 4 * 78 / 76 + 400
}

/// The bytes of an output, which must be those that the run has written.
fn read(output: &Deliverable) -> Result<Vec<u8>, AttachError> {
    let bytes = fs::read(&output.file).map_err(|cause| AttachError::Read {
        file: output.file.clone(),
        cause,
    })?;
    if blake3::hash(&bytes).to_hex().as_str() != output.blake3 {
        return Err(AttachError::Changed(output.file.clone()));
    }
    Ok(bytes)
}

/// The files of a message with their names.
pub(crate) fn read_all(files: &[Deliverable]) -> Result<Vec<(String, Vec<u8>)>, AttachError> {
    let named = names(files).into_iter().zip(files);
    named
        .map(|(name, output)| Ok((name, read(output)?)))
        .collect()
}

/// Names for the files of a message: the last part of the path, or all of it where two would have one name.
pub(crate) fn names(files: &[Deliverable]) -> Vec<String> {
    let name = |output: &Deliverable| safe(output.name());
    let is_alone = |wanted: &str| {
        files
            .iter()
            .filter(|output| name(output).eq_ignore_ascii_case(wanted))
            .count()
            == 1
    };
    let names = files.iter().map(|output| {
        let short = name(output);
        if is_alone(&short) {
            return short;
        }
        safe(&output.path.replace(['/', '\\'], "_"))
    });
    names.collect()
}

/// A name without what would be a path or a header of its own.
fn safe(name: &str) -> String {
    let kept = name.chars().map(|sign| {
        if sign.is_control() || "/\\\"".contains(sign) {
            '_'
        } else {
            sign
        }
    });
    let kept: String = kept.collect();
    let kept = kept.trim_start_matches('.').trim();
    if kept.is_empty() {
        "file".to_owned()
    } else {
        kept.to_owned()
    }
}

/// A zip archive with files, encrypted if there is a password.
pub(crate) fn archive(
    files: &[(String, Vec<u8>)],
    password: Option<&Password>,
) -> Result<Vec<u8>, AttachError> {
    let wrong = |error: &dyn std::fmt::Display| AttachError::Zip(error.to_string());
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in files {
        let options = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Deflated)
            .last_modified_time(DateTime::default());
        let options = match password {
            Some(password) => options.with_aes_encryption(AesMode::Aes256, &password.0),
            None => options,
        };
        zip.start_file(name.as_str(), options)
            .map_err(|error| wrong(&error))?;
        zip.write_all(bytes).map_err(|error| wrong(&error))?;
    }
    let written = zip.finish().map_err(|error| wrong(&error))?;
    Ok(written.into_inner())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_safe_and_differ() {
        let output = |path: &str| Deliverable {
            path: path.to_owned(),
            ..Deliverable::default()
        };
        let named =
            |paths: &[&str]| names(&paths.iter().map(|path| output(path)).collect::<Vec<_>>());
        assert_eq!(named(&["a/Ångkajen.csv"]), ["Ångkajen.csv"]);
        assert_eq!(named(&["a/x.csv", "b/X.csv"]), ["a_x.csv", "b_X.csv"]);
        assert_eq!(
            named(&["../..\\evil\r\nBcc: x.csv", ".."]),
            ["evil__Bcc: x.csv", "file"]
        );
    }

    #[test]
    fn archives_are_the_same_each_time_and_encrypted_on_demand() {
        let files = [("a.csv".to_owned(), b"id\n1\n".to_vec())];
        let plain = archive(&files, None).expect("an archive");
        assert_eq!(plain, archive(&files, None).expect("an archive"));
        let locked = archive(&files, Some(&Password("secret".to_owned()))).expect("an archive");
        let mut zip = zip::ZipArchive::new(Cursor::new(&locked)).expect("a zip");
        assert!(zip.by_index(0).is_err());
        let mut text = String::new();
        let mut file = zip.by_index_decrypt(0, b"secret").expect("decrypted");
        std::io::Read::read_to_string(&mut file, &mut text).expect("text");
        assert_eq!(text, "id\n1\n");
    }
}
