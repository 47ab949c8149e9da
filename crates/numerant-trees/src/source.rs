//! An open document as a source of one table.

use numerant_data::source::{ReadError, ReadProblem};
use numerant_format::{Opening, RecordReader, Source, Start};

use crate::{OpenedTrees, TreeFormat, TreeReader};

/// A document, until its records are read.
pub struct TreeSource {
    opened: Option<Box<OpenedTrees>>,
    format_name: &'static str,
}

impl TreeSource {
    /// Opens a document that is in `format`.
    ///
    /// # Errors
    ///
    /// If its records cannot be found.
    pub fn open(
        start: &mut Start<'_>,
        format: &'static dyn TreeFormat,
    ) -> Result<Box<dyn Source>, ReadError> {
        let (options, memory, temporary) = (start.options, start.memory, start.temporary);
        let opened = OpenedTrees::open(start.take()?, format, options, memory, temporary)?;
        Ok(Box::new(Self {
            format_name: opened.format_name(),
            opened: Some(Box::new(opened)),
        }))
    }
}

impl Source for TreeSource {
    fn format_name(&self) -> &'static str {
        self.format_name
    }

    fn open_table(
        &mut self,
        _table: usize,
        opening: Opening<'_>,
    ) -> Result<Box<dyn RecordReader>, ReadError> {
        let Some(opened) = self.opened.take() else {
            let problem = ReadProblem::Io(std::io::Error::other("the document is already read"));
            return Err(numerant_data::source::SourcePath::Standard.error(problem));
        };
        let reader = TreeReader::open(opened, opening.batch_size, opening.scan)?;
        Ok(Box::new(reader))
    }
}
