//! What is in the places of a shape.

use super::ShapeProblem;
use numerant_naming::{Key, OutputField, Word, WordsError, parse_words, word};

/// A piece of the text of a place.
#[derive(Clone, Debug)]
pub(super) enum ShapeWord {
    Literal(String),
    Column(Key),
    /// A fact of the output; `.rows` in a group is the number of its records.
    Output(OutputField),
    /// `{.number}`: the number of the record, group or item among those that repeat.
    Number,
    /// `{= EXPRESSION}`: a column that is computed for each record.
    Expression(String),
    /// `{SUM(dues)}`: one value of all records in scope.
    Aggregate(Aggregate),
}

/// A function of the values that the records of a group have.
#[derive(Clone, Debug)]
pub(super) struct Aggregate {
    pub(super) function: Function,
    /// The column of the values, which may be a computed one; empty for `COUNT(*)`.
    pub(super) column: String,
    /// The expression of that column, if it is computed.
    pub(super) expression: Option<String>,
    /// Its verbatim text in the shape.
    pub(super) text: String,
}

/// The set functions of ISO/IEC 9075-2, 10.9.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Function {
    CountAll,
    Count,
    CountDistinct,
    Sum,
    Average,
    Minimum,
    Maximum,
}

/// A place that is filled in.
#[derive(Clone, Debug)]
pub(super) struct Placeholder {
    pub(super) words: Vec<ShapeWord>,
    pub(super) line: usize,
}

impl Placeholder {
    pub(super) fn new(text: &str, line: usize) -> Result<Self, (usize, ShapeProblem)> {
        let words = parse_words(text, ShapeWord::Literal, shape_word);
        Ok(Self {
            words: words.map_err(|error| (line, error.into()))?,
            line,
        })
    }

    /// A place with the value of a column.
    pub(super) fn of_key(key: &Key, line: usize) -> Self {
        Self {
            words: vec![ShapeWord::Column(key.clone())],
            line,
        }
    }

    /// The text of it, if nothing is filled in.
    pub(super) fn constant(&self) -> Option<String> {
        match self.words.as_slice() {
            [] => Some(String::new()),
            [ShapeWord::Literal(text)] => Some(text.clone()),
            _ => None,
        }
    }

    /// What is wanted, for messages.
    pub(super) fn wanted(&self) -> String {
        let of_record = self.words.iter().find_map(|word| match word {
            ShapeWord::Column(key) => Some(format!("{{{key}}}")),
            ShapeWord::Expression(text) => Some(format!("{{= {text}}}")),
            ShapeWord::Aggregate(aggregate) => Some(format!("{{{}}}", aggregate.text)),
            _ => None,
        });
        of_record.unwrap_or_default()
    }

    /// Whether records are needed to fill it in, or the number of one.
    pub(super) fn is_of_records(&self) -> bool {
        self.words.iter().any(|word| match word {
            ShapeWord::Column(_) | ShapeWord::Expression(_) => true,
            ShapeWord::Aggregate(_) | ShapeWord::Number => true,
            ShapeWord::Literal(_) | ShapeWord::Output(_) => false,
        })
    }

    /// Whether it is known only when all records of the output are, and which of them it is in.
    pub(super) fn is_of_output(&self) -> bool {
        self.words.iter().any(|word| match word {
            ShapeWord::Output(_) | ShapeWord::Number | ShapeWord::Aggregate(_) => true,
            ShapeWord::Literal(_) | ShapeWord::Column(_) | ShapeWord::Expression(_) => false,
        })
    }
}

/// The name of the column that an expression computes.
pub(super) fn computed_name(expression: &str) -> String {
    format!("= {expression}")
}

fn shape_word(inside: &str) -> Result<ShapeWord, WordsError> {
    if inside.trim() == ".number" {
        return Ok(ShapeWord::Number);
    }
    if let Some(aggregate) = aggregate(inside) {
        return Ok(ShapeWord::Aggregate(aggregate));
    }
    Ok(match word(inside)? {
        Word::Literal(text) => ShapeWord::Literal(text),
        Word::Column(key) => ShapeWord::Column(key),
        Word::Output(field) => ShapeWord::Output(field),
        Word::Expression(text) => ShapeWord::Expression(text),
    })
}

/// `SUM(dues)` and its like, in any case; a column that is called so is in double quotes.
fn aggregate(inside: &str) -> Option<Aggregate> {
    let text = inside.trim();
    let (name, rest) = text.split_once('(')?;
    let mut argument = rest.strip_suffix(')')?.trim();
    let mut function = match name.trim().to_ascii_uppercase().as_str() {
        "SUM" => Function::Sum,
        "COUNT" => Function::Count,
        "AVG" => Function::Average,
        "MIN" => Function::Minimum,
        "MAX" => Function::Maximum,
        _ => return None,
    };
    if function == Function::Count {
        let distinct = argument.get(..9);
        if argument == "*" {
            function = Function::CountAll;
        } else if distinct.is_some_and(|word| word.eq_ignore_ascii_case("distinct ")) {
            function = Function::CountDistinct;
            argument = argument[9..].trim();
        }
    }
    let (column, expression) = match column_of(argument) {
        _ if function == Function::CountAll => (String::new(), None),
        Some(column) => (column, None),
        None => (computed_name(argument), Some(argument.to_owned())),
    };
    Some(Aggregate {
        function,
        column,
        expression,
        text: text.to_owned(),
    })
}

/// The column that an argument names, if it is nothing more than that.
fn column_of(argument: &str) -> Option<String> {
    if let Some(quoted) = argument.strip_prefix('"') {
        let name = quoted.strip_suffix('"')?;
        let plain = name.replace("\"\"", "");
        return (!plain.contains('"')).then(|| name.replace("\"\"", "\""));
    }
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '@' | '#' | '[' | ']');
    let is_name = argument.chars().all(|c| plain(c) || c == '*')
        && !argument.starts_with(|c: char| c.is_ascii_digit() || c == '*')
        && !argument.is_empty();
    is_name.then(|| argument.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_hold_columns_numbers_and_aggregates() {
        let place = Placeholder::new("{.number} of {COUNT(*)}: {sum( dues )}", 1).expect("a place");
        let [
            ShapeWord::Number,
            _,
            ShapeWord::Aggregate(count),
            _,
            ShapeWord::Aggregate(sum),
        ] = place.words.as_slice()
        else {
            panic!("{:?}", place.words);
        };
        assert_eq!(count.function, Function::CountAll);
        assert_eq!((sum.function, sum.column.as_str()), (Function::Sum, "dues"));
        for (text, function, column, expression) in [
            (
                "SUM(dues * 2)",
                Function::Sum,
                "= dues * 2",
                Some("dues * 2"),
            ),
            (
                "COUNT(DISTINCT \"berth no\")",
                Function::CountDistinct,
                "berth no",
                None,
            ),
            ("MIN(lines.price)", Function::Minimum, "lines.price", None),
            (
                "AVG(ROUND(dues, 1))",
                Function::Average,
                "= ROUND(dues, 1)",
                Some("ROUND(dues, 1)"),
            ),
        ] {
            let found = aggregate(text).expect(text);
            assert_eq!(found.function, function, "{text}");
            assert_eq!(found.column, column, "{text}");
            assert_eq!(found.expression.as_deref(), expression, "{text}");
        }
        for text in ["dues", "TOTAL(dues)", "\"SUM(dues)\""] {
            assert!(aggregate(text).is_none(), "{text}");
        }
    }
}
