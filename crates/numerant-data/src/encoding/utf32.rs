//! Decodes UTF-32, which the WHATWG Encoding Standard leaves out, into UTF-8.

use std::io::{self, Read};

use super::Malformed;

/// Which byte of each character comes first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Utf32 {
    /// The lowest byte first.
    LittleEndian,
    /// The highest byte first.
    BigEndian,
}

impl Utf32 {
    /// Detects UTF-32 from the first bytes of a document: a byte-order mark, or an ASCII character
    /// of four bytes (RFC 4627, section 3).
    pub fn detect(start: &[u8]) -> Option<Self> {
        match start.get(..4)? {
            [0xff, 0xfe, 0, 0] => Some(Self::LittleEndian),
            [0, 0, 0xfe, 0xff] => Some(Self::BigEndian),
            [first, 0, 0, 0] if *first != 0 => Some(Self::LittleEndian),
            [0, 0, 0, last] if *last != 0 => Some(Self::BigEndian),
            _ => None,
        }
    }
}

/// Reads UTF-32 as UTF-8.
pub struct Utf32Reader<R> {
    inner: R,
    order: Utf32,
    line: u64,
    /// Characters that are decoded and not handed on.
    text: Vec<u8>,
    from: usize,
}

impl<R: Read> Utf32Reader<R> {
    /// A reader of `inner` in UTF-8.
    pub fn new(inner: R, order: Utf32) -> Self {
        Self {
            inner,
            order,
            line: 1,
            text: Vec::new(),
            from: 0,
        }
    }

    fn refill(&mut self) -> io::Result<()> {
        self.text.clear();
        self.from = 0;
        let mut raw = Vec::new();
        (&mut self.inner).take(1 << 16).read_to_end(&mut raw)?;
        for unit in raw.chunks(4) {
            let code = <[u8; 4]>::try_from(unit).ok().map(|unit| match self.order {
                Utf32::LittleEndian => u32::from_le_bytes(unit),
                Utf32::BigEndian => u32::from_be_bytes(unit),
            });
            let Some(character) = code.and_then(char::from_u32) else {
                let malformed = Malformed {
                    line: self.line,
                    bytes: unit.to_vec(),
                };
                return Err(io::Error::new(io::ErrorKind::InvalidData, malformed));
            };
            self.line += u64::from(character == '\n');
            let mut buffer = [0; 4];
            let encoded = character.encode_utf8(&mut buffer);
            self.text.extend_from_slice(encoded.as_bytes());
        }
        Ok(())
    }
}

impl<R: Read> Read for Utf32Reader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.from == self.text.len() {
            self.refill()?;
        }
        let length = buffer.len().min(self.text.len() - self.from);
        buffer[..length].copy_from_slice(&self.text[self.from..self.from + length]);
        self.from += length;
        Ok(length)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_orders_are_read_and_other_bytes_are_refused() {
        let text = "[\"Ångkajen 🚢\"]\n".repeat(5_000);
        for order in [Utf32::LittleEndian, Utf32::BigEndian] {
            let unit = |c: char| match order {
                Utf32::LittleEndian => u32::from(c).to_le_bytes(),
                Utf32::BigEndian => u32::from(c).to_be_bytes(),
            };
            let bytes: Vec<u8> = text.chars().flat_map(unit).collect();
            assert_eq!(Utf32::detect(&bytes), Some(order));
            let mut read = String::new();
            let mut reader = Utf32Reader::new(&bytes[..], order);
            reader.read_to_string(&mut read).expect("valid");
            assert_eq!(read, text);
            for cut in [1, 2, 3] {
                let mut reader = Utf32Reader::new(&bytes[..bytes.len() - cut], order);
                assert!(reader.read_to_string(&mut String::new()).is_err());
            }
        }
        let surrogate = b"[\0\0\0\0\xd8\0\0";
        let mut reader = Utf32Reader::new(&surrogate[..], Utf32::LittleEndian);
        assert!(reader.read_to_string(&mut String::new()).is_err());
        assert_eq!(Utf32::detect(b"[1]\n"), None);
        assert_eq!(Utf32::detect(b"[\x001\x00]\x00"), None);
    }
}
