//! A package (a zip archive of parts) written anew with some of its parts changed: the others are
//! copied as they are packed.

use std::collections::HashMap;
use std::io::{self, BufWriter, Write};

use zip::result::ZipError;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive};

use super::package::{Package, slashed};
use numerant_data::disk::{Archive, OutFile};
use numerant_data::source::SharedFile;

/// A part of so many bytes or more is written in the wide form of zip archives, which not all spreadsheet
/// programs read, so that it is for parts that need it: 4 GiB, and some room for what does not compress.
pub(crate) const WIDE: u64 = (1 << 32) - (1 << 26);

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

/// The parts that are not as they were, by the names that they have in the package, with slashes.
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

    /// Writes the package to a file, its parts in their order.
    pub(crate) fn write(&self, package: &Package, to: OutFile) -> io::Result<()> {
        let mut archive: ZipArchive<SharedFile> = package.archive();
        let mut zip = Archive::new(to, 1 << 17);
        for place in 0..archive.len() {
            let written = match archive.name_for_index(place) {
                Some(name) => name?.into_owned(),
                None => continue,
            };
            let name = slashed(&written);
            zip.check()?;
            match self.changes.get(&name) {
                None if name != written => {
                    zip.raw_copy_file_rename(archive.by_index_raw(place)?, name.as_str())?;
                }
                None => zip.raw_copy_file(archive.by_index_raw(place)?)?,
                Some(change) => write_part(&mut zip, &name, change, WIDE)?,
            }
        }
        for (name, change) in &self.added {
            write_part(&mut zip, name, change, WIDE)?;
        }
        zip.finish(false)
    }
}

/// Writes a part, in the wide form from so many bytes on.
fn write_part(zip: &mut Archive, name: &str, change: &Change<'_>, wide: u64) -> io::Result<()> {
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
            zip.start_file(name, options)?;
            let (written, full) = written(zip, write, wide);
            if !full {
                return written;
            }
            zip.abort_file()?;
            zip.start_file(name, options.large_file(true))?;
            self::written(zip, write, u64::MAX).0
        }
        Change::Copied(package, part) => {
            let mut archive = package.archive();
            let place = package.place(part).ok_or(ZipError::FileNotFound)?;
            let part = archive.by_index_raw(place)?;
            Ok(zip.raw_copy_file_rename(part, name)?)
        }
    }
}

/// Writes a part of at most so many bytes, and says whether it has more.
fn written(zip: &mut Archive, write: &WritePart<'_>, most: u64) -> (io::Result<()>, bool) {
    /// Takes so many bytes.
    struct Limited<W> {
        inner: W,
        left: u64,
        full: bool,
    }

    impl<W: Write> Write for Limited<W> {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            let Some(left) = self.left.checked_sub(bytes.len() as u64) else {
                self.full = true;
                return Err(io::Error::other("more than the part may have"));
            };
            self.left = left;
            self.inner.write_all(bytes)?;
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            self.inner.flush()
        }
    }

    let mut limited = Limited {
        inner: &mut **zip,
        left: most,
        full: false,
    };
    let mut out = BufWriter::with_capacity(1 << 16, &mut limited);
    let done = write(&mut out).and_then(|()| out.flush());
    // What is left of a part that is too long is not written.
    let _ = out.into_parts();
    (done, limited.full)
}

#[cfg(test)]
mod tests {
    use std::fs::File;
    use std::io::Read;

    use super::*;
    use numerant_data::disk::Disk;

    #[test]
    fn only_parts_that_need_it_are_wide() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("package");
        let mut zip = Archive::new(Disk::default().create(&path).expect("created"), 99);
        let text = "Skarv ".repeat(100_000);
        for (name, wide) in [("first", 600_001), ("second", 300_000), ("third", u64::MAX)] {
            let write = |out: &mut dyn Write| {
                let mut pieces = text.as_bytes().chunks(999);
                pieces.try_for_each(|piece| out.write_all(piece))
            };
            let change = Change::Written(Box::new(write));
            write_part(&mut zip, name, &change, wide).expect("written");
        }
        zip.finish(false).expect("finished");
        let mut archive = ZipArchive::new(File::open(&path).expect("there")).expect("an archive");
        let bytes = std::fs::read(&path).expect("readable");
        for (name, version) in [("first", 20), ("second", 45), ("third", 20)] {
            let mut part = archive.by_name(name).expect("there");
            let start = usize::try_from(part.header_start()).expect("small");
            assert_eq!(bytes[start + 4], version, "{name}");
            let mut read = String::new();
            part.read_to_string(&mut read).expect("readable");
            assert!(read == text, "{name}");
        }
    }
}
