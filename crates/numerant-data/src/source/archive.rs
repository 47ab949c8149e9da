//! Zip archives (APPNOTE.TXT of the format's keepers) as folders whose files are sources.

use std::collections::HashSet;
use std::fmt;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use flate2::Crc;
use flate2::bufread::DeflateDecoder;
use zip::result::ZipError;
use zip::{CompressionMethod, ZipArchive};

use super::{ReadError, ReadProblem, SourcePath};
use crate::value::Size;

/// The extension of archives, without the dot.
pub(super) const EXTENSION: &str = "zip";

/// What unpacks to more than this, and to more than this times what it is packed in, was made to
/// fill memory or disk.
const HARMLESS: u64 = 256 << 20;
const RATIO: u64 = 300;

/// Bytes of a member's own header that have a place of their own, and those of them that say how
/// long the name and what follows it are.
const HEADER: usize = 30;
const LENGTHS: usize = 26;

/// Whether nobody has ever packed so much into so little without wanting to do harm.
pub fn is_bomb(unpacked: u64, packed: u64) -> bool {
    unpacked > HARMLESS && unpacked / RATIO > packed
}

/// A file in an archive.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct Member {
    /// The archive.
    pub(super) archive: PathBuf,
    /// Its path in the archive, with `/` between folders.
    pub(super) name: String,
    /// Where its own header begins.
    header: u64,
    packed: u64,
    unpacked: u64,
    crc: u32,
    deflated: bool,
}

impl fmt::Debug for Member {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.path().fmt(f)
    }
}

impl Member {
    /// Its path, as if the archive were a folder.
    pub(super) fn path(&self) -> PathBuf {
        self.archive.join(&self.name)
    }

    /// Its path in the archive, with `/` between folders.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Bytes that it takes in the archive.
    pub(crate) fn packed(&self) -> u64 {
        self.packed
    }

    /// The bytes that it takes in the archive, to be unpacked by [`Unpacked`].
    pub(super) fn open(&self) -> io::Result<io::Take<File>> {
        let mut file = File::open(&self.archive)?;
        file.seek(SeekFrom::Start(self.header))?;
        let mut header = [0; HEADER];
        file.read_exact(&mut header)?;
        if !header.starts_with(b"PK\x03\x04") {
            return Err(io::Error::other("the list of members points to no member"));
        }
        let length = |at: usize| i64::from(u16::from_le_bytes([header[at], header[at + 1]]));
        file.seek(SeekFrom::Current(length(LENGTHS) + length(LENGTHS + 2)))?;
        Ok(file.take(self.packed))
    }
}

/// Unpacks what [`Member::open`] gives, and holds it against what the archive says of it.
pub(super) struct Unpacked<R: Read> {
    inner: Packed<R>,
    crc: Crc,
    unpacked: u64,
    expected: (u64, u32),
}

enum Packed<R: Read> {
    Stored(R),
    Deflated(DeflateDecoder<io::BufReader<R>>),
}

impl<R: Read> Unpacked<R> {
    pub(super) fn new(member: &Member, inner: R) -> Self {
        let inner = if member.deflated {
            let buffered = io::BufReader::with_capacity(1 << 16, inner);
            Packed::Deflated(DeflateDecoder::new(buffered))
        } else {
            Packed::Stored(inner)
        };
        Self {
            inner,
            crc: Crc::new(),
            unpacked: 0,
            expected: (member.unpacked, member.crc),
        }
    }
}

impl<R: Read> Read for Unpacked<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if buffer.is_empty() {
            return Ok(0);
        }
        let read = match &mut self.inner {
            Packed::Stored(inner) => inner.read(buffer)?,
            Packed::Deflated(inner) => inner.read(buffer)?,
        };
        self.unpacked += read as u64;
        self.crc.update(&buffer[..read]);
        let (size, crc) = self.expected;
        if self.unpacked > size {
            return Err(io::Error::other("it is longer than the archive states"));
        }
        if read == 0 && self.unpacked < size {
            return Err(io::Error::other("it is shorter than the archive states"));
        }
        if read == 0 && self.crc.sum() != crc {
            return Err(io::Error::other("its check sum is another one"));
        }
        Ok(read)
    }
}

