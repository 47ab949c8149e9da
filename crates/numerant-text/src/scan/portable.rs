//! The classifier for every processor: eight bytes at a time in a `u64`.

use super::{Classifier, Marks, Masks};

const ONES: u64 = 0x0101_0101_0101_0101;
const LOW_SEVEN: u64 = 0x7f7f_7f7f_7f7f_7f7f;
const HIGH_BITS: u64 = 0x8080_8080_8080_8080;

pub(super) struct Portable {
    marks: Marks,
    nul: u64,
    high: u64,
}

impl Portable {
    pub(super) fn new(marks: Marks) -> Self {
        Self {
            marks,
            nul: 0,
            high: 0,
        }
    }
}

impl Classifier for Portable {
    #[inline(always)]
    fn masks(&mut self, block: &[u8; 64]) -> Masks {
        let mut masks = Masks {
            quote: 0,
            delimiter: 0,
            terminator: 0,
        };
        for (place, bytes) in block.as_chunks::<8>().0.iter().enumerate() {
            let word = u64::from_le_bytes(*bytes);
            let shift = place * 8;
            masks.delimiter |= gather(equal(word, self.marks.delimiter)) << shift;
            masks.terminator |= gather(equal(word, self.marks.terminator)) << shift;
            if let Some(quote) = self.marks.quote {
                masks.quote |= gather(equal(word, quote)) << shift;
            }
            self.nul |= equal(word, 0);
            self.high |= word & HIGH_BITS;
        }
        masks
    }

    fn nul(&self) -> bool {
        self.nul != 0
    }

    fn high(&self) -> bool {
        self.high != 0
    }
}

/// The high bit of each byte of `word` that equals `byte`, and no other bit.
#[inline(always)]
fn equal(word: u64, byte: u8) -> u64 {
    let difference = word ^ (ONES * u64::from(byte));
    !(((difference & LOW_SEVEN) + LOW_SEVEN) | difference | LOW_SEVEN)
}

/// Brings the high bits of the eight bytes together in the lowest eight bits.
#[inline(always)]
fn gather(high_bits: u64) -> u64 {
    (high_bits >> 7).wrapping_mul(0x0102_0408_1020_4080) >> 56
}
