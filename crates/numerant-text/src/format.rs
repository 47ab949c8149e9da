//! Delimited text as a format of the registry.

use numerant_data::source::{Input, ReadError, ReadProblem};
use numerant_format::{
    Capabilities, EncodeError, EncoderRequest, Format, NewEncoder, Opening, RecordReader, Source,
    Start, TEXT_EXTENSIONS, Weight,
};

use crate::{DelimitedEncoder, DelimitedReader, NAME};

/// Delimited text, which everything is that is in no other format.
#[derive(Debug)]
pub struct DelimitedFormat;

impl Format for DelimitedFormat {
    fn name(&self) -> &'static str {
        NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        TEXT_EXTENSIONS
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            has_dialect: true,
            is_line_by_line: true,
            ..Capabilities::default()
        }
    }

    fn weight(&self) -> Weight {
        Weight::Fallback
    }

    // What is in no other format is looked at last, and then by name.
    fn open(&self, _start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        Ok(None)
    }

    fn open_named(&self, start: &mut Start<'_>) -> Result<Box<dyn Source>, ReadError> {
        Ok(Box::new(TextSource(Some(start.take()?))))
    }

    fn encoder(&self, request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        let fields = request.fields;
        Ok(NewEncoder::of(DelimitedEncoder::new(
            fields.dialect,
            request.out,
            fields.selection,
            fields.width,
            fields.header,
            fields.keep_line_ends,
        )))
    }
}

/// An open text, until it is read.
struct TextSource(Option<Input>);

impl Source for TextSource {
    fn format_name(&self) -> &'static str {
        NAME
    }

    fn open_table(
        &mut self,
        _table: usize,
        opening: Opening<'_>,
    ) -> Result<Box<dyn RecordReader>, ReadError> {
        let Some(input) = self.0.take() else {
            let problem = ReadProblem::Io(std::io::Error::other("the text is already read"));
            return Err(numerant_data::source::SourcePath::Standard.error(problem));
        };
        let Opening {
            options,
            batch_size,
            largest_record,
            ..
        } = opening;
        let reader = DelimitedReader::open(input, options, batch_size, largest_record)?;
        Ok(Box::new(reader))
    }
}
