//! Records as binary workbooks are made of them ([MS-XLS] 2.1.4).

use numerant_data::narrow::fit;
/// Appends a record.
pub(super) fn push_record(kind: u16, data: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(&kind.to_le_bytes());
    out.extend_from_slice(&fit::<_, u16>(data.len()).to_le_bytes());
    out.extend_from_slice(data);
}

/// The data of a record, from little-endian parts.
macro_rules! data {
    ($($part:expr),* $(,)?) => {{
        let mut data: Vec<u8> = Vec::new();
        $(data.extend_from_slice(&$part.to_le_bytes());)*
        data
    }};
}

pub(super) use data;

/// Characters as one byte each if they all fit one, else as two; and whether they are two.
pub(super) fn characters(text: &str) -> (Vec<u8>, bool, usize) {
    let wide = text.chars().any(|sign| u32::from(sign) > 0xff);
    if wide {
        let units: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let count = units.len() / 2;
        return (units, true, count);
    }
    let bytes: Vec<u8> = text.chars().map(|sign| fit(u32::from(sign))).collect();
    let count = bytes.len();
    (bytes, false, count)
}
