//! XML declarations: the encoding that one names, and that of a part made true.

use numerant_data::encoding::{Encoding, EncodingError, mostly_utf16};
use numerant_format::DocumentFrame;

/// What stands around records, with a declaration that is true.
///
/// Parts of one document are written in its encoding if that is the one it declares. Else, and where
/// records of several documents come together (`is_alone` is false), they are UTF-8 and declared so.
pub fn in_one_encoding(mut around: DocumentFrame, is_alone: bool) -> DocumentFrame {
    let head = String::from_utf8_lossy(&around.head).into_owned();
    let declared = declared_name(&head);
    let encoding = around.encoding.unwrap_or(Encoding::UTF_8);
    let named = declared.and_then(|name| Encoding::named(name).ok());
    let utf16 = [Encoding::UTF_16LE, Encoding::UTF_16BE];
    let is_true = match declared {
        // A text without a declaration is UTF-8, or UTF-16 with a mark.
        None => encoding.is_utf8() || utf16.contains(&encoding),
        Some(name) if utf16.contains(&encoding) => {
            name.eq_ignore_ascii_case("utf-16") || named == Some(encoding)
        }
        Some(_) => named == Some(encoding),
    };
    if is_true && (is_alone || encoding.is_utf8()) {
        return around;
    }
    around.encoding = None;
    if let Some(name) = declared {
        let start = name.as_ptr() as usize - head.as_ptr() as usize;
        around.head = [&head[..start], "UTF-8", &head[start + name.len()..]]
            .concat()
            .into_bytes();
    }
    around
}

/// The name of an encoding in an XML declaration.
fn declared_name(start: &str) -> Option<&str> {
    let declaration = start.strip_prefix("<?xml")?.split("?>").next()?;
    let rest = declaration.split("encoding").nth(1)?;
    let rest = rest.trim_start().strip_prefix('=')?.trim_start();
    let quote = rest.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    rest[1..].split(quote).next()
}

/// The encoding that an XML declaration names, if it can be so: the declaration itself is read byte by
/// byte.
pub(super) fn declared(start: &[u8]) -> Result<Option<Encoding>, EncodingError> {
    let start = String::from_utf8_lossy(start);
    let Some(name) = declared_name(&start) else {
        return Ok(None);
    };
    let encoding = Encoding::named(name)?;
    // What reads like ASCII cannot be UTF-16, whatever it says.
    let is_utf16 = [Encoding::UTF_16LE, Encoding::UTF_16BE].contains(&encoding);
    Ok((!is_utf16).then_some(encoding))
}

/// The encoding of a document that begins so: by its mark, by zero bytes, or as it declares.
pub fn encoding_of(start: &[u8]) -> Encoding {
    let detected = match start {
        [0xff, 0xfe, ..] => Some(Encoding::UTF_16LE),
        [0xfe, 0xff, ..] => Some(Encoding::UTF_16BE),
        _ => mostly_utf16(start),
    };
    let declared = || declared(start).ok().flatten();
    detected.or_else(declared).unwrap_or(Encoding::UTF_8)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn declarations_are_true() {
        let latin = Encoding::named("iso-8859-1").ok();
        let utf16 = Some(Encoding::UTF_16LE);
        for (head, encoding, alone, expected, written) in [
            (
                "<?xml version='1.0' encoding='ISO-8859-1'?><a>",
                latin,
                true,
                "'ISO-8859-1'",
                latin,
            ),
            (
                "<?xml version='1.0' encoding='ISO-8859-1'?><a>",
                latin,
                false,
                "'UTF-8'",
                None,
            ),
            (
                "<?xml version='1.0' encoding='utf-8'?><a>",
                latin,
                true,
                "'UTF-8'",
                None,
            ),
            (
                "<?xml version='1.0' encoding='cp850'?><a>",
                None,
                true,
                "'UTF-8'",
                None,
            ),
            (
                "<?xml version='1.0' encoding='utf-8'?><a>",
                None,
                false,
                "'utf-8'",
                None,
            ),
            (
                "<?xml version='1.0' encoding='UTF-16'?><a>",
                utf16,
                true,
                "'UTF-16'",
                utf16,
            ),
            ("<a encoding='x'>", latin, true, "<a encoding='x'>", None),
            ("<a>", utf16, true, "<a>", utf16),
        ] {
            let around = DocumentFrame {
                head: head.as_bytes().to_vec(),
                encoding,
                ..DocumentFrame::default()
            };
            let found = in_one_encoding(around, alone);
            let text = String::from_utf8_lossy(&found.head).into_owned();
            assert!(text.contains(expected), "{head}: {text}");
            assert_eq!(found.encoding, written, "{head}");
        }
    }
}
