//! Set functions of the values that the records of a group have (ISO/IEC 9075-2, 10.9).

use std::cmp::Ordering;
use std::collections::HashSet;

use super::super::word::{Aggregate, Function, Placeholder};
use super::fill::Filler;
use super::rows::Filled;
use super::scope::Scope;
use numerant_data::value::{DecimalMark, Number};
use numerant_format::EncodeError;

impl Filler<'_> {
    /// The value of a set function for the records in scope; blanks do not count.
    pub(super) fn aggregate(
        &self,
        aggregate: &Aggregate,
        scope: &Scope<'_>,
        place: &Placeholder,
    ) -> Result<Filled, EncodeError> {
        if aggregate.function == Function::CountAll {
            return Ok(number(Number::from(scope.rows.len() as u64)));
        }
        let column = scope.column(&aggregate.column);
        let wrong = |row: u32, what: String| EncodeError::Aggregate {
            at: self.rows.at(row),
            function: aggregate.text.clone(),
            what,
            line: place.line,
        };
        let mut values: Vec<(u32, Vec<u8>)> = Vec::new();
        for row in scope.rows {
            if let Filled::Text(text) | Filled::Literal(text) | Filled::Json(text) =
                self.value_of(&column, *row)?
            {
                values.push((*row, text));
            }
        }
        let read = |(row, text): &(u32, Vec<u8>)| {
            self.number(text).ok_or_else(|| {
                let text = String::from_utf8_lossy(text);
                wrong(*row, format!("'{text}' is not a number"))
            })
        };
        match aggregate.function {
            Function::CountAll | Function::Count => Ok(number(Number::from(values.len() as u64))),
            Function::CountDistinct => {
                let different: HashSet<&[u8]> =
                    values.iter().map(|(_, text)| text.as_slice()).collect();
                Ok(number(Number::from(different.len() as u64)))
            }
            Function::Sum | Function::Average => {
                let Some((last, _)) = values.last() else {
                    return Ok(Filled::Blank(None));
                };
                let too_long = |_| wrong(*last, "the sum has too many digits".to_owned());
                let mut sum = Number::from(0_u64);
                for value in &values {
                    sum = sum.plus(read(value)?).map_err(too_long)?;
                }
                if aggregate.function == Function::Average {
                    let count = Number::from(values.len() as u64);
                    sum = sum.divided_by(count).map_err(too_long)?;
                }
                Ok(number(sum))
            }
            Function::Minimum | Function::Maximum => {
                let wanted = match aggregate.function {
                    Function::Minimum => Ordering::Less,
                    _ => Ordering::Greater,
                };
                Ok(self.extreme(&values, wanted))
            }
        }
    }

    /// The least or greatest of values: as numbers or moments where all are such, or else as texts.
    fn extreme(&self, values: &[(u32, Vec<u8>)], wanted: Ordering) -> Filled {
        let texts = || values.iter().map(|(_, text)| text.as_slice());
        let numbers: Option<Vec<Number>> = texts().map(|text| self.number(text)).collect();
        if let Some(numbers) = numbers.filter(|numbers| !numbers.is_empty()) {
            let best = numbers
                .into_iter()
                .reduce(|best, next| match next.compare(best) {
                    found if found == wanted => next,
                    _ => best,
                });
            return best.map_or(Filled::Blank(None), number);
        }
        let moments: Option<Vec<_>> = texts().map(|text| self.moment(text)).collect();
        let best = match moments {
            Some(moments) => {
                let places = (0..moments.len()).reduce(|best, next| {
                    match moments[next].compare(moments[best]) {
                        found if found == wanted => next,
                        _ => best,
                    }
                });
                places.map(|place| values[place].1.clone())
            }
            None => texts()
                .reduce(|best, next| match next.cmp(best) {
                    found if found == wanted => next,
                    _ => best,
                })
                .map(<[u8]>::to_vec),
        };
        best.map_or(Filled::Blank(None), Filled::Text)
    }
}

fn number(number: Number) -> Filled {
    let mut text = Vec::new();
    number.write(DecimalMark::Point, &mut text);
    Filled::Literal(text)
}
