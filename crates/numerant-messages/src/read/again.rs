//! Files of messages that are read once more, as outputs need what is around their records.

use std::fs::File;
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex};

use super::EdiTrees;
use crate::frame::Source;
use numerant_data::source::{Input, SharedFile, SourcePath};

impl Source {
    /// Another file of messages, read once more.
    pub(crate) fn other(&self, path: &Path) -> io::Result<Arc<Self>> {
        let failed = |error: numerant_data::source::ReadError| io::Error::other(error.to_string());
        let source = Self {
            path: SourcePath::File(path.to_owned()),
            name: Self::name_of(Some(path)),
            again: Some(path.to_owned()),
            file: SharedFile::new(Arc::new(File::open(path)?))?,
            tails: Mutex::new(Vec::new()),
            layouts: self.layouts.clone(),
            ends: Mutex::default(),
            ..*self
        };
        let input = Input::open(&source.path).map_err(failed)?;
        EdiTrees::of(source, input).gone_through().map_err(failed)
    }
}
