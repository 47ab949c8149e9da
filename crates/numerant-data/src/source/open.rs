//! Files, standard input, and the compressions they may come in.

use std::fmt;
use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use flate2::read::MultiGzDecoder;

use super::archive::{Member, Unpacked};
use super::{Place, ReadError, ReadProblem};
use crate::encoding::Malformed;

/// A file of so many bytes is in memory as soon as its start is.
#[cfg(target_os = "linux")]
const READ_AHEAD: u64 = 1 << 17;

/// How a file is compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Compression {
    /// gzip (RFC 1952), `.gz`.
    Gzip,
    /// Zstandard (RFC 8878), `.zst`.
    Zstd,
}

impl Compression {
    /// What its extension is, with the dot.
    pub fn ending(self) -> &'static str {
        match self {
            Self::Gzip => ".gz",
            Self::Zstd => ".zst",
        }
    }

    /// A name without the extension of a compression, in any case, and which that is.
    pub fn of_name(name: &str) -> (&str, Option<Self>) {
        for compression in [Self::Gzip, Self::Zstd] {
            let ending = compression.ending();
            if let Some(at) = name.len().checked_sub(ending.len())
                && name.is_char_boundary(at)
                && name[at..].eq_ignore_ascii_case(ending)
            {
                return (&name[..at], Some(compression));
            }
        }
        (name, None)
    }
}

/// What a source was called on the command line or in a job: a path, or `-` for standard input.
#[derive(
    Clone, Debug, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize, schemars::JsonSchema,
)]
#[serde(from = "PathBuf", into = "PathBuf")]
pub enum SourcePath {
    /// Standard input.
    Standard,
    /// A file.
    File(PathBuf),
    /// A file in an archive.
    Member(Arc<Member>),
}

impl From<PathBuf> for SourcePath {
    fn from(path: PathBuf) -> Self {
        if path.as_os_str() == "-" {
            Self::Standard
        } else {
            Self::File(path)
        }
    }
}

impl From<SourcePath> for PathBuf {
    fn from(path: SourcePath) -> Self {
        match path {
            SourcePath::Standard => Self::from("-"),
            SourcePath::File(path) => path,
            SourcePath::Member(member) => member.path(),
        }
    }
}

impl fmt::Display for SourcePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Standard => f.write_str("standard input"),
            Self::File(path) => path.display().fmt(f),
            Self::Member(member) => member.path().display().fmt(f),
        }
    }
}

impl SourcePath {
    /// The file's name without its folder, a compression's extension and its own extension.
    pub fn stem(&self) -> String {
        let (stem, _) = self.stem_and_extension();
        stem
    }

    /// The extension that tells the format, in lower case and without the dot; a compression's
    /// extension is skipped. Empty if there is none.
    pub fn extension(&self) -> String {
        let (_, extension) = self.stem_and_extension();
        extension
    }

    /// The name of the folder that the file is in; empty for standard input. An archive is a folder
    /// without the archive's extension.
    pub fn folder(&self) -> String {
        let parent = match self {
            Self::Standard => return String::new(),
            Self::Member(_) => self.parent(),
            Self::File(path) => match path.parent() {
                Some(parent) if !parent.as_os_str().is_empty() => parent.to_owned(),
                _ => PathBuf::from("."),
            },
        };
        let named = if parent.file_name().is_some() {
            Ok(parent)
        } else {
            parent.canonicalize()
        };
        named
            .ok()
            .and_then(|path| {
                path.file_name()
                    .map(|name| name.to_string_lossy().into_owned())
            })
            .unwrap_or_default()
    }

    /// The folder that the file is in, as it was named; empty for standard input. That of a file
    /// in an archive is below a folder next to the archive that has its name without the extension.
    pub fn parent(&self) -> PathBuf {
        match self {
            Self::Standard => PathBuf::new(),
            Self::File(path) => path.parent().unwrap_or(Path::new("")).to_owned(),
            Self::Member(member) => {
                let inside = Path::new(&member.name).parent();
                let folder = member.archive.with_extension("");
                match inside.filter(|inside| !inside.as_os_str().is_empty()) {
                    Some(inside) => folder.join(inside),
                    None => folder,
                }
            }
        }
    }

