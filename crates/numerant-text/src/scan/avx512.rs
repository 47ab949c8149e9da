//! The classifier for x86-64 processors with AVX-512: 64 bytes at a time.
#![allow(
    unsafe_code,
    reason = "vector instructions that the processor was asked for at run time"
)]

use std::arch::x86_64::{
    __m512i, _mm512_add_epi32, _mm512_cmpeq_epi8_mask, _mm512_loadu_si512,
    _mm512_maskz_compress_epi32, _mm512_min_epu8, _mm512_movepi8_mask, _mm512_or_si512,
    _mm512_set1_epi8, _mm512_set1_epi32, _mm512_setr_epi32, _mm512_setzero_si512,
    _mm512_storeu_si512,
};

use super::{Classifier, Index, Marks, Masks, Scanned, WINDOW, scan_blocks};

/// Scans with AVX-512, or returns `None` where the processor lacks it.
pub(super) fn scan(text: &[u8], marks: Marks, index: &mut Index) -> Option<Scanned> {
    if !(is_x86_feature_detected!("avx512f")
        && is_x86_feature_detected!("avx512bw")
        && is_x86_feature_detected!("bmi1")
        && is_x86_feature_detected!("bmi2")
        && is_x86_feature_detected!("popcnt"))
    {
        return None;
    }
    // SAFETY: the processor has just said that it knows these instructions.
    Some(unsafe { scan_detected(text, marks, index) })
}

#[target_feature(enable = "avx512f,avx512bw,bmi1,bmi2,popcnt")]
fn scan_detected(text: &[u8], marks: Marks, index: &mut Index) -> Scanned {
    let mut classifier = Avx512 {
        delimiter: _mm512_set1_epi8(marks.delimiter.cast_signed()),
        terminator: _mm512_set1_epi8(marks.terminator.cast_signed()),
        // Where quotes are text, look for a second terminator and do not count it.
        quote: _mm512_set1_epi8(marks.quote.unwrap_or(marks.terminator).cast_signed()),
        quote_counts: if marks.quote.is_some() { !0 } else { 0 },
        places: _mm512_setr_epi32(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15),
        least: _mm512_set1_epi8(-1),
        any: _mm512_setzero_si512(),
    };
    scan_blocks(&mut classifier, text, marks, index)
}

struct Avx512 {
    delimiter: __m512i,
    terminator: __m512i,
    quote: __m512i,
    quote_counts: u64,
    places: __m512i,
    least: __m512i,
    any: __m512i,
}

impl Classifier for Avx512 {
    #[inline(always)]
    fn masks(&mut self, block: &[u8; 64]) -> Masks {
        // SAFETY: `Avx512` is only made in `scan_detected`, where the processor has AVX-512, and
        // the load stays inside the 64 bytes of `block`; it needs no alignment.
        unsafe {
            let bytes = _mm512_loadu_si512(block.as_ptr().cast());
            self.least = _mm512_min_epu8(self.least, bytes);
            self.any = _mm512_or_si512(self.any, bytes);
            Masks {
                quote: _mm512_cmpeq_epi8_mask(bytes, self.quote) & self.quote_counts,
                delimiter: _mm512_cmpeq_epi8_mask(bytes, self.delimiter),
                terminator: _mm512_cmpeq_epi8_mask(bytes, self.terminator),
            }
        }
    }

    #[inline(always)]
    fn positions(&self, base: u32, bits: u64, window: &mut [u32; WINDOW]) {
        // SAFETY: as in `masks`. `slot` counts the bits so far, 48 at most before the last store,
        // and 16 numbers are stored from there, so every store ends inside the 80 of `window`.
        unsafe {
            let step = _mm512_set1_epi32(16);
            let mut all = _mm512_add_epi32(self.places, _mm512_set1_epi32(base.cast_signed()));
            let mut slot = 0;
            for quarter in 0..4 {
                let mask = (bits >> (quarter * 16)) as u16;
                let chosen = _mm512_maskz_compress_epi32(mask, all);
                _mm512_storeu_si512(window.as_mut_ptr().add(slot).cast(), chosen);
                slot += mask.count_ones() as usize;
                all = _mm512_add_epi32(all, step);
            }
        }
    }

    fn nul(&self) -> bool {
        // SAFETY: as in `masks`.
        unsafe { _mm512_cmpeq_epi8_mask(self.least, _mm512_setzero_si512()) != 0 }
    }

    fn high(&self) -> bool {
        // SAFETY: as in `masks`.
        unsafe { _mm512_movepi8_mask(self.any) != 0 }
    }
}
