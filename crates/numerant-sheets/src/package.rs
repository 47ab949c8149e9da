//! Zip packages, which most workbooks are: their parts, unpacked on a thread next to the reader.

use std::collections::HashMap;
use std::io::{self, Read};
use std::sync::Arc;
use std::sync::mpsc::{self, Receiver};
use std::thread;

use quick_xml::events::Event;
use zip::ZipArchive;
use zip::result::ZipError;

use numerant_data::source::{ReadProblem, SharedFile, is_bomb};
use numerant_data::value::Size;
use numerant_markup::{Flow, Markup, unreadable};

/// Bytes that are unpacked at a time, and how many such blocks may wait.
const BLOCK: usize = 1 << 17;
const WAITING: usize = 4;

/// A package, cheap to clone.
#[derive(Clone)]
pub struct Package {
    archive: ZipArchive<SharedFile>,
    /// The places of parts by their names as [`folded`] has them, the first of each.
    places: Arc<HashMap<String, usize>>,
}

impl Package {
    /// Opens a package.
    pub fn open(file: SharedFile) -> Result<Self, ReadProblem> {
        match ZipArchive::new(file) {
            Ok(archive) => {
                let mut places = HashMap::with_capacity(archive.len());
                for place in 0..archive.len() {
                    if let Some(Ok(name)) = archive.name_for_index(place) {
                        places.entry(folded(&name)).or_insert(place);
                    }
                }
                Ok(Self {
                    archive,
                    places: Arc::new(places),
                })
            }
            Err(ZipError::Io(error)) if error.raw_os_error().is_some() => {
                Err(ReadProblem::Io(error))
            }
            Err(error) => Err(ReadProblem::Damaged {
                what: format!("the list of its parts cannot be read: {error}"),
            }),
        }
    }

    /// A reader of the archive itself.
    pub(super) fn archive(&self) -> ZipArchive<SharedFile> {
        self.archive.clone()
    }

    /// The names of all parts, as [`slashed`] has them.
    pub(crate) fn names(&self) -> Vec<String> {
        let names = (0..self.archive.len()).map(|place| self.archive.name_for_index(place));
        names
            .flatten()
            .flatten()
            .map(|name| slashed(&name))
            .collect()
    }

    /// A part's name in the case that it is written in, with slashes.
    pub(crate) fn spelled(&self, name: &str) -> Option<String> {
        let known = self.archive.name_for_index(self.place(name)?)?;
        known.ok().map(|name| slashed(&name))
    }

    /// Whether it has a part; names are the same in any case.
    pub(crate) fn place(&self, name: &str) -> Option<usize> {
        let exact = self.archive.index_for_name(name);
        exact.or_else(|| self.places.get(&folded(name)).copied())
    }

    /// All of a small part; `None` if it is not there.
    pub fn bytes(&self, name: &str, most: u64) -> Result<Option<Vec<u8>>, ReadProblem> {
        let Some(place) = self.place(name) else {
            return Ok(None);
        };
        let mut archive = self.archive.clone();
        let part = archive
            .by_index(place)
            .map_err(|error| broken(name, error))?;
        check_size(name, part.size(), part.compressed_size())?;
        let mut bytes = Vec::new();
        part.take(most + 1)
            .read_to_end(&mut bytes)
            .map_err(|error| unreadable(error, name))?;
        if bytes.len() as u64 > most {
            return Err(ReadProblem::Damaged {
                what: format!("{name} takes more than {}", Size(most)),
            });
        }
        Ok(Some(bytes))
    }

