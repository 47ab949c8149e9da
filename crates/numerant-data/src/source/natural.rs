//! The natural order of names: `part-2` before `part-10`.

use std::cmp::Ordering;
use std::path::Path;

/// Compares names in natural order: runs of digits by their value, everything else by its bytes. Names that differ
/// only in leading zeros are compared by their bytes, so that the order is total.
///
/// ```
/// use numerant_data::source::natural;
///
/// let mut names = ["part-10", "part-2"];
/// names.sort_by(|one, other| natural(one, other));
/// assert_eq!(names, ["part-2", "part-10"]);
/// ```
pub fn natural(one: &str, other: &str) -> Ordering {
    let (mut left, mut right) = (one.as_bytes(), other.as_bytes());
    loop {
        match (left.first(), right.first()) {
            (None, None) => return one.cmp(other),
            (None, Some(_)) => return Ordering::Less,
            (Some(_), None) => return Ordering::Greater,
            (Some(a), Some(b)) if a.is_ascii_digit() && b.is_ascii_digit() => {
                let (a, rest) = number(left);
                let (b, others) = number(right);
                let order = a.len().cmp(&b.len()).then_with(|| a.cmp(b));
                if order.is_ne() {
                    return order;
                }
                (left, right) = (rest, others);
            }
            (Some(a), Some(b)) if a == b => (left, right) = (&left[1..], &right[1..]),
            (Some(a), Some(b)) => return a.cmp(b),
        }
    }
}

/// The digits that `text` begins with, without leading zeros, and what follows them.
fn number(text: &[u8]) -> (&[u8], &[u8]) {
    let end = text.iter().take_while(|byte| byte.is_ascii_digit()).count();
    let zeros = text[..end].iter().take_while(|byte| **byte == b'0').count();
    (&text[zeros..end], &text[end..])
}

/// A path that compares folder by folder, each name in its natural order.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Natural(Vec<String>);

impl Natural {
    pub(crate) fn new(path: &Path) -> Self {
        let names = path.components();
        let names = names.map(|name| name.as_os_str().to_string_lossy().into_owned());
        Self(names.collect())
    }
}

impl Ord for Natural {
    fn cmp(&self, other: &Self) -> Ordering {
        let mut differing = self.0.iter().zip(&other.0).map(|(a, b)| natural(a, b));
        differing
            .find(|order| order.is_ne())
            .unwrap_or_else(|| self.0.len().cmp(&other.0.len()))
    }
}

impl PartialOrd for Natural {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn numbers_count_by_their_value() {
        let mut names = [
            "part-10.csv",
            "part-2.csv",
            "part-02.csv",
            "part.csv",
            "a9b10",
            "a9b9",
            "part-99999999999999999999.csv",
            "part-100000000000000000000.csv",
        ];
        names.sort_by(|one, other| natural(one, other));
        let expected = [
            "a9b9",
            "a9b10",
            "part-02.csv",
            "part-2.csv",
            "part-10.csv",
            "part-99999999999999999999.csv",
            "part-100000000000000000000.csv",
            "part.csv",
        ];
        assert_eq!(names, expected);
        let path = |text: &'static str| Natural::new(Path::new(text));
        assert!(path("q2/b.csv") < path("q10/a.csv"));
        assert!(path("q2/b.csv") > path("q2"));
    }

    proptest! {
        #[test]
        fn the_order_is_total(one in "[a0-2]{0,5}", two in "[a0-2]{0,5}", three in "[a0-2]{0,5}") {
            prop_assert_eq!(natural(&one, &two), natural(&two, &one).reverse());
            prop_assert_eq!(natural(&one, &two).is_eq(), one == two);
            if natural(&one, &two).is_lt() && natural(&two, &three).is_lt() {
                prop_assert!(natural(&one, &three).is_lt());
            }
        }
    }
}
