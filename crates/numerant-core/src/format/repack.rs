//! A package (a zip archive of parts) written anew with some of its parts changed: the others are
//! copied as they are packed.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::Path;

use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use super::package::Package;
use crate::source::SharedFile;

/// Writes the text of a part.
pub(crate) type WritePart<'a> = Box<dyn Fn(&mut dyn Write) -> io::Result<()> + Send + 'a>;

/// What becomes of a part.
pub(crate) enum Change<'a> {
    /// It is left out.
    Dropped,
    /// It is these bytes.
    Bytes(Vec<u8>),
    /// It is what is written.
    Written(WritePart<'a>),
    /// It is a part of another package, of this name there, as it is packed.
    Copied(Package, String),
}

/// The parts that are not as they were, by the names that they have in the package.
#[derive(Default)]
pub(crate) struct Repack<'a> {
    changes: HashMap<String, Change<'a>>,
    added: Vec<(String, Change<'a>)>,
}

impl<'a> Repack<'a> {
    /// Changes a part that is there.
    pub(crate) fn change(&mut self, name: impl Into<String>, change: Change<'a>) {
        self.changes.insert(name.into(), change);
    }

    /// Adds a part that is not there.
    pub(crate) fn add(&mut self, name: impl Into<String>, change: Change<'a>) {
        self.added.push((name.into(), change));
    }

    /// Writes the package to a new file, its parts in their order.
    pub(crate) fn write(&self, package: &Package, to: &Path) -> io::Result<()> {
        let mut archive: ZipArchive<SharedFile> = package.archive();
        let out = BufWriter::with_capacity(1 << 17, File::create_new(to)?);
        let mut zip = ZipWriter::new(out);
        for place in 0..archive.len() {
            let name = match archive.name_for_index(place) {
                Some(name) => name?.into_owned(),
                None => continue,
            };
            match self.changes.get(&name) {
                None => zip.raw_copy_file(archive.by_index_raw(place)?)?,
                Some(change) => write_part(&mut zip, &name, change)?,
            }
        }
        for (name, change) in &self.added {
            write_part(&mut zip, name, change)?;
        }
        let out = zip.finish()?;
        out.into_inner()
            .map(drop)
            .map_err(io::IntoInnerError::into_error)
    }
}

fn write_part(
    zip: &mut ZipWriter<BufWriter<File>>,
    name: &str,
    change: &Change<'_>,
) -> io::Result<()> {
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .last_modified_time(zip::DateTime::default());
    match change {
        Change::Dropped => Ok(()),
        Change::Bytes(bytes) => {
            zip.start_file(name, options)?;
            zip.write_all(bytes)
        }
        Change::Written(write) => {
            zip.start_file(name, options.large_file(true))?;
            let mut out = BufWriter::with_capacity(1 << 16, &mut *zip);
            write(&mut out)?;
            out.flush()
        }
        Change::Copied(package, part) => {
            let mut archive = package.archive();
            let part = archive.by_name_raw(part.as_bytes())?;
            Ok(zip.raw_copy_file_rename(part, name)?)
        }
    }
}
