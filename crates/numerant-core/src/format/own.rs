//! Records that are written as they stand in their document.

use std::sync::{Arc, OnceLock};

use super::trees::Around;
use super::{EncodeError, RecordEncoder};
use crate::record::Batch;

/// Writes records as they stand in their document, with what is around them there.
#[derive(Debug)]
pub(crate) struct OwnEncoder {
    around: Around,
    /// What stands behind the records, once the document is read.
    foot: Option<Arc<OnceLock<Vec<u8>>>>,
    /// Line ends in records are left out, which between the marks of JSON mean nothing.
    one_line: bool,
}

impl OwnEncoder {
    pub(crate) fn new(
        around: Around,
        foot: Option<Arc<OnceLock<Vec<u8>>>>,
        one_line: bool,
    ) -> Self {
        Self {
            around,
            foot,
            one_line,
        }
    }
}

impl RecordEncoder for OwnEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        out.extend_from_slice(&self.around.head);
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let text = batch.own(record);
        if self.one_line && memchr::memchr2(b'\n', b'\r', text).is_some() {
            out.extend(text.iter().filter(|byte| !matches!(byte, b'\n' | b'\r')));
        } else {
            out.extend_from_slice(text);
        }
        Ok(())
    }

    fn moves_raw(&self) -> bool {
        false
    }

    fn between(&self) -> &[u8] {
        &self.around.between
    }

    fn end(&self, _records: u64, out: &mut Vec<u8>) {
        let known = self.foot.as_ref().and_then(|foot| foot.get());
        out.extend_from_slice(known.unwrap_or(&self.around.foot));
    }
}
