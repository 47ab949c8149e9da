//! Finds where the fields and records of delimited text end.
//!
//! The text is looked at 64 bytes at a time. A [`Classifier`] says which of them are quotes,
//! delimiters and terminators, as bits of a `u64`; the parity of the quotes says which of those
//! stand inside quoted fields. Text after RFC 4180 never needs more than that.
//!
//! Text that bends the RFC (a quote in the middle of a field, text after a closing quote) is
//! noticed by two checks on the same bits, and the one record it stands in is taken again by the
//! byte-by-byte machine in [`careful`].
//!
//! # To whoever changes this
//!
//! * [`careful`] is the definition of what a record is; the blocks are only a fast way to the
//!   same answer. `tests` holds each classifier against it on generated text. Change both.
//! * The blocks may start anywhere: after a careful record they go on at the byte behind it. So a
//!   block knows of what came before only through [`State`].
//! * `ends` is written eight at a time, past what is needed; `filled` says how many are real.

mod careful;
mod portable;
#[cfg(target_arch = "x86_64")]
mod avx2;

use careful::{Careful, careful_record};

/// The three bytes that give delimited text its structure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Marks {
    /// Stands between two fields of a record.
    pub(crate) delimiter: u8,
    /// Encloses fields that hold delimiters, terminators or quotes; `None` where quotes are text.
    pub(crate) quote: Option<u8>,
    /// The last byte of a record: `\n` (a `\r` before it belongs to the line end), or `\r`.
    pub(crate) terminator: u8,
}

/// Where fields and records end, as positions in the text that was scanned.
#[derive(Debug, Default)]
pub(crate) struct Index {
    ends: Vec<u32>,
    filled: usize,
    firsts: Vec<u32>,
}

impl Index {
    /// The position of the delimiter or terminator behind each field, of complete records only.
    pub(crate) fn ends(&self) -> &[u32] {
        &self.ends[..self.filled]
    }

    /// For each complete record, how many of `ends` lie before and in it.
    pub(crate) fn firsts(&self) -> &[u32] {
        &self.firsts
    }

    /// Swaps the field ends with another vector, so that a batch can own them without a copy.
    pub(crate) fn swap_ends(&mut self, other: &mut Vec<u32>) {
        self.ends.truncate(self.filled);
        std::mem::swap(&mut self.ends, other);
        self.filled = 0;
    }

    fn clear(&mut self) {
        self.filled = 0;
        self.firsts.clear();
    }

    fn record_start(&self) -> usize {
        self.filled.checked_sub(1).map_or(0, |last| self.ends[last] as usize + 1)
    }

    #[inline(always)]
    fn push_block(&mut self, position: usize, separators: u64, terminators: u64) {
        let mut left = terminators;
        while left != 0 {
            let up_to = left ^ (left - 1);
            let fields = (separators & up_to).count_ones() as usize;
            self.firsts.push((self.filled + fields) as u32);
            left &= left - 1;
        }
        if self.ends.len() < self.filled + 64 {
            self.grow();
        }
        let count = separators.count_ones() as usize;
        let window: &mut [u32; 64] =
            (&mut self.ends[self.filled..self.filled + 64]).try_into().expect("64 of 64");
        let mut left = separators;
        for group in 0..8 {
            for slot in 0..8 {
                window[group * 8 + slot] = position as u32 + left.trailing_zeros();
                left &= left.wrapping_sub(1);
            }
            if left == 0 {
                break;
            }
        }
        self.filled += count;
    }

    #[cold]
    fn grow(&mut self) {
        let wanted = (self.ends.len() * 2).max(self.filled + 4096);
        self.ends.resize(wanted, 0);
    }

    fn push_record(&mut self, ends: &[u32]) {
        if self.ends.len() < self.filled + ends.len() {
            self.ends.resize(self.filled + ends.len() + 4096, 0);
        }
        self.ends[self.filled..self.filled + ends.len()].copy_from_slice(ends);
        self.filled += ends.len();
        self.firsts.push(self.filled as u32);
    }

    /// Forgets the fields of the record that is not complete yet.
    fn drop_open_record(&mut self) {
        self.filled = self.firsts.last().map_or(0, |&fields| fields as usize);
    }
}

/// What a scan found besides the positions.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Scanned {
    /// Bytes of the text that belong to complete records.
    pub(crate) consumed: usize,
    /// Terminators in those bytes, inside quotes or not: the number of lines.
    pub(crate) lines: u64,
    /// Whether those bytes hold a NUL; true as well where one was seen behind `consumed`.
    pub(crate) nul: bool,
    /// Whether those bytes leave ASCII; true as well where one was seen behind `consumed`.
    pub(crate) high: bool,
    /// Whether any field in those bytes is quoted.
    pub(crate) quoted: bool,
    /// Fields in which a quote stands where RFC 4180 has none, and which were read as they stand.
    pub(crate) stray_quotes: u64,
    /// Where a quoted field opened that runs over a line end and then ends in the middle of text.
    pub(crate) misplaced_quote: Option<usize>,
}

/// The bits of a block: bit `i` stands for its byte `i`.
#[derive(Clone, Copy)]
struct Masks {
    quote: u64,
    delimiter: u64,
    terminator: u64,
}

/// Classifies 64 bytes at a time, and remembers whether any was NUL or outside ASCII.
trait Classifier {
    fn masks(&mut self, block: &[u8; 64]) -> Masks;
    fn nul(&self) -> bool;
    fn high(&self) -> bool;
}

/// What a block has to know of the bytes before it, each in bit 0 or in all bits.
struct State {
    inside: u64,
    at_field_start: u64,
    after_close: u64,
}

