//! Detects the encoding of a text from its bytes.
//!
//! A byte-order mark decides. Without one, text that is valid UTF-8 is UTF-8; text that has more of
//! valid UTF-8 than of anything else is broken UTF-8, which is an error where it is read, and never
//! another encoding. All other text goes to the detector that browsers use (`chardetng`).

use chardetng::{EncodingDetector, Iso2022JpDetection, Utf8Detection};

use super::{Encoding, mostly_utf16};

/// An encoding, and how it is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DetectedEncoding {
    /// The encoding.
    pub encoding: Encoding,
    /// Bytes of the byte-order mark.
    pub mark: usize,
}

/// The byte-order mark of GB 18030, which is U+FEFF in it.
const GB18030_MARK: &[u8] = b"\x84\x31\x95\x33";

/// Bytes to which windows-1252 gives no character.
const NOT_WINDOWS_1252: [u8; 5] = [0x81, 0x8d, 0x8f, 0x90, 0x9d];

/// The encoding of the text that begins with `start`; `None` if it cannot be detected.
///
/// `further` gives samples from further down, each from the start of a line. It is asked where
/// `start` holds nothing but ASCII, which most encodings share.
pub fn detect_encoding(
    start: &[u8],
    further: impl FnOnce() -> Vec<u8>,
) -> Option<DetectedEncoding> {
    if let Some((encoding, mark)) = encoding_rs::Encoding::for_bom(start) {
        let encoding = Encoding::from(encoding);
        return Some(DetectedEncoding { encoding, mark });
    }
    let unmarked = |encoding| Some(DetectedEncoding { encoding, mark: 0 });
    if start.starts_with(GB18030_MARK) {
        return Some(DetectedEncoding {
            encoding: Encoding::from(encoding_rs::GB18030),
            mark: GB18030_MARK.len(),
        });
    }
    if let Some(encoding) = mostly_utf16(start) {
        return unmarked(encoding);
    }
    if let Some(encoding) = detect_escapes(start) {
        return unmarked(encoding);
    }
    let further = if start.is_ascii() {
        further()
    } else {
        Vec::new()
    };
    let sample = if further.is_empty() { start } else { &further };
    if is_mostly_utf8(sample) {
        return unmarked(Encoding::UTF_8);
    }
    detect_legacy(sample).and_then(unmarked)
}

/// The encoding that bytes which are no UTF-8 are most likely in; `None` if none fits.
pub fn detect_legacy(sample: &[u8]) -> Option<Encoding> {
    let mut detector = EncodingDetector::new(Iso2022JpDetection::Deny);
    detector.feed(sample, true);
    let found = detector.guess(None, Utf8Detection::Deny);
    if found == encoding_rs::WINDOWS_1252 {
        let fits = !sample.iter().any(|byte| NOT_WINDOWS_1252.contains(byte));
        return fits.then_some(Encoding::WINDOWS_1252);
    }
    // GB 18030 has all characters of GBK, and bytes that GBK does not have.
    let found = if found == encoding_rs::GBK {
        encoding_rs::GB18030
    } else {
        found
    };
    Some(Encoding::from(found))
}

/// ISO-2022-JP, which is ASCII with escape sequences.
fn detect_escapes(start: &[u8]) -> Option<Encoding> {
    if !start.is_ascii() || memchr::memmem::find(start, b"\x1b$").is_none() {
        return None;
    }
    let mut detector = EncodingDetector::new(Iso2022JpDetection::Allow);
    detector.feed(start, true);
    let found = detector.guess(None, Utf8Detection::Deny);
    (found == encoding_rs::ISO_2022_JP).then(|| Encoding::from(found))
}