    /// The file on the disk: itself, or the archive that it is in; `None` for standard input.
    pub fn on_disk(&self) -> Option<&Path> {
        match self {
            Self::Standard => None,
            Self::File(path) => Some(path),
            Self::Member(member) => Some(&member.archive),
        }
    }

    /// Its size on the disk in bytes, if it is known.
    pub fn bytes_on_disk(&self) -> Option<u64> {
        match self {
            Self::Standard => None,
            Self::File(path) => path.metadata().ok().map(|found| found.len()),
            Self::Member(member) => Some(member.packed()),
        }
    }

    /// Its bytes as they are kept: out of an archive, and else not decompressed.
    pub fn bytes(&self) -> io::Result<Box<dyn Read + Send>> {
        Ok(match self {
            Self::Standard => Box::new(io::stdin()),
            Self::File(path) => Box::new(File::open(path)?),
            Self::Member(member) => Box::new(Unpacked::new(member, member.open()?)),
        })
    }

    /// Its name with all extensions, `stdin` for standard input.
    pub fn file_name(&self) -> String {
        let path = match self {
            Self::Standard => return "stdin".to_owned(),
            Self::File(path) => path,
            Self::Member(member) => Path::new(&member.name),
        };
        let name = path.file_name().unwrap_or_default();
        name.to_string_lossy().into_owned()
    }

    fn stem_and_extension(&self) -> (String, String) {
        let name = self.file_name();
        let plain = match Compression::of_name(&name) {
            ("", _) => &name,
            (plain, _) => plain,
        };
        match plain.rsplit_once('.') {
            Some((stem, extension)) if !stem.is_empty() => {
                (stem.to_owned(), extension.to_lowercase())
            }
            _ => (plain.to_owned(), String::new()),
        }
    }

    /// An error of this source, at no place in it.
    pub fn error(&self, problem: ReadProblem) -> ReadError {
        self.error_at(Place::default(), problem)
    }

    /// An error at a place of this source.
    pub fn error_at(&self, place: Place, problem: ReadProblem) -> ReadError {
        ReadError {
            source_name: self.to_string(),
            place,
            problem,
        }
    }

    /// The identity of the file that the path leads to, through links; `None` for standard input
    /// and for what is not there. That of a file in an archive is the archive's.
    pub fn identity(&self) -> Option<Identity> {
        self.on_disk().and_then(Identity::of)
    }
}

/// Writes a path as text, with a sign for what is not Unicode in it.
pub fn as_text<S: serde::Serializer>(path: &Path, out: S) -> Result<S::Ok, S::Error> {
    out.serialize_str(&path.to_string_lossy())
}

/// Writes paths as texts, with a sign for what is not Unicode in them.
pub fn as_texts<S: serde::Serializer>(paths: &[PathBuf], out: S) -> Result<S::Ok, S::Error> {
    out.collect_seq(paths.iter().map(|path| path.to_string_lossy()))
}

/// A path from the root without what does not lead anywhere, to tell two spellings of it for one.
/// Links are not followed, and nothing need be there.
pub fn plain(path: &Path) -> PathBuf {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let mut plain = PathBuf::new();
    for component in absolute.components() {
        match component {
            Component::CurDir => {}
            Component::ParentDir => {
                plain.pop();
            }
            other => plain.push(other),
        }
    }
    plain
}

/// The folder that all files are in or below, as they were named.
pub fn common_folder<'a>(sources: impl IntoIterator<Item = &'a SourcePath>) -> PathBuf {
    let mut folders = sources.into_iter().map(SourcePath::parent);
    let first = folders.next().unwrap_or_default();
    folders.fold(first, |shared, folder| {
        let pairs = shared.components().zip(folder.components());
        pairs
            .take_while(|(one, other)| one == other)
            .map(|(one, _)| one)
            .collect()
    })
}

/// Which file a path leads to, whatever its spelling and through whatever links.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Identity(#[cfg(unix)] (u64, u64), #[cfg(not(unix))] PathBuf);

impl Identity {
    /// The identity of what is at `path`; `None` if nothing is there.
    #[cfg(unix)]
    pub fn of(path: &Path) -> Option<Self> {
        use std::os::unix::fs::MetadataExt;
        path.metadata()
            .ok()
            .map(|found| Self((found.dev(), found.ino())))
    }

