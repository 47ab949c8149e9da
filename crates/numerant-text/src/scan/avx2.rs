//! The classifier for x86-64 processors with AVX2: 32 bytes at a time.
#![allow(
    unsafe_code,
    reason = "vector instructions that the processor was asked for at run time"
)]

use std::arch::x86_64::{
    __m256i, _mm256_cmpeq_epi8, _mm256_loadu_si256, _mm256_min_epu8, _mm256_movemask_epi8,
    _mm256_or_si256, _mm256_set1_epi8, _mm256_setzero_si256,
};

use super::{Classifier, Index, Marks, Masks, Scanned, scan_blocks};

/// Scans with AVX2, or returns `None` where the processor lacks it.
pub(super) fn scan(text: &[u8], marks: Marks, index: &mut Index) -> Option<Scanned> {
    if !(is_x86_feature_detected!("avx2")
        && is_x86_feature_detected!("bmi1")
        && is_x86_feature_detected!("popcnt"))
    {
        return None;
    }
    // SAFETY: the processor has just said that it knows these instructions.
    Some(unsafe { scan_detected(text, marks, index) })
}

#[target_feature(enable = "avx2,bmi1,popcnt")]
fn scan_detected(text: &[u8], marks: Marks, index: &mut Index) -> Scanned {
    let mut classifier = Avx2 {
        delimiter: _mm256_set1_epi8(marks.delimiter.cast_signed()),
        terminator: _mm256_set1_epi8(marks.terminator.cast_signed()),
        // Where quotes are text, look for a second terminator and do not count it.
        quote: _mm256_set1_epi8(marks.quote.unwrap_or(marks.terminator).cast_signed()),
        quote_counts: if marks.quote.is_some() { !0 } else { 0 },
        least: _mm256_set1_epi8(-1),
        any: _mm256_setzero_si256(),
    };
    scan_blocks(&mut classifier, text, marks, index)
}

struct Avx2 {
    delimiter: __m256i,
    terminator: __m256i,
    quote: __m256i,
    quote_counts: u64,
    least: __m256i,
    any: __m256i,
}

impl Classifier for Avx2 {
    #[inline(always)]
    fn masks(&mut self, block: &[u8; 64]) -> Masks {
        // SAFETY: `Avx2` is only made in `scan_detected`, where the processor has AVX2, and both
        // loads stay inside the 64 bytes of `block`; they need no alignment.
        unsafe {
            let low = _mm256_loadu_si256(block.as_ptr().cast());
            let high = _mm256_loadu_si256(block.as_ptr().add(32).cast());
            self.least = _mm256_min_epu8(self.least, _mm256_min_epu8(low, high));
            self.any = _mm256_or_si256(self.any, _mm256_or_si256(low, high));
            Masks {
                quote: equal(low, high, self.quote) & self.quote_counts,
                delimiter: equal(low, high, self.delimiter),
                terminator: equal(low, high, self.terminator),
            }
        }
    }

    fn nul(&self) -> bool {
        // SAFETY: as in `masks`.
        unsafe { bits(_mm256_cmpeq_epi8(self.least, _mm256_setzero_si256())) != 0 }
    }

    fn high(&self) -> bool {
        // SAFETY: as in `masks`.
        unsafe { bits(self.any) != 0 }
    }
}

#[inline]
#[target_feature(enable = "avx2")]
fn equal(low: __m256i, high: __m256i, wanted: __m256i) -> u64 {
    u64::from(bits(_mm256_cmpeq_epi8(low, wanted)))
        | u64::from(bits(_mm256_cmpeq_epi8(high, wanted))) << 32
}

#[inline]
#[target_feature(enable = "avx2")]
fn bits(bytes: __m256i) -> u32 {
    _mm256_movemask_epi8(bytes).cast_unsigned()
}