/// Whether `sample`, which may end within a character, is UTF-8 but for fewer bytes that are not
/// than characters of several bytes that are.
///
/// Two bytes of another encoding may look like a character of UTF-8, three hardly ever do, so these
/// count three times.
fn is_mostly_utf8(sample: &[u8]) -> bool {
    let is_valid = match std::str::from_utf8(sample) {
        Ok(_) => true,
        Err(error) => error.error_len().is_none(),
    };
    if is_valid {
        return true;
    }
    let (mut valid, mut broken) = (0_usize, 0_usize);
    let mut rest = sample;
    loop {
        let (good, bad) = match std::str::from_utf8(rest) {
            Ok(text) => (text, None),
            Err(error) => {
                let (good, behind) = rest.split_at(error.valid_up_to());
                let text = std::str::from_utf8(good).unwrap_or_default();
                (text, error.error_len().map(|length| &behind[length..]))
            }
        };
        if !good.is_ascii() {
            let weights = good.chars().map(|character| match character.len_utf8() {
                1 => 0,
                2 => 1,
                _ => 3,
            });
            valid += weights.sum::<usize>();
        }
        match bad {
            Some(behind) => {
                broken += 1;
                rest = behind;
            }
            None => return valid >= broken,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn detected(sample: &[u8]) -> Option<(&'static str, usize)> {
        let found = detect_encoding(sample, Vec::new)?;
        Some((found.encoding.name(), found.mark))
    }

    #[test]
    fn marks_and_unicode() {
        assert_eq!(detected(b"\xef\xbb\xbfa"), Some(("UTF-8", 3)));
        assert_eq!(detected(b"\xff\xfea\0"), Some(("UTF-16LE", 2)));
        assert_eq!(detected(b"a\0,\0b\0"), Some(("UTF-16LE", 0)));
        assert_eq!(detected(b"\0a\0,\0b"), Some(("UTF-16BE", 0)));
        assert_eq!(detected(b"\x84\x31\x95\x33a,b"), Some(("gb18030", 4)));
        assert_eq!(detected("Öst".as_bytes()), Some(("UTF-8", 0)));
        assert_eq!(detected(&"Öst".as_bytes()[..1]), Some(("UTF-8", 0)));
        assert_eq!(detected(b"plain"), Some(("UTF-8", 0)));
    }

    #[test]
    fn one_broken_byte_does_not_make_another_encoding() {
        assert_eq!(
            detected(b"M\xc3\xbcnster\nK\xc3\xb6ln\n\xff"),
            Some(("UTF-8", 0))
        );
        assert_eq!(
            detected(b"M\xc3\xbcnster \xfc"),
            Some(("UTF-8", 0)),
            "as many valid as broken ones: refused where it is read"
        );
    }

    #[test]
    fn encodings_before_unicode() {
        for (label, text) in [
            ("windows-1252", "Kai;Größe\nÖstlicher Hafen;müde\n"),
            ("windows-1251", "Причал;Судно\nСеверный причал;Ветер\n"),
            ("windows-1250", "Nabřeží;Loď\nPřístaviště;Šťastná želva\n"),
            (
                "shift_jis",
                "埠頭,船名\n北埠頭,かもめ丸\n穀物埠頭,しおかぜ\n",
            ),
            (
                "euc-kr",
                "부두,선박\n북부두,갈매기호\n곡물부두,바닷바람호\n",
            ),
            ("gb18030", "码头,船名\n北码头,海鸥号\n谷物码头,海风号\n"),
            ("big5", "碼頭,船名\n北碼頭,海鷗號\n穀物碼頭,海風號\n"),
        ] {
            let encoding = Encoding::named(label).expect("known");
            let mut bytes = Vec::new();
            encoding.encode(text, &mut bytes).expect("it has them all");
            let found = detected(&bytes).map(|(name, _)| name);
            assert_eq!(found, Some(encoding.name()), "{label}");
        }
    }

    #[test]
    fn ascii_is_looked_at_further_down() {
        let found = detect_encoding(b"plain", || b"\xd6stlicher Kai\n".to_vec());
        assert_eq!(
            found.map(|found| found.encoding),
            Some(Encoding::WINDOWS_1252)
        );
    }
}
