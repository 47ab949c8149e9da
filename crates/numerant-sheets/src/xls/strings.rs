//! The texts of binary workbooks, which may run over the end of a record ([MS-XLS] 2.5.293).

use numerant_data::source::ReadProblem;

/// The data of a record and of those that continue it.
pub(super) struct Pieces<'a> {
    pieces: Vec<&'a [u8]>,
    piece: usize,
    at: usize,
}

impl<'a> Pieces<'a> {
    pub(super) fn new(pieces: Vec<&'a [u8]>) -> Self {
        Self {
            pieces,
            piece: 0,
            at: 0,
        }
    }

    /// Goes to the next piece where this one is done; `false` at the end.
    fn settle(&mut self) -> bool {
        while let Some(piece) = self.pieces.get(self.piece) {
            if self.at < piece.len() {
                return true;
            }
            self.piece += 1;
            self.at = 0;
        }
        false
    }

    fn byte(&mut self) -> Result<u8, ReadProblem> {
        if !self.settle() {
            return Err(short());
        }
        let byte = self.pieces[self.piece][self.at];
        self.at += 1;
        Ok(byte)
    }

    pub(super) fn u16(&mut self) -> Result<u16, ReadProblem> {
        Ok(u16::from_le_bytes([self.byte()?, self.byte()?]))
    }

    pub(super) fn u32(&mut self) -> Result<u32, ReadProblem> {
        Ok(u32::from(self.u16()?) | u32::from(self.u16()?) << 16)
    }

    fn skip(&mut self, count: usize) -> Result<(), ReadProblem> {
        for _ in 0..count {
            self.byte()?;
        }
        Ok(())
    }

    /// A text with its length and flags in front; the runs of rich text and what says how it is
    /// spoken are skipped.
    pub(super) fn text(&mut self) -> Result<String, ReadProblem> {
        let count = self.u16()?;
        let flags = self.byte()?;
        let runs = if flags & 8 != 0 { self.u16()? } else { 0 };
        let phonetic = if flags & 4 != 0 { self.u32()? } else { 0 };
        let text = self.characters(count.into(), flags & 1 != 0)?;
        self.skip(usize::from(runs) * 4)?;
        self.skip(phonetic as usize)?;
        Ok(text)
    }

    /// A text as far as there are bytes for it.
    pub(super) fn truncated_text(mut self) -> String {
        let head = self.u16().and_then(|count| Ok((count, self.byte()?)));
        let Ok((count, flags)) = head else {
            return String::new();
        };
        let has_runs = if flags & 8 != 0 { 2 } else { 0 };
        let has_phonetic = if flags & 4 != 0 { 4 } else { 0 };
        if self.skip(has_runs + has_phonetic).is_err() {
            return String::new();
        }
        let left: usize = self.pieces.iter().map(|piece| piece.len()).sum::<usize>() - self.at;
        let wide = flags & 1 != 0;
        let fits = if wide { left / 2 } else { left };
        self.characters(usize::from(count).min(fits), wide)
            .unwrap_or_default()
    }

    /// Characters of one or two bytes; a piece that continues them says anew which.
    pub(super) fn characters(&mut self, count: usize, wide: bool) -> Result<String, ReadProblem> {
        let mut units: Vec<u16> = Vec::with_capacity(count.min(1 << 15));
        let mut wide = wide;
        while units.len() < count {
            let piece = self.pieces.get(self.piece).ok_or_else(short)?;
            if self.at >= piece.len() {
                self.piece += 1;
                self.at = 0;
                wide = self.byte()? & 1 != 0;
                continue;
            }
            let rest = &piece[self.at..];
            let wanted = count - units.len();
            let taken = if wide {
                let pairs = rest.chunks_exact(2).take(wanted);
                let before = units.len();
                units.extend(pairs.map(|pair| u16::from_le_bytes([pair[0], pair[1]])));
                let taken = (units.len() - before) * 2;
                if taken == 0 {
                    return Err(short());
                }
                taken
            } else {
                let taken = rest.len().min(wanted);
                units.extend(rest[..taken].iter().map(|byte| u16::from(*byte)));
                taken
            };
            self.at += taken;
        }
        Ok(String::from_utf16_lossy(&units))
    }
}

fn short() -> ReadProblem {
    ReadProblem::Damaged {
        what: "a text ends too early".to_owned(),
    }
}
