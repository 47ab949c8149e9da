//! The order in which people read names: numbers within them by their values.

use std::cmp::Ordering;

/// Compares two names: `output_2` stands before `output_10`.
pub(super) fn natural(one: &str, other: &str) -> Ordering {
    let (mut first, mut second) = (one, other);
    loop {
        let digits = |text: &str| text.bytes().take_while(u8::is_ascii_digit).count();
        let (one_length, other_length) = (digits(first), digits(second));
        if one_length > 0 && other_length > 0 {
            let (one_number, rest) = first.split_at(one_length);
            let (other_number, other_rest) = second.split_at(other_length);
            let (one_plain, other_plain) = (
                one_number.trim_start_matches('0'),
                other_number.trim_start_matches('0'),
            );
            let by_value = one_plain
                .len()
                .cmp(&other_plain.len())
                .then_with(|| one_plain.cmp(other_plain));
            if by_value.is_ne() {
                return by_value;
            }
            (first, second) = (rest, other_rest);
            continue;
        }
        let (Some(one_sign), Some(other_sign)) = (first.chars().next(), second.chars().next())
        else {
            // Names that differ in nothing else keep one order.
            return first.len().cmp(&second.len()).then_with(|| one.cmp(other));
        };
        if one_sign != other_sign {
            return one_sign.cmp(&other_sign);
        }
        first = &first[one_sign.len_utf8()..];
        second = &second[other_sign.len_utf8()..];
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_stand_in_the_order_of_their_values() {
        let mut names = [
            "b10",
            "b2",
            "a",
            "b02",
            "b",
            "b2c",
            "B1",
            "Å1",
            "b1000000000000000000000",
        ];
        names.sort_by(|one, other| natural(one, other));
        assert_eq!(
            names,
            [
                "B1",
                "a",
                "b",
                "b02",
                "b2",
                "b2c",
                "b10",
                "b1000000000000000000000",
                "Å1"
            ]
        );
    }
}
