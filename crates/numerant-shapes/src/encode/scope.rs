//! Which records a part of a shape is filled in with.

/// The records of a part, and its place among those that repeat.
#[derive(Clone, Copy, Debug)]
pub(super) struct Scope<'s> {
    pub(super) rows: &'s [u32],
    /// The number of the record, group or item, from 1.
    pub(super) number: u64,
    /// Records of the innermost group, if the part is in one.
    pub(super) grouped: Option<u64>,
    /// The items that the part is in: their lists, such as `lines[*]`, and their numbers.
    pub(super) items: &'s [(String, usize)],
}

impl<'s> Scope<'s> {
    /// All records of an output.
    pub(super) fn of(rows: &'s [u32]) -> Self {
        Self {
            rows,
            number: 0,
            grouped: None,
            items: &[],
        }
    }

    /// The column that a name represents: `lines.2.code` for `lines[*].code` in the second item.
    pub(super) fn column(&self, name: &str) -> String {
        let mut name = name.to_owned();
        for (list, number) in self.items {
            // The lists of nested items are named with those around them.
            let outer = list.strip_suffix("[*]").unwrap_or(list);
            if let Some(rest) = name.strip_prefix(list.as_str()) {
                name = format!("{outer}.{number}{rest}");
            }
        }
        name
    }
}

/// Whether a column of items, such as `lines[*].code`, represents a column such as `lines.2.code`;
/// with `within` also for those below it.
pub(super) fn stands_for(items: &str, column: &str, within: bool) -> bool {
    let mut rest = column;
    let mut pieces = items.split("[*]");
    if let Some(first) = pieces.next() {
        match rest.strip_prefix(first) {
            Some(behind) => rest = behind,
            None => return false,
        }
    }
    for piece in pieces {
        let Some(behind) = rest.strip_prefix('.') else {
            return false;
        };
        let digits = behind.bytes().take_while(u8::is_ascii_digit).count();
        match behind[digits..].strip_prefix(piece) {
            Some(behind) if digits > 0 => rest = behind,
            _ => return false,
        }
    }
    rest.is_empty() || within && rest.starts_with('.')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_of_items_stand_for_those_of_each() {
        for (items, column, exact, within) in [
            ("lines[*].code", "lines.2.code", true, true),
            ("lines[*].code", "lines.2.code.a", false, true),
            ("lines[*].code", "lines.x.code", false, false),
            ("lines[*]", "lines.12", true, true),
            ("lines[*]", "lines.1.code", false, true),
            ("a[*].b[*].c", "a.1.b.2.c", true, true),
            ("a[*].b[*].c", "a.1.b.c", false, false),
            ("lines", "lines", true, true),
        ] {
            assert_eq!(stands_for(items, column, false), exact, "{items} {column}");
            assert_eq!(stands_for(items, column, true), within, "{items} {column}");
        }
        let items = [("a[*]".to_owned(), 2), ("a.2.b[*]".to_owned(), 3)];
        let scope = Scope {
            items: &items,
            ..Scope::of(&[])
        };
        assert_eq!(scope.column("a[*].b[*].c"), "a.2.b.3.c");
        assert_eq!(scope.column("b[*].c"), "b[*].c");
    }
}