/// The files in an archive, in its order; `None` for what is no archive of files: another file, or
/// a workbook that is a package. Hidden files are left out.
///
/// # Errors
///
/// If it cannot be read, a member has a path that leads out of it, or it was made to fill the disk.
pub fn members(archive: &Path) -> Result<Option<Vec<Member>>, ReadError> {
    let failed = |problem| SourcePath::File(archive.to_owned()).error(problem);
    let io_failed = |error| failed(ReadProblem::Io(error));
    let mut file = File::open(archive).map_err(io_failed)?;
    let mut start = [0; 4];
    let found = file.read(&mut start).map_err(io_failed)?;
    if !matches!(&start[..found], b"PK\x03\x04" | b"PK\x05\x06") {
        return Ok(None);
    }
    let size = file.metadata().map_err(io_failed)?.len();
    let damaged = |what: String| failed(ReadProblem::Archive { what });
    let listed = ZipArchive::new(io::BufReader::new(file)).map_err(|error| match error {
        ZipError::Io(error) if error.raw_os_error().is_some() => io_failed(error),
        // What the package says is about the format's inside.
        _ => damaged("the list of its members, at its end, is missing or broken".to_owned()),
    })?;
    let package = ["[Content_Types].xml", "META-INF/manifest.xml"];
    if package
        .iter()
        .any(|name| listed.index_for_name(name).is_some())
    {
        return Ok(None);
    }
    if listed.has_duplicate_names() {
        return Err(damaged("two of its members have the same name".to_owned()));
    }
    let mut members = Vec::new();
    let mut names = HashSet::new();
    let mut all = 0_u64;
    for place in 0..listed.len() {
        let damaged_by = |error: ZipError| damaged(error.to_string());
        let entry = listed.by_index_data(place).map_err(damaged_by)?;
        let name = entry.name().map_err(damaged_by)?.replace('\\', "/");
        if leads_out(&name) {
            return Err(failed(ReadProblem::LeadsOut { name }));
        }
        let name = without_dots(&name);
        if entry.is_dir() || name.is_empty() || is_hidden(&name) {
            continue;
        }
        if !names.insert(name.clone()) {
            return Err(damaged(format!("two of its members are called '{name}'")));
        }
        let (packed, unpacked) = (entry.compressed_size(), entry.size());
        all = all.saturating_add(unpacked);
        if is_bomb(unpacked, packed) || is_bomb(all, size) {
            return Err(failed(ReadProblem::Bomb {
                part: name,
                packed: Size(packed.min(size)),
                unpacked: Size(unpacked.max(all)),
            }));
        }
        let how = match entry.compression() {
            CompressionMethod::Stored => Ok(false),
            CompressionMethod::Deflated => Ok(true),
            other => Err(format!("in a way that is not read ({other})")),
        };
        let how = match how {
            _ if entry.encrypted() => Err("with a password".to_owned()),
            _ if entry.is_symlink() => Err("as a link".to_owned()),
            how => how,
        };
        let deflated = how.map_err(|how| {
            let packed = ReadProblem::Packed {
                name: name.clone(),
                how,
            };
            failed(packed)
        })?;
        members.push(Member {
            archive: archive.to_owned(),
            name,
            header: entry.header_start(),
            packed,
            unpacked,
            crc: entry.crc32(),
            deflated,
        });
    }
    Ok(Some(members))
}

/// A path without the parts that lead nowhere.
fn without_dots(name: &str) -> String {
    let parts = name.split('/').filter(|part| !matches!(*part, "" | "."));
    parts.collect::<Vec<_>>().join("/")
}

/// Whether a path is none below the archive.
fn leads_out(name: &str) -> bool {
    name.starts_with('/')
        || name.contains('\0')
        || name.as_bytes().get(1) == Some(&b':')
        || name.split('/').any(|part| part == "..")
}

/// Whether a file or a folder above it is hidden, or was added by a desktop to keep notes of its
/// own.
fn is_hidden(name: &str) -> bool {
    name.split('/')
        .any(|part| part.starts_with('.') || part == "__MACOSX")
}
