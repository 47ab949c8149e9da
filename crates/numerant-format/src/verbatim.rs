//! Records that are written as they are in their document.

use std::sync::{Arc, OnceLock};

use super::{EncodeError, RecordEncoder};
use crate::DocumentFrame;
use numerant_data::encoding::Encoding;
use numerant_data::record::Batch;

/// Writes records as they are in their document, with what is around them there.
#[derive(Debug)]
pub struct VerbatimEncoder {
    around: DocumentFrame,
    /// What is after the records, once the document is read.
    foot: Option<Arc<OnceLock<Vec<u8>>>>,
    /// Line ends in records are left out, which between the marks of JSON mean nothing.
    one_line: bool,
    /// The encoding of the output.
    encoding: Encoding,
}

impl VerbatimEncoder {
    /// Writes records between what is `around` them. What is after the last goes to `foot` when it is
    /// known; each record is put on one line if `one_line`.
    pub fn new(
        mut around: DocumentFrame,
        foot: Option<Arc<OnceLock<Vec<u8>>>>,
        one_line: bool,
    ) -> Self {
        let encoding = around.encoding.unwrap_or(Encoding::UTF_8);
        if !encoding.is_utf8() {
            let mark = encoding.byte_order_mark().unwrap_or_default();
            around.head = [mark, &encoded(&around.head, encoding)].concat();
            around.between = encoded(&around.between, encoding);
        }
        Self {
            around,
            foot,
            one_line,
            encoding,
        }
    }
}

/// Text of a document in the encoding that it came from, which has all of its characters.
fn encoded(text: &[u8], encoding: Encoding) -> Vec<u8> {
    let mut bytes = Vec::new();
    let _ = encoding.encode(&String::from_utf8_lossy(text), &mut bytes);
    bytes
}

impl RecordEncoder for VerbatimEncoder {
    fn begin(&self, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        out.extend_from_slice(&self.around.head);
        Ok(())
    }

    fn record(&self, batch: &Batch, record: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let text = batch.of_document(record);
        if !self.encoding.is_utf8() {
            let text = String::from_utf8_lossy(text);
            let failed = |character| EncodeError::Character {
                at: batch.at(record),
                character,
                encoding: self.encoding.name(),
            };
            return self.encoding.encode(&text, out).map_err(failed);
        }
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

    fn end(&self, _records: u64, out: &mut Vec<u8>) -> Result<(), EncodeError> {
        let known = self.foot.as_ref().and_then(|foot| foot.get());
        let foot = known.unwrap_or(&self.around.foot);
        if self.encoding.is_utf8() {
            out.extend_from_slice(foot);
        } else {
            out.extend_from_slice(&encoded(foot, self.encoding));
        }
        Ok(())
    }
}
