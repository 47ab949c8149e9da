//! Names of segments, distinguished and looked up by a number.

use super::marks::Marks;
use super::segments::id_of;
use numerant_data::value::swar;

/// Whether a segment has a name, in capitals or not.
pub(super) fn is_called(id: &[u8], known: &str) -> bool {
    let small = || {
        let letters = id.iter().zip(known.bytes());
        id.len() == known.len()
            && letters.fold(true, |same, (a, b)| same & (*a == b.to_ascii_lowercase()))
    };
    id == known.as_bytes() || small()
}

/// What is known of short names, each in one of the places that its number leads to.
pub(super) struct Slots<T>(Box<[(u64, T); SLOTS]>);

const SLOTS: usize = 256;

/// No name has this number.
pub(super) const NO_KEY: u64 = u64::MAX;

impl<T: Copy + Default> Default for Slots<T> {
    fn default() -> Self {
        Self(Box::new([(NO_KEY, T::default()); SLOTS]))
    }
}

impl<T: Copy> Slots<T> {
    /// The two places that a name may be in.
    #[inline]
    fn places(key: u64) -> [usize; 2] {
        let place = (key.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 56) as usize;
        [place, place ^ 1]
    }

    /// What is known of a name.
    #[inline]
    pub(super) fn get(&self, key: u64) -> Option<T> {
        let [place, other] = Self::places(key);
        let (known, value) = self.0[place];
        if known == key && key != NO_KEY {
            return Some(value);
        }
        let (known, value) = self.0[other];
        (known == key && key != NO_KEY).then_some(value)
    }

    /// Remembers what is known of a name.
    pub(super) fn put(&mut self, key: u64, value: T) {
        let [place, other] = Self::places(key);
        let place = if self.0[place].0 == NO_KEY {
            place
        } else {
            other
        };
        self.0[place] = (key, value);
    }
}

/// The name of a segment as a number, if it has fewer than eight bytes.
#[inline]
pub(super) fn key_of(raw: &[u8], marks: &Marks) -> u64 {
    let Some(bytes) = raw.first_chunk::<8>() else {
        let id = id_of(raw, marks);
        let shift = |number: u64, byte: &u8| (number << 8) | u64::from(*byte);
        return id.iter().rev().fold(0, shift) | (id.len() as u64) << 56;
    };
    let word = u64::from_le_bytes(*bytes);
    let ends = swar::same(word, marks.element) | swar::same(word, marks.segment);
    if ends == 0 {
        return NO_KEY;
    }
    let length = swar::first(ends) as u64;
    word & ((1 << (8 * length)) - 1) | length << 56
}
