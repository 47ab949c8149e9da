//! Numbers in fewer bits, where it is known that they fit.

/// The place of something in an arena, or the number of a thing of which there are fewer than 2³².
///
/// # Panics
///
/// If it does not fit: an arena has outgrown what its readers allow, and whatever its places would
/// point to would be wrong. A record is at most [`LARGEST_RECORD`] bytes.
#[inline]
#[track_caller]
pub fn to_u32(number: usize) -> u32 {
    u32::try_from(number).expect("an arena of less than 4 GiB")
}

/// A length as a number that can be subtracted from; no length in memory is larger.
#[inline]
pub fn to_i64(length: usize) -> i64 {
    i64::try_from(length).unwrap_or(i64::MAX)
}

/// Bytes of the largest record that a batch has room for, whatever the memory of the machine.
pub const LARGEST_RECORD: usize = u32::MAX as usize / 2;

/// A number in a type that is known to hold it.
///
/// # Panics
///
/// If it does not fit, which is a fault of Numerant: a limit of a format was not kept.
#[inline]
#[track_caller]
pub fn fit<N, T: TryFrom<N>>(number: N) -> T {
    let Ok(number) = T::try_from(number) else {
        panic!("a number that fits its field");
    };
    number
}

/// A number of bytes that are in memory.
#[inline]
#[track_caller]
pub fn to_usize(bytes: u64) -> usize {
    usize::try_from(bytes).expect("bytes that are in memory")
}

/// A number without its fraction; what is too small or too large becomes the least or the most, and what is
/// no number nothing.
#[inline]
#[allow(
    clippy::cast_possible_truncation,
    reason = "the conversion saturates, as is stated"
)]
pub fn whole(number: f64) -> i64 {
    number as i64
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_that_fit_are_the_same_numbers() {
        assert_eq!(to_u32(LARGEST_RECORD), u32::MAX / 2);
        assert_eq!(to_i64(5) - 7, -2);
        assert_eq!(fit::<usize, u8>(255), 255);
        assert_eq!(to_usize(7), 7);
        for (number, expected) in [(2.9, 2), (-2.9, -2), (1e300, i64::MAX), (f64::NAN, 0)] {
            assert_eq!(whole(number), expected, "{number}");
        }
    }

    #[test]
    #[should_panic(expected = "an arena of less than 4 GiB")]
    fn a_place_beyond_an_arena_is_never_another_place() {
        to_u32(u32::MAX as usize + 1);
    }

    #[test]
    #[should_panic(expected = "a number that fits its field")]
    fn a_number_beyond_its_field_is_never_another_number() {
        fit::<usize, u16>(65_536);
    }
}
