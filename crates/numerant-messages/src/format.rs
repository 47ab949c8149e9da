//! Messages in envelopes as formats of the registry.

use crate::options::OPTIONS;
use numerant_data::source::{ReadError, ReadProblem};
use numerant_format::{
    Capabilities, EncodeError, EncoderRequest, Format, FormatOption, NewEncoder, Source, Start,
    Weight,
};
use numerant_trees::TreeSource;

use super::{EDIFACT_EXTENSIONS, EdiTreeFormat, Standard, X12_EXTENSIONS, begins, begins_behind};

/// Bytes in which an interchange is looked for that does not begin a file.
const FRONT: usize = 1 << 16;

/// Messages of X12.
#[derive(Debug)]
pub struct X12Format;

/// Messages of UN/EDIFACT.
#[derive(Debug)]
pub struct EdifactFormat;

impl Format for X12Format {
    fn name(&self) -> &'static str {
        Standard::X12.name()
    }

    fn extensions(&self) -> &'static [&'static str] {
        X12_EXTENSIONS
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            has_own_columns: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Structure
    }

    fn options(&self) -> &'static [FormatOption] {
        &OPTIONS
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        open(start, Standard::X12)
    }

    fn encoder(&self, _request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        Err(EncodeError::OnlyMessages)
    }
}

impl Format for EdifactFormat {
    fn name(&self) -> &'static str {
        Standard::Edifact.name()
    }

    fn extensions(&self) -> &'static [&'static str] {
        EDIFACT_EXTENSIONS
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            has_own_columns: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Structure
    }

    fn options(&self) -> &'static [FormatOption] {
        &OPTIONS
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        open(start, Standard::Edifact)
    }

    fn encoder(&self, _request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        Err(EncodeError::OnlyMessages)
    }
}

fn open(start: &mut Start<'_>, standard: Standard) -> Result<Option<Box<dyn Source>>, ReadError> {
    let is_named = start.is_named(&[Standard::X12.name(), Standard::Edifact.name()]);
    if !is_named && !start.is_free() {
        return Ok(None);
    }
    match begins(start.bytes()) {
        Some(found) if found == standard => {
            TreeSource::open(start, EdiTreeFormat::of(standard)).map(Some)
        }
        None if is_named => match begins_behind(&start.peek(FRONT)?) {
            Some(bytes) => Err(start.error(ReadProblem::InFront { bytes })),
            None => Ok(None),
        },
        _ => Ok(None),
    }
}