    /// The identity of what is at `path`; `None` if nothing is there.
    #[cfg(not(unix))]
    pub fn of(path: &Path) -> Option<Self> {
        path.canonicalize().ok().map(Self)
    }
}

/// An open source: its bytes, decompressed.
pub struct Input {
    /// What it was called.
    pub path: SourcePath,
    /// How it is compressed, if it is.
    pub compression: Option<&'static str>,
    /// Bytes on disk; `None` for standard input and what is no regular file.
    pub size: Option<u64>,
    reader: Box<dyn Read + Send>,
    taken: Arc<AtomicU64>,
}

impl fmt::Debug for Input {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Input")
            .field("path", &self.path)
            .finish_non_exhaustive()
    }
}

impl Input {
    /// Opens a source and decompresses gzip and Zstandard, detected from the first bytes.
    ///
    /// # Errors
    ///
    /// If it cannot be opened or read, or is a folder.
    pub fn open(path: &SourcePath) -> Result<Self, ReadError> {
        let failed = |error| path.error(ReadProblem::Io(error));
        let (reader, size): (Box<dyn Read + Send>, _) = match path {
            SourcePath::Standard => (Box::new(io::stdin()), None),
            SourcePath::File(name) => {
                let file = File::open(name).map_err(failed)?;
                let found = file.metadata().map_err(failed)?;
                if found.is_dir() {
                    return Err(path.error(ReadProblem::Folder));
                }
                #[cfg(target_os = "linux")]
                if found.len() > READ_AHEAD {
                    // Only a hint; a file that cannot be read ahead is read as it comes.
                    let advice = rustix::fs::Advice::Sequential;
                    let _ = rustix::fs::fadvise(&file, 0, None, advice);
                }
                let size = found.is_file().then_some(found.len());
                (Box::new(file), size)
            }
            SourcePath::Member(member) => {
                let taken = Arc::new(AtomicU64::new(0));
                let packed = Counted {
                    inner: member.open().map_err(failed)?,
                    taken: Arc::clone(&taken),
                };
                let unpacked = Unpacked::new(member, packed);
                let input = Self {
                    path: path.clone(),
                    compression: Some("zip"),
                    size: Some(member.packed()),
                    reader: Box::new(unpacked),
                    taken,
                };
                return input.decompressed();
            }
        };
        Self::from_reader(path.clone(), reader, size)
    }

    /// A source over any reader.
    ///
    /// # Errors
    ///
    /// If its first bytes cannot be read.
    pub fn from_reader(
        path: SourcePath,
        reader: Box<dyn Read + Send>,
        size: Option<u64>,
    ) -> Result<Self, ReadError> {
        let taken = Arc::new(AtomicU64::new(0));
        let counted = Counted {
            inner: reader,
            taken: Arc::clone(&taken),
        };
        let input = Self {
            path,
            compression: None,
            size,
            reader: Box::new(counted),
            taken,
        };
        input.decompressed()
    }

    /// The same source with gzip and Zstandard undone.
    fn decompressed(mut self) -> Result<Self, ReadError> {
        let start = self.peek(4)?;
        let path = self.path.clone();
        let failed = |error| path.error(ReadProblem::Io(error));
        if start.starts_with(b"\x1f\x8b") {
            self.wrap(|whole| MultiGzDecoder::new(io::BufReader::with_capacity(1 << 17, whole)));
            self.compression = Some("gzip");
        } else if start == b"\x28\xb5\x2f\xfd" {
            let whole = std::mem::replace(&mut self.reader, Box::new(io::empty()));
            self.reader = Box::new(zstd::Decoder::new(whole).map_err(failed)?);
            self.compression = Some("zstd");
        }
        Ok(self)
    }

    /// A counter of the bytes taken from the file so far, before they are decompressed.
    pub fn taken(&self) -> Arc<AtomicU64> {
        Arc::clone(&self.taken)
    }