const RECORD_START: State = State { inside: 0, at_field_start: 1, after_close: 0 };

/// Scans `text` and lays its complete records down in `index`.
///
/// `text` must begin at the start of a record and be shorter than 4 GiB. A record counts as
/// complete when its terminator is there, so at the end of a source the caller adds a missing one.
pub(crate) fn scan(text: &[u8], marks: Marks, index: &mut Index) -> Scanned {
    #[cfg(target_arch = "x86_64")]
    if let Some(scanned) = avx2::scan(text, marks, index) {
        return scanned;
    }
    scan_blocks(&mut portable::Portable::new(marks), text, marks, index)
}

/// Opens at the first quoted field that is not closed in `text`, which begins at a record.
pub(crate) fn open_quote(text: &[u8], marks: Marks) -> Option<usize> {
    match careful_record(text, 0, marks, &mut Vec::new()) {
        Careful::Incomplete { open_quote } => open_quote,
        Careful::Complete { .. } | Careful::Misplaced { .. } => None,
    }
}

#[inline(always)]
fn scan_blocks<C: Classifier>(
    classifier: &mut C,
    text: &[u8],
    marks: Marks,
    index: &mut Index,
) -> Scanned {
    index.clear();
    let mut scanned = Scanned::default();
    let mut state = RECORD_START;
    let mut position = 0;
    let mut breaks_in_quotes = 0_u64;
    while position < text.len() {
        let (masks, valid) = match text[position..].first_chunk::<64>() {
            Some(block) => (classifier.masks(block), !0),
            None => last_masks(classifier, &text[position..]),
        };
        let separators = masks.delimiter | masks.terminator;
        if (masks.quote | state.inside | state.after_close) == 0 {
            state.at_field_start = separators >> 63;
            index.push_block(position, separators, masks.terminator);
            position += 64;
            continue;
        }
        scanned.quoted = true;
        let inside = prefix_xor(masks.quote) ^ state.inside;
        let opens = masks.quote & inside;
        let closes = masks.quote & !inside;
        let outside = separators & !inside;
        let after_close = (closes << 1) | state.after_close;
        let field_start = (outside << 1) | state.at_field_start;
        let stray_open = opens & !(field_start | after_close);
        let mut stray_text = after_close & !(outside | masks.quote) & valid;
        while stray_text != 0 {
            let at = position + stray_text.trailing_zeros() as usize;
            let line_end = text[at] == b'\r' && text.get(at + 1).is_none_or(|&next| next == b'\n');
            if !(line_end && marks.terminator == b'\n') {
                break;
            }
            stray_text &= stray_text - 1;
        }
        let irregular = stray_open | stray_text;
        if irregular == 0 {
            breaks_in_quotes += u64::from((masks.terminator & inside).count_ones());
            state.inside = ((inside as i64) >> 63) as u64;
            state.at_field_start = outside >> 63;
            state.after_close = closes >> 63;
            index.push_block(position, outside, masks.terminator & outside);
            position += 64;
            continue;
        }
        // All before the first irregular byte is as it seems; its record is read with care.
        let sure = (irregular & irregular.wrapping_neg()) - 1;
        index.push_block(position, outside & sure, masks.terminator & outside & sure);
        index.drop_open_record();
        let start = index.record_start();
        if start <= position {
            breaks_in_quotes -= count(&text[start..position], marks.terminator);
        } else {
            let before = (1_u64 << (start - position)) - 1;
            breaks_in_quotes += u64::from((masks.terminator & inside & before).count_ones());
        }
        let mut ends = Vec::new();
        match careful_record(text, start, marks, &mut ends) {
            Careful::Complete { end, breaks, strays } => {
                index.push_record(&ends);
                breaks_in_quotes += breaks;
                scanned.stray_quotes += strays;
                scanned.nul |= memchr::memchr(0, &text[start..end]).is_some();
                scanned.high |= !text[start..end].is_ascii();
                state = RECORD_START;
                position = end + 1;
            }
            Careful::Incomplete { .. } => {
                breaks_in_quotes += count(&text[start..], marks.terminator);
                break;
            }
            Careful::Misplaced { open_quote } => {
                breaks_in_quotes += count(&text[start..], marks.terminator);
                scanned.misplaced_quote = Some(open_quote);
                break;
            }
        }
    }
    index.drop_open_record();
    scanned.consumed = index.record_start();
    let open = count(&text[scanned.consumed..], marks.terminator);
    scanned.lines = index.firsts.len() as u64 + breaks_in_quotes - open;
    scanned.nul |= classifier.nul();
    scanned.high |= classifier.high();
    scanned
}

fn count(text: &[u8], byte: u8) -> u64 {
    memchr::memchr_iter(byte, text).count() as u64
}

#[cold]
fn last_masks<C: Classifier>(classifier: &mut C, rest: &[u8]) -> (Masks, u64) {
    let mut block = [b' '; 64];
    block[..rest.len()].copy_from_slice(rest);
    let valid = (1_u64 << rest.len()) - 1;
    let masks = classifier.masks(&block);
    let valid_masks = Masks {
        quote: masks.quote & valid,
        delimiter: masks.delimiter & valid,
        terminator: masks.terminator & valid,
    };
    (valid_masks, valid)
}

/// Bit `i` of the result is the parity of bits `0..=i`.
#[inline(always)]
fn prefix_xor(bits: u64) -> u64 {
    let mut parity = bits;
    parity ^= parity << 1;
    parity ^= parity << 2;
    parity ^= parity << 4;
    parity ^= parity << 8;
    parity ^= parity << 16;
    parity ^= parity << 32;
    parity
}

#[cfg(test)]
mod tests;
