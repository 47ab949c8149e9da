//! Eight bytes looked at at a time, for values that are too short to set anything up for.
//!
//! Each mask has the high bit of each byte that is meant. Bits above the first of them may be wrong, so
//! a mask says whether there is such a byte, and where the first one is.

const ONES: u64 = 0x0101_0101_0101_0101;
const HIGH: u64 = 0x8080_8080_8080_8080;

/// The bytes that are `byte`.
#[inline(always)]
pub fn same(word: u64, byte: u8) -> u64 {
    let differing = word ^ (ONES * u64::from(byte));
    differing.wrapping_sub(ONES) & !differing & HIGH
}

/// The bytes that are control characters of ASCII, but for the last of them.
#[inline(always)]
pub fn controls(word: u64) -> u64 {
    word.wrapping_sub(ONES * 0x20) & !word & HIGH
}

/// The place of the first byte of a mask that is not zero.
#[inline(always)]
pub fn first(mask: u64) -> usize {
    (mask.trailing_zeros() / 8) as usize
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_first_byte_is_found(
            bytes in proptest::array::uniform8(prop_oneof![Just(0x1f_u8), Just(b'"'), any::<u8>()]),
        ) {
            let word = u64::from_le_bytes(bytes);
            let quote = bytes.iter().position(|byte| *byte == b'"');
            let mask = same(word, b'"');
            prop_assert_eq!((mask != 0).then(|| first(mask)), quote);
            let control = bytes.iter().position(|byte| *byte < 0x20);
            let mask = controls(word);
            prop_assert_eq!((mask != 0).then(|| first(mask)), control);
        }
    }
}
