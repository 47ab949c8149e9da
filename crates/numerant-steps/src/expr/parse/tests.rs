use proptest::prelude::*;

use super::*;

/// The tree with all its brackets.
fn bracketed(tree: &Expr) -> String {
    let list = |list: &[Expr]| list.iter().map(bracketed).collect::<Vec<_>>().join(", ");
    let not = |negated: bool| if negated { "NOT " } else { "" };
    match &tree.kind {
        Kind::Column(name) => name.text.clone(),
        Kind::Number(text) => text.clone(),
        Kind::Text(text) => format!("'{text}'"),
        Kind::Null => "NULL".to_owned(),
        Kind::Not(inner) => format!("(NOT {})", bracketed(inner)),
        Kind::Signed { is_minus, inner } => {
            format!(
                "({}{})",
                if *is_minus { "-" } else { "+" },
                bracketed(inner)
            )
        }
        Kind::Binary {
            left,
            operator,
            right,
        } => format!(
            "({} {} {})",
            bracketed(left),
            operator.sign(),
            bracketed(right)
        ),
        Kind::Between {
            value,
            low,
            high,
            negated,
        } => format!(
            "({} {}BETWEEN {} AND {})",
            bracketed(value),
            not(*negated),
            bracketed(low),
            bracketed(high)
        ),
        Kind::In {
            value,
            list: of,
            negated,
        } => format!("({} {}IN [{}])", bracketed(value), not(*negated), list(of)),
        Kind::Like { value, pattern, .. } => {
            format!("({} LIKE {})", bracketed(value), bracketed(pattern))
        }
        Kind::IsNull { inner, negated } => {
            format!("({} IS {}NULL)", bracketed(inner), not(*negated))
        }
        Kind::Distinct { one, other, .. } => {
            format!("({} DISTINCT {})", bracketed(one), bracketed(other))
        }
        Kind::Call {
            name, arguments, ..
        } => format!("{name}[{}]", list(arguments.as_deref().unwrap_or_default())),
        Kind::Case { .. } => "CASE".to_owned(),
        other => format!("{other:?}"),
    }
}

#[test]
fn operators_bind_as_the_standard_says() {
    for (text, expected) in [
        ("a + b * c - d", "((a + (b * c)) - d)"),
        ("a || b || c", "((a || b) || c)"),
        ("-a * b", "((-a) * b)"),
        ("a - -1", "(a - (-1))"),
        ("a OR b AND NOT c = d", "(a OR (b AND (NOT (c = d))))"),
        ("NOT a IS NULL", "(NOT (a IS NULL))"),
        ("a = b IS NOT NULL", "((a = b) IS NOT NULL)"),
        (
            "a BETWEEN b + 1 AND c AND d",
            "((a BETWEEN (b + 1) AND c) AND d)",
        ),
        ("a NOT IN (1, b + 2) OR c", "((a NOT IN [1, (b + 2)]) OR c)"),
        ("a LIKE b || '%' AND c", "((a LIKE (b || '%')) AND c)"),
        (
            "a IS DISTINCT FROM b + 1 AND c",
            "((a DISTINCT (b + 1)) AND c)",
        ),
        ("COALESCE(a, b) + 1", "(COALESCE[a, b] + 1)"),
        ("(a + b) * c", "((a + b) * c)"),
        ("a -- one\n + /* two */ b", "(a + b)"),
        ("\"a \"\"b\"\"\" = 'it''s'", "(a \"b\" = 'it's')"),
        ("date = N'x'", "(date = 'x')"),
        ("a = CASE -b WHEN 1 THEN c END", "(a = CASE)"),
        (
            "end + interval + trim + position",
            "(((end + interval) + trim) + position)",
        ),
    ] {
        let tree = parse(text).expect(text);
        assert_eq!(bracketed(&tree), expected, "{text}");
    }
}

#[test]
fn what_is_no_expression_says_where() {
    for (text, at, expected) in [
        (
            "a +",
            3,
            "the expression ends where an expression should follow",
        ),
        ("a + AND", 4, "an expression should stand here, and not AND"),
        ("(a", 2, "the expression ends where ) should follow"),
        ("a IN 5", 5, "( should stand here, and not 5"),
        ("a BETWEEN 1 OR 2", 12, "AND should stand here, and not OR"),
        ("CASE a END", 7, "WHEN should stand here, and not END"),
        (
            "a IS 5",
            5,
            "NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM should stand here, and not 5",
        ),
        ("a = [b]", 4, "an expression should stand here, and not ["),
        (
            "a /* b",
            2,
            "a comment opens here and is never closed: its closing */ is missing",
        ),
        ("\"\"", 0, "a name in double quotes has no characters"),
        (
            "CAST(a AS DECIMAL(x))",
            18,
            "a number of digits should stand here, and not x",
        ),
    ] {
        match parse(text) {
            Err(ParseError::At(span, message)) => {
                assert_eq!((span.start, message.as_str()), (at, expected), "{text}");
            }
            other => panic!("{text}: {other:?}"),
        }
    }
}

proptest! {
    #[test]
    fn any_tokens_make_a_tree_or_an_error_within_the_text(
        words in prop::collection::vec(prop::sample::select(vec![
            "quay", "1", "'å'", "AND", "OR", "NOT", "(", ")", ",", "+", "-", "*", "||", "=", "IS", "NULL", "IN",
            "LIKE", "BETWEEN", "CASE", "WHEN", "THEN", "ELSE", "END", "CAST(", "AS", "DATE", "INTERVAL", "DAY", "TO",
            "UPPER(", "COUNT(*", "OVER(", "SELECT", "FROM", "FOR", ".", "%", "::", "TRIM(", "LEADING", "EXTRACT(",
            "YEAR", "DECIMAL(", "\"Ö l\"", "'open", "[", "ESCAPE", "EXISTS(", "SUBSTRING(", "DISTINCT",
        ]), 0..14),
    ) {
        let text = words.join(" ");
        match parse(&text) {
            Ok(tree) => prop_assert!(text.get(tree.span.start..tree.span.end).is_some()),
            Err(ParseError::At(span, _) | ParseError::Unsupported(span, _)) => {
                prop_assert!(text.get(span.start..span.end).is_some());
            }
            Err(ParseError::TooDeep) => prop_assert!(false, "{}", text),
        }
    }
}