    /// Fills `buffer` as far as the source reaches; fewer bytes only at its end.
    pub fn fill(&mut self, buffer: &mut [u8]) -> Result<usize, ReadError> {
        let mut filled = 0;
        while filled < buffer.len() {
            match self.reader.read(&mut buffer[filled..]) {
                Ok(0) => break,
                Ok(read) => filled += read,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(cause) => {
                    // What the system says has a number; what has none is the decompressor's.
                    let problem = match self.compression {
                        Some(compression)
                            if cause.raw_os_error().is_none() && !is_malformed(&cause) =>
                        {
                            ReadProblem::Compression { compression, cause }
                        }
                        _ => ReadProblem::Io(cause),
                    };
                    return Err(self.path.error(problem));
                }
            }
        }
        Ok(filled)
    }

    /// Looks at the first bytes of what is left, at most `most` of them.
    pub fn peek(&mut self, most: usize) -> Result<Vec<u8>, ReadError> {
        let mut start = vec![0; most];
        let filled = self.fill(&mut start)?;
        start.truncate(filled);
        let again = start.clone();
        self.wrap(|rest| io::Cursor::new(again).chain(rest));
        Ok(start)
    }

    /// Samples of about `size` bytes from `count` places after `from`, each from the start of a
    /// line; nothing of what can only be read in order.
    pub fn samples(&self, from: u64, count: u64, size: usize) -> Vec<u8> {
        let (SourcePath::File(path), Some(length), None) =
            (&self.path, self.size, self.compression)
        else {
            return Vec::new();
        };
        let mut samples = Vec::new();
        // A sample is a convenience: where it cannot be read, what is read in order shows why.
        let Ok(mut file) = File::open(path) else {
            return samples;
        };
        let step = length.saturating_sub(from) / count;
        let mut sample = vec![0; size];
        for place in 0..count {
            let at = from + place * step;
            if step == 0 || file.seek(io::SeekFrom::Start(at)).is_err() {
                break;
            }
            let Ok(read) = file.read(&mut sample) else {
                break;
            };
            let lines = &sample[..read];
            let begin = memchr::memchr2(b'\n', b'\r', lines).map_or(read, |end| end + 1);
            let end = memchr::memrchr2(b'\n', b'\r', lines).map_or(0, |end| end + 1);
            samples.extend_from_slice(lines.get(begin..end).unwrap_or_default());
        }
        samples
    }

    /// Puts another reader around the one there is.
    pub fn wrap<R: Read + Send + 'static>(
        &mut self,
        around: impl FnOnce(Box<dyn Read + Send>) -> R,
    ) {
        let inner = std::mem::replace(&mut self.reader, Box::new(io::empty()));
        self.reader = Box::new(around(inner));
    }
}

impl Read for Input {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.reader.read(buffer)
    }
}

/// Whether an error is about the text and not about the bytes that it came in.
fn is_malformed(error: &io::Error) -> bool {
    matches!(error.get_ref(), Some(cause) if cause.is::<Malformed>())
}

/// Counts the bytes that pass, so that progress can be shown while another thread reads.
struct Counted<R> {
    inner: R,
    taken: Arc<AtomicU64>,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.taken.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

impl Input {
    /// The file that it is, or a copy of what comes out of it, without a name in `temporary`.
    ///
    /// # Errors
    ///
    /// If it cannot be read, or the copy cannot be written.
    pub fn into_file(mut self, temporary: &Path) -> io::Result<File> {
        if let (SourcePath::File(path), Some(_), None) = (&self.path, self.size, self.compression) {
            return File::open(path);
        }
        let mut file = tempfile::tempfile_in(temporary)?;
        let mut buffer = vec![0; 1 << 17];
        loop {
            match self.read(&mut buffer) {
                Ok(0) => break,
                Ok(read) => file.write_all(&buffer[..read])?,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(file)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_sources() {
        let path = SourcePath::from(PathBuf::from("in/calls.2026.CSV.gz"));
        assert_eq!(
            (path.stem().as_str(), path.extension().as_str()),
            ("calls.2026", "csv")
        );
        assert_eq!(path.folder(), "in");
        let plain = SourcePath::from(PathBuf::from("calls"));
        assert_eq!(
            (plain.stem().as_str(), plain.extension().as_str()),
            ("calls", "")
        );
        let hidden = SourcePath::from(PathBuf::from(".calls"));
        assert_eq!(
            (hidden.stem().as_str(), hidden.extension().as_str()),
            (".calls", "")
        );
        assert_eq!(SourcePath::from(PathBuf::from("-")).stem(), "stdin");
    }
}
