//! The start of a source, for formats to recognise what it is in.

use std::io::{self, Read};
use std::path::Path;
use std::sync::Arc;

use numerant_data::encoding::{Encoding, Transcoder, Utf32, Utf32Reader, mostly_utf16};
use numerant_data::source::{Input, ReadError, ReadProblem, SharedFile, SourcePath};

use crate::ReadOptions;
use crate::content::{other_content, other_format};

/// Bytes that every format may look at.
const HEAD: usize = 512;

/// The start of a source whose format is not known yet.
pub struct Start<'s> {
    /// The source.
    pub path: SourcePath,
    /// Bytes on disk, where they are known.
    pub size: Option<u64>,
    /// How it is compressed, if it is.
    pub compression: Option<&'static str>,
    /// How it is to be read.
    pub options: &'s ReadOptions,
    /// Bytes of the largest record that is taken, and of the texts that the sheets of a workbook share.
    pub memory: usize,
    /// A folder for copies of what can be read only once.
    pub temporary: &'s Path,
    /// All sheets of a workbook are read where none is chosen.
    pub all_sheets: bool,
    head: Vec<u8>,
    text: Option<Vec<u8>>,
    input: Content,
    said: Option<&'static str>,
    named: Option<&'static str>,
}

/// Where the bytes are.
enum Content {
    Input(Input),
    File(SharedFile),
    Taken,
}

impl<'s> Start<'s> {
    /// The start of an input. `said` is the name of the format that its user says, `named` that which
    /// the extension of its name represents.
    ///
    /// # Errors
    ///
    /// If it cannot be read.
    pub fn new(
        mut input: Input,
        options: &'s ReadOptions,
        (said, named): (Option<&'static str>, Option<&'static str>),
        memory: usize,
        temporary: &'s Path,
    ) -> Result<Self, ReadError> {
        Ok(Self {
            head: input.peek(HEAD)?,
            text: None,
            path: input.path.clone(),
            size: input.size,
            compression: input.compression,
            input: Content::Input(input),
            options,
            memory,
            temporary,
            all_sheets: false,
            said,
            named: said.or(named),
        })
    }

    /// The first bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.head
    }

    /// The first bytes as UTF-8, from the encoding that is stated or that shows.
    pub fn text(&mut self) -> &[u8] {
        let encoding = self.options.encoding.unwrap_or(Encoding::UTF_8);
        let head = &self.head;
        self.text.get_or_insert_with(|| decoded(head, encoding))
    }

    /// More of the first bytes, at most so many.
    ///
    /// # Errors
    ///
    /// If they cannot be read.
    pub fn peek(&mut self, bytes: usize) -> Result<Vec<u8>, ReadError> {
        match &mut self.input {
            Content::Input(input) => input.peek(bytes),
            Content::File(file) => {
                let failed = |error| self.path.error(ReadProblem::Io(error));
                let mut start = Vec::new();
                let reader = file.again().take(bytes as u64);
                { reader }.read_to_end(&mut start).map_err(failed)?;
                Ok(start)
            }
            Content::Taken => Ok(self.head.clone()),
        }
    }

    /// Whether its user or the extension of its name says one of these formats.
    pub fn is_named(&self, names: &[&str]) -> bool {
        self.named.is_some_and(|named| names.contains(&named))
    }

    /// Whether its user says one of these formats.
    pub fn is_said(&self, names: &[&str]) -> bool {
        self.said.is_some_and(|said| names.contains(&said))
    }

    /// Whether its user says no format.
    pub fn is_free(&self) -> bool {
        self.said.is_none()
    }

    /// The name of the format that its user or the extension of its name says.
    pub fn named(&self) -> Option<&'static str> {
        self.named
    }

    /// The source from its start, for the format that opens it.
    ///
    /// # Errors
    ///
    /// If it was made a file, and that cannot be read; or it was taken.
    pub fn take(&mut self) -> Result<Input, ReadError> {
        match std::mem::replace(&mut self.input, Content::Taken) {
            Content::Input(input) => Ok(input),
            Content::File(file) => Input::from_reader(self.path.clone(), Box::new(file), None),
            Content::Taken => {
                let taken = io::Error::other("its start was taken by another format");
                Err(self.path.error(ReadProblem::Io(taken)))
            }
        }
    }

    /// The source as a file, for formats that read it in any order.
    ///
    /// # Errors
    ///
    /// If it cannot be read, or a copy of it cannot be written.
    pub fn file(&mut self) -> Result<SharedFile, ReadError> {
        if let Content::File(file) = &self.input {
            return Ok(file.again());
        }
        let input = self.take()?;
        let failed = |error| self.path.error(ReadProblem::Io(error));
        let file = input.into_file(self.temporary).map_err(failed)?;
        let file = SharedFile::new(Arc::new(file)).map_err(failed)?;
        let again = file.again();
        self.input = Content::File(file);
        Ok(again)
    }

    /// An error of this source.
    pub fn error(&self, problem: ReadProblem) -> ReadError {
        self.path.error(problem)
    }

    /// That it is not in a format that its user or name says.
    pub fn refused(&mut self, format: &'static str, is_workbook: bool) -> ReadError {
        if self.text().is_empty() {
            return self.error(ReadProblem::Empty);
        }
        let found = other_content(self.text()).unwrap_or("text");
        self.error(other_format(format, is_workbook, found))
    }
}

/// The start of a text as UTF-8, so that what it begins with shows.
fn decoded(start: &[u8], said: Encoding) -> Vec<u8> {
    let mut text = Vec::new();
    if let Some(order) = Utf32::detect(start) {
        let whole = &start[..start.len() / 4 * 4];
        // What is wrong with the text is reported when it is read.
        let _ = Utf32Reader::new(whole, order).read_to_end(&mut text);
        return text;
    }
    let utf16 = match start {
        [0xff, 0xfe, ..] => Some(Encoding::UTF_16LE),
        [0xfe, 0xff, ..] => Some(Encoding::UTF_16BE),
        _ => mostly_utf16(start),
    };
    let encoding = utf16.unwrap_or(said);
    if encoding.is_utf8() {
        return start.to_vec();
    }
    // A character that is cut off at the end does not matter.
    let _ = Transcoder::new(&start[..start.len() / 4 * 4], encoding).read_to_end(&mut text);
    text
}
