//! ISO 5426, the extended Latin alphabet of UNIMARC, as Unicode in NFC. Bytes whose character differs
//! between its editions are errors.

use std::borrow::Cow;

use super::marc8::{Marc8Error, Table};

/// The text as Unicode.
pub(super) fn decode(bytes: &[u8]) -> Result<Cow<'_, str>, Marc8Error> {
    TABLE.decode(bytes)
}

const TABLE: Table = Table {
    name: "ISO 5426",
    character,
    mark,
};

fn character(byte: u8) -> Option<char> {
    Some(match byte {
        0xa1 => '¡',
        0xa2 => '„',
        0xa3 => '£',
        0xa4 => '$',
        0xa5 => '¥',
        0xa6 => '†',
        0xa7 => '§',
        0xa8 => '′',
        0xa9 => '‘',
        0xaa => '“',
        0xab => '«',
        0xac => '♭',
        0xad => '©',
        0xae => '℗',
        0xaf => '®',
        0xb0 => 'ʻ',
        0xb1 => 'ʼ',
        0xb2 => '‚',
        0xb6 => '‡',
        0xb7 => '·',
        0xb8 => '″',
        0xb9 => '’',
        0xba => '”',
        0xbb => '»',
        0xbc => '♯',
        0xbd => 'ʹ',
        0xbe => 'ʺ',
        0xbf => '¿',
        0xe1 => 'Æ',
        0xe2 => 'Đ',
        0xe6 => 'Ĳ',
        0xe8 => 'Ł',
        0xe9 => 'Ø',
        0xea => 'Œ',
        0xec => 'Þ',
        0xf1 => 'æ',
        0xf2 => 'đ',
        0xf3 => 'ð',
        0xf5 => 'ı',
        0xf6 => 'ĳ',
        0xf8 => 'ł',
        0xf9 => 'ø',
        0xfa => 'œ',
        0xfb => 'ß',
        0xfc => 'þ',
        _ => return None,
    })
}

fn mark(byte: u8) -> Option<char> {
    char::from_u32(match byte {
        0xc0 => 0x309,
        0xc1 => 0x300,
        0xc2 => 0x301,
        0xc3 => 0x302,
        0xc4 => 0x303,
        0xc5 => 0x304,
        0xc6 => 0x306,
        0xc7 => 0x307,
        0xc8 | 0xc9 => 0x308,
        0xca => 0x30a,
        0xcd => 0x30b,
        0xce => 0x31b,
        0xcf => 0x30c,
        0xd0 => 0x327,
        0xd3 => 0x328,
        0xd6 => 0x323,
        0xd7 => 0x324,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_become_unicode() {
        for (bytes, text) in [
            (b"Le quai \xc1a grains".as_slice(), "Le quai à grains"),
            (b"\xcaAngkajen \xf9st", "Ångkajen øst"),
            (b"Stra\xfbe \xabNord\xbb", "Straße «Nord»"),
        ] {
            assert_eq!(decode(bytes).as_deref(), Ok(text));
        }
        assert_eq!(
            decode(b"\xd4a").map_err(|error| error.to_string()),
            Err("the byte D4 is undefined in ISO 5426".to_owned())
        );
    }
}
