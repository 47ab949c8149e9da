//! Much memory for bytes that are appended and read again in another order.

use std::io;

use memmap2::{MmapMut, MmapOptions};

/// Bytes that are read again all over the place. They lie in large pages where the system has
/// them to give, without which finding their pages would take longer than moving them.
#[derive(Debug, Default)]
pub struct Arena {
    map: Option<MmapMut>,
    filled: usize,
}

impl Arena {
    /// Room for `size` bytes in all; memory is taken as it is filled.
    #[inline]
    pub fn reserve(&mut self, size: usize) -> io::Result<()> {
        if self.map.as_ref().is_none_or(|map| map.len() < size) {
            let mut map = MmapOptions::new().len(size).map_anon()?;
            #[cfg(target_os = "linux")]
            {
                // Where there are none the small ones do.
                let _ = map.advise(memmap2::Advice::HugePage);
            }
            map[..self.filled].copy_from_slice(self.as_slice());
            self.map = Some(map);
        }
        Ok(())
    }

    /// Appends bytes, for which room was reserved.
    #[inline]
    pub fn push(&mut self, bytes: &[u8]) {
        if let Some(map) = &mut self.map {
            map[self.filled..self.filled + bytes.len()].copy_from_slice(bytes);
            self.filled += bytes.len();
        }
    }

    /// Bytes that are in it.
    #[inline]
    pub fn len(&self) -> usize {
        self.filled
    }

    /// Empties it and keeps its memory.
    #[inline]
    pub fn clear(&mut self) {
        self.filled = 0;
    }

    /// Whether no room was reserved yet.
    #[inline]
    pub fn is_unmapped(&self) -> bool {
        self.map.is_none()
    }

    /// What was appended.
    #[inline]
    pub fn as_slice(&self) -> &[u8] {
        self.map.as_ref().map_or(&[], |map| &map[..self.filled])
    }
}
