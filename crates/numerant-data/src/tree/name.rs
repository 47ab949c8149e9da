//! Names of columns that come from a tree, and the paths that they represent.
//!
//! The names on the way are joined with dots, and items of lists are numbered from 1:
//! `items.2.code`. What would be read otherwise has a backslash in front: a dot or a backslash in a
//! name (`a\.b`), and a name that is a number (`\1`); a name of no characters is `\0`.

/// A step on the way from a record to a value.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Segment {
    /// The member or element of this name, or the attribute with its `@`.
    Name(String),
    /// The item with this number, from 1.
    Index(usize),
}

/// Appends the name of a member to a path.
pub fn push_name(name: &str, path: &mut String) {
    if !path.is_empty() {
        path.push('.');
    }
    if name.is_empty() {
        path.push_str("\\0");
        return;
    }
    if index(name).is_some() {
        path.push('\\');
    }
    for character in name.chars() {
        if matches!(character, '.' | '\\') {
            path.push('\\');
        }
        path.push(character);
    }
}

/// Appends the number of an item to a path.
pub fn push_index(number: usize, path: &mut String) {
    if !path.is_empty() {
        path.push('.');
    }
    path.push_str(&number.to_string());
}

/// The name of the column for the value at `path`: that of a member of the record without backslashes,
/// where it represents the same path.
pub fn column_name(path: &str) -> String {
    match parse(path).as_slice() {
        [Segment::Name(name)]
            if !name.is_empty() && parse(name) == [Segment::Name(name.clone())] =>
        {
            name.clone()
        }
        _ => path.to_owned(),
    }
}

/// The name of a column with all dots in it alike, those between names and those in them.
pub fn with_plain_dots(column: &str) -> String {
    let segments = parse(column).into_iter().map(|segment| match segment {
        Segment::Name(name) => name,
        Segment::Index(number) => number.to_string(),
    });
    segments.collect::<Vec<_>>().join(".")
}

/// A number as items have it: digits that do not begin with a zero.
fn index(name: &str) -> Option<usize> {
    let digits = !name.starts_with('0') && name.bytes().all(|byte| byte.is_ascii_digit());
    name.parse().ok().filter(|_| digits)
}

/// The path that the name of a column represents. A backslash before anything that needs none is a
/// character like any other, and a name in which a dot has nothing before or after it, such as `No.`,
/// is no path.
pub(crate) fn parse(column: &str) -> Vec<Segment> {
    let mut segments = Vec::new();
    let mut name = String::new();
    let mut literal = false;
    let mut characters = column.chars().peekable();
    loop {
        match characters.next() {
            Some('\\') => match characters.peek() {
                Some('0') if name.is_empty() && !literal => {
                    literal = true;
                    characters.next();
                }
                Some('.' | '\\') => name.extend(characters.next()),
                Some(digit) if digit.is_ascii_digit() && name.is_empty() => literal = true,
                _ => name.push('\\'),
            },
            end @ (Some('.') | None) => {
                if name.is_empty() && !literal {
                    return vec![Segment::Name(column.to_owned())];
                }
                match index(&name).filter(|_| !literal) {
                    Some(number) => segments.push(Segment::Index(number)),
                    None => segments.push(Segment::Name(name.clone())),
                }
                name.clear();
                literal = false;
                if end.is_none() {
                    return segments;
                }
            }
            Some(other) => name.push(other),
        }
    }
}

/// The name of a column whose numbers are in brackets, those above 1: `650[2]$a` of the path `650.2.$a`.
pub fn address_name(path: &str) -> String {
    let mut name = String::new();
    for segment in parse(path) {
        match segment {
            Segment::Name(part) => name.push_str(&part),
            Segment::Index(1) => {}
            Segment::Index(number) => {
                name.push_str(&format!("[{number}]"));
            }
        }
    }
    name
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn names_stand_for_paths() {
        let name = |text: &str| Segment::Name(text.to_owned());
        for (column, path) in [
            ("quay", vec![name("quay")]),
            ("vessel.flag", vec![name("vessel"), name("flag")]),
            (
                "items.2.code",
                vec![name("items"), Segment::Index(2), name("code")],
            ),
            ("a\\.b", vec![name("a.b")]),
            ("\\0.b", vec![name(""), name("b")]),
            ("a..b", vec![name("a..b")]),
            ("No.", vec![name("No.")]),
            ("Art.Nr.", vec![name("Art.Nr.")]),
            (".c", vec![name(".c")]),
            ("", vec![name("")]),
            ("\\7", vec![name("7")]),
            ("07", vec![name("07")]),
            ("C:\\x", vec![name("C:\\x")]),
            ("dues.@currency", vec![name("dues"), name("@currency")]),
        ] {
            assert_eq!(parse(column), path, "{column}");
        }
    }

    #[test]
    fn names_of_members_need_no_backslashes_where_they_are_no_paths() {
        for (path, column) in [
            ("No\\.", "No."),
            ("\\0", "\\0"),
            ("a\\.b", "a\\.b"),
            ("a.No\\.", "a.No\\."),
            ("\\7", "\\7"),
        ] {
            assert_eq!(column_name(path), column, "{path}");
        }
        assert_eq!(with_plain_dots("a\\.b.2"), "a.b.2");
        assert_eq!(with_plain_dots("No."), "No.");
    }

    proptest! {
        #[test]
        fn any_path_comes_back(path in proptest::collection::vec(
            prop_oneof![
                "[a-c.\\\\0-9@# ]{0,4}".prop_map(Segment::Name),
                (1_usize..30).prop_map(Segment::Index),
            ],
            1..5,
        )) {
            let mut column = String::new();
            for segment in &path {
                match segment {
                    Segment::Name(name) => push_name(name, &mut column),
                    Segment::Index(number) => push_index(*number, &mut column),
                }
            }
            prop_assert_eq!(parse(&column), path);
        }
    }
}