    /// A part as a stream that is unpacked on a thread of its own.
    pub(crate) fn stream(&self, name: &str) -> Result<Box<dyn Read + Send>, ReadProblem> {
        let Some(place) = self.place(name) else {
            return Err(ReadProblem::Damaged {
                what: format!("its part {name} is missing"),
            });
        };
        let mut archive = self.archive.clone();
        let (blocks, received) = mpsc::sync_channel(WAITING);
        let (give_back, empty) = mpsc::channel::<Vec<u8>>();
        let name = name.to_owned();
        let unpacker = thread::Builder::new().name("unpacker".to_owned());
        unpacker
            .spawn(move || {
                let send = |block: io::Result<Vec<u8>>| blocks.send(block).is_ok();
                let opened = archive
                    .by_index(place)
                    .map_err(|error| broken(&name, error));
                let mut part = match opened {
                    Ok(part) => part,
                    Err(problem) => {
                        send(Err(io::Error::other(problem)));
                        return;
                    }
                };
                let packed = part.compressed_size();
                let mut unpacked = part.size();
                let mut counted = 0;
                loop {
                    if let Err(problem) = check_size(&name, unpacked, packed) {
                        send(Err(io::Error::other(problem)));
                        return;
                    }
                    let mut block = empty.try_recv().unwrap_or_default();
                    block.clear();
                    let read = (&mut part).take(BLOCK as u64).read_to_end(&mut block);
                    counted += block.len() as u64;
                    unpacked = unpacked.max(counted);
                    let last = !matches!(read, Ok(1..));
                    // Where nobody listens any more there is nothing left to do.
                    if !send(read.map(|_| block)) || last {
                        return;
                    }
                }
            })
            .map_err(ReadProblem::Io)?;
        Ok(Box::new(Unpacked {
            received,
            give_back,
            block: Vec::new(),
            at: 0,
        }))
    }

    /// Hands the events of a part to what may fail in writing.
    pub(crate) fn visit(
        &self,
        name: &str,
        visit: &mut dyn FnMut(Event<'_>) -> io::Result<()>,
    ) -> io::Result<()> {
        let mut failed: Option<io::Error> = None;
        let read = self.markup(name).and_then(|mut markup| {
            markup.pull(|event| match visit(event) {
                Ok(()) => Ok(Flow::On),
                Err(error) => {
                    failed = Some(error);
                    Ok(Flow::Pause)
                }
            })
        });
        match failed {
            Some(error) => Err(error),
            None => read.map(drop).map_err(io::Error::other),
        }
    }

    /// A part as XML.
    pub(crate) fn markup(&self, name: &str) -> Result<Markup, ReadProblem> {
        Ok(Markup::new(self.stream(name)?, name))
    }
}

/// A name with slashes between folders, where some programs write backslashes (APPNOTE 4.4.17).
pub(super) fn slashed(name: &str) -> String {
    name.replace('\\', "/")
}

/// A name as parts are found by: names are the same in any case (ECMA-376, part 2).
fn folded(name: &str) -> String {
    slashed(name).to_lowercase()
}

fn broken(name: &str, error: ZipError) -> ReadProblem {
    match error {
        ZipError::Io(error) if error.raw_os_error().is_some() => ReadProblem::Io(error),
        ZipError::UnsupportedArchive(text) if text.contains("assword") => ReadProblem::Encrypted,
        error => ReadProblem::Damaged {
            what: format!("{name} cannot be unpacked: {error}"),
        },
    }
}

fn check_size(name: &str, unpacked: u64, packed: u64) -> Result<(), ReadProblem> {
    if is_bomb(unpacked, packed) {
        return Err(ReadProblem::Bomb {
            part: name.to_owned(),
            packed: Size(packed),
            unpacked: Size(unpacked),
        });
    }
    Ok(())
}

/// What the unpacking thread sends, as a reader.
struct Unpacked {
    received: Receiver<io::Result<Vec<u8>>>,
    give_back: mpsc::Sender<Vec<u8>>,
    block: Vec<u8>,
    at: usize,
}

impl Read for Unpacked {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at == self.block.len() {
            let next = match self.received.recv() {
                Ok(block) => block?,
                Err(_) => return Ok(0),
            };
            // The thread may be done and not want it back.
            let _ = self
                .give_back
                .send(std::mem::replace(&mut self.block, next));
            self.at = 0;
        }
        let count = buffer.len().min(self.block.len() - self.at);
        buffer[..count].copy_from_slice(&self.block[self.at..self.at + count]);
        self.at += count;
        Ok(count)
    }
}
