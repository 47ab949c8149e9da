//! Columns that steps have added, and records verbatim next to their fields.

use crate::narrow::to_u32;

/// Records as they are in their document, one entry a record; none if they are not wanted.
#[derive(Clone, Debug, Default)]
pub struct Originals {
    /// The records, one after the other.
    pub bytes: Vec<u8>,
    /// Where each begins and ends.
    pub spans: Vec<(u32, u32)>,
}

/// The values of one computed column, as they are to be read: no quotes around them.
#[derive(Clone, Debug, Default)]
pub struct Computed {
    /// The values, one after the other.
    pub bytes: Vec<u8>,
    /// Where the value of each record begins and ends.
    pub spans: Vec<(u32, u32)>,
}

impl Computed {
    pub(crate) fn clear(&mut self) {
        self.bytes.clear();
        self.spans.clear();
    }

    /// Adds the value of the next record: what `write` appends.
    #[inline]
    pub fn push_with<E>(
        &mut self,
        write: impl FnOnce(&mut Vec<u8>) -> Result<(), E>,
    ) -> Result<(), E> {
        let start = to_u32(self.bytes.len());
        let written = write(&mut self.bytes);
        self.spans.push((start, to_u32(self.bytes.len())));
        written
    }

    /// Adds the value of the next record.
    #[inline]
    pub fn push(&mut self, value: &[u8]) {
        let start = to_u32(self.bytes.len());
        self.bytes.extend_from_slice(value);
        self.spans.push((start, to_u32(self.bytes.len())));
    }
}
