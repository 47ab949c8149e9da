//! Makes the XML declaration of a part name the encoding that the part is written in.

use super::walk::declared_name;
use numerant_data::encoding::Encoding;
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
