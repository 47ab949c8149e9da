//! The functions of formulas.

use super::operators::{meets, number_of, operate, text_of, truth_of};
use super::parser::Parser;
use super::{Computed, Content, Operand};
use crate::xlsx::cell_reference::{Area, CellReference};
use crate::xlsx::print::looks::written;
use numerant_data::narrow::{fit, to_u32, whole};
use numerant_format::sheet::DisplayFormat;

impl Parser<'_, '_> {
    /// One value of an operand.
    pub(super) fn single(&self, operand: Operand) -> Computed<Content> {
        match operand {
            Operand::Value(value) => Ok(value),
            Operand::Missing => Ok(Content::Blank),
            Operand::Range(sheet, area) if area.first == area.last => {
                self.all.inner(sheet, area.first)
            }
            Operand::Range(..) => Err("a range is used where one value is needed".to_owned()),
        }
    }

    /// The values of operands, those of ranges apart from others.
    fn numbers(&self, arguments: &[Operand]) -> Computed<Result<Vec<f64>, String>> {
        let mut numbers = Vec::new();
        for argument in arguments {
            match argument {
                Operand::Missing => {}
                // Texts and truth values in cells do not count.
                Operand::Range(sheet, area) => {
                    for (_, value) in self.all.values(*sheet, *area)? {
                        match value {
                            Content::Number(number) => numbers.push(number),
                            Content::Error(error) => return Ok(Err(error)),
                            _ => {}
                        }
                    }
                }
                Operand::Value(value) => match number_of(value) {
                    Ok(number) => numbers.push(number),
                    Err(error) => return Ok(Err(error)),
                },
            }
        }
        Ok(Ok(numbers))
    }

    pub(super) fn call(&self, name: &str, arguments: &[Operand]) -> Computed<Content> {
        if let Some(fold) = fold_of(name) {
            return Ok(folded(fold, self.numbers(arguments)?));
        }
        let count = arguments.len();
        let value = |place: usize| match arguments.get(place) {
            Some(argument) => self.single(argument.clone()),
            None => Ok(Content::Blank),
        };
        Ok(match (name, count) {
            ("SUBTOTAL", 2..) => {
                let Content::Number(code) = value(0)? else {
                    return Err("SUBTOTAL in it has no number".to_owned());
                };
                let names = ["AVERAGE", "COUNT", "COUNTA", "MAX", "MIN", "PRODUCT"];
                let inner = match code.rem_euclid(100.0) {
                    9.0 => "SUM",
                    code => names
                        .get(characters(code - 1.0))
                        .ok_or_else(|| format!("SUBTOTAL {code} in it is not computed here"))?,
                };
                let mut inner_arguments = Vec::new();
                for argument in &arguments[1..] {
                    inner_arguments.extend(self.without_subtotals(argument.clone()));
                }
                return self.call(inner, &inner_arguments);
            }
            ("COUNTA", 1..) => {
                let mut found = 0_u32;
                for argument in arguments {
                    match argument {
                        Operand::Range(sheet, area) => {
                            let values = self.all.values(*sheet, *area)?;
                            let filled =
                                values.iter().filter(|(_, value)| *value != Content::Blank);
                            found += to_u32(filled.count());
                        }
                        _ => found += 1,
                    }
                }
                Content::Number(f64::from(found))
            }
            ("SUMIF", 2 | 3) | ("COUNTIF", 2) => self.sum_if(name, arguments)?,
            ("SUMPRODUCT", 1..) => self.sum_product(arguments)?,
            ("VLOOKUP", 3 | 4) => self.lookup(arguments)?,
            ("IF", 2 | 3) => match truth_of(&value(0)?) {
                Err(error) => Content::Error(error),
                Ok(true) => value(1)?,
                Ok(false) if count == 2 => Content::Truth(false),
                Ok(false) => value(2)?,
            },
            ("IFERROR", 2) => match value(0)? {
                Content::Error(_) => value(1)?,
                value => value,
            },
            ("ISBLANK", 1) => Content::Truth(value(0)? == Content::Blank),
            ("AND" | "OR", 1..) => {
                let mut all = Vec::new();
                for place in 0..count {
                    match truth_of(&value(place)?) {
                        Ok(truth) => all.push(truth),
                        Err(error) => return Ok(Content::Error(error)),
                    }
                }
                Content::Truth(if name == "AND" {
                    all.iter().all(|is| *is)
                } else {
                    all.contains(&true)
                })
            }
            ("NOT", 1) => match truth_of(&value(0)?) {
                Ok(truth) => Content::Truth(!truth),
                Err(error) => Content::Error(error),
            },
            ("ROUND" | "ROUNDUP" | "ROUNDDOWN", 2) => rounded(name, &value(0)?, &value(1)?),
            ("ABS" | "INT" | "SQRT" | "SIGN", 1) => match number_of(&value(0)?) {
                Err(error) => Content::Error(error),
                Ok(number) if name == "SQRT" && number < 0.0 => Content::Error("#NUM!".to_owned()),
                Ok(number) => Content::Number(match name {
                    "ABS" => number.abs(),
                    "INT" => number.floor(),
                    "SQRT" => number.sqrt(),
                    _ if number == 0.0 => 0.0,
                    _ => number.signum(),
                }),
            },
            ("MOD", 2) => match (number_of(&value(0)?), number_of(&value(1)?)) {
                (Err(error), _) | (_, Err(error)) => Content::Error(error),
                (_, Ok(0.0)) => Content::Error("#DIV/0!".to_owned()),
                (Ok(number), Ok(by)) => Content::Number(number - by * (number / by).floor()),
            },
            ("CONCATENATE" | "CONCAT", 1..) => {
                let mut text = String::new();
                for argument in arguments {
                    match argument {
                        Operand::Range(sheet, area) => {
                            for (_, value) in self.all.values(*sheet, *area)? {
                                text.push_str(&text_of(&value));
                            }
                        }
                        other => text.push_str(&text_of(&self.single(other.clone())?)),
                    }
                }
                Content::Text(text)
            }
            ("TEXT", 2) => {
                let format = DisplayFormat::new(&text_of(&value(1)?));
                match value(0)? {
                    Content::Text(text) => Content::Text(format.text(&text)),
                    Content::Error(error) => Content::Error(error),
                    other => Content::Text(format.number(&text_of(&other))),
                }
            }
            ("LEN", 1) => Content::Number(text_of(&value(0)?).chars().count() as f64),
            ("UPPER", 1) => Content::Text(text_of(&value(0)?).to_uppercase()),
            ("LOWER", 1) => Content::Text(text_of(&value(0)?).to_lowercase()),
            ("TRIM", 1) => {
                let text = text_of(&value(0)?);
                Content::Text(
                    text.split(' ')
                        .filter(|word| !word.is_empty())
                        .collect::<Vec<_>>()
                        .join(" "),
                )
            }
            ("LEFT" | "RIGHT", 1 | 2) => {
                let text: Vec<char> = text_of(&value(0)?).chars().collect();
                let wanted = if count == 2 {
                    number_of(&value(1)?)
                } else {
                    Ok(1.0)
                };
                match wanted {
                    Err(error) => Content::Error(error),
                    Ok(wanted) => {
                        let wanted = characters(wanted).min(text.len());
                        let from = if name == "LEFT" {
                            0
                        } else {
                            text.len() - wanted
                        };
                        Content::Text(text[from..from + wanted].iter().collect())
                    }
                }
            }
            ("MID", 3) => match (number_of(&value(1)?), number_of(&value(2)?)) {
                (Err(error), _) | (_, Err(error)) => Content::Error(error),
                (Ok(from), Ok(wanted)) => {
                    let text = text_of(&value(0)?);
                    let skipped = text.chars().skip(characters(from - 1.0));
                    Content::Text(skipped.take(characters(wanted)).collect())
                }
            },
            ("NA", 0) => Content::Error("#N/A".to_owned()),
            ("HYPERLINK", 1 | 2) => value(count - 1)?,
            _ => {
                return Err(format!(
                    "the function {name} with {count} arguments is not computed here"
                ));
            }
        })
    }

    /// The cells of a range that are no subtotals themselves.
    fn without_subtotals(&self, argument: Operand) -> Vec<Operand> {
        let Operand::Range(sheet, area) = argument else {
            return vec![argument];
        };
        let cells = &self.all.sheets[sheet].1.cells;
        let is_subtotal = |at: &CellReference| match cells.get(at).map(|cell| &cell.content) {
            Some(Content::Formula(text)) => text.to_uppercase().contains("SUBTOTAL("),
            _ => false,
        };
        let inside: Vec<CellReference> = cells
            .keys()
            .filter(|at| area.holds(**at))
            .copied()
            .collect();
        if !inside.iter().any(is_subtotal) {
            return vec![Operand::Range(sheet, area)];
        }
        let left = inside.into_iter().filter(|at| !is_subtotal(at));
        left.map(|at| {
            Operand::Range(
                sheet,
                Area {
                    first: at,
                    last: at,
                },
            )
        })
        .collect()
    }

    /// The sum or the number of cells for which a condition holds.
    fn sum_if(&self, name: &str, arguments: &[Operand]) -> Computed<Content> {
        let Some(Operand::Range(sheet, area)) = arguments.first() else {
            return Err(format!("{name} in it has no range"));
        };
        let condition = self.single(arguments[1].clone())?;
        let (sum_sheet, sum_from) = match arguments.get(2) {
            Some(Operand::Range(sheet, area)) => (*sheet, area.first),
            _ => (*sheet, area.first),
        };
        let mut sum = 0.0;
        let values = self.all.values(*sheet, *area)?;
        if name == "COUNTIF" && meets(&Content::Blank, &condition) {
            let height = u64::from(area.last.row - area.first.row) + 1;
            let width = u64::from(area.last.column - area.first.column) + 1;
            sum += (height * width - values.len() as u64) as f64;
        }
        for (at, value) in values {
            if !meets(&value, &condition) {
                continue;
            }
            if name == "COUNTIF" {
                sum += 1.0;
                continue;
            }
            let at = CellReference {
                row: sum_from.row + (at.row - area.first.row),
                column: sum_from.column + (at.column - area.first.column),
            };
            match self.all.inner(sum_sheet, at)? {
                Content::Number(number) => sum += number,
                Content::Error(error) => return Ok(Content::Error(error)),
                _ => {}
            }
        }
        Ok(Content::Number(sum))
    }

    /// The sum of the products of cells that are at the same places of ranges.
    fn sum_product(&self, arguments: &[Operand]) -> Computed<Content> {
        let mut ranges = Vec::new();
        for argument in arguments {
            let Operand::Range(sheet, area) = argument else {
                return Err("SUMPRODUCT in it has something else than ranges".to_owned());
            };
            ranges.push((*sheet, *area));
        }
        let size = |area: &Area| {
            (
                area.last.row - area.first.row,
                area.last.column - area.first.column,
            )
        };
        let first = ranges[0].1;
        if ranges.iter().any(|(_, area)| size(area) != size(&first)) {
            return Ok(Content::Error("#VALUE!".to_owned()));
        }
        let mut sum = 0.0;
        for (at, _) in self.all.values(ranges[0].0, first)? {
            let mut product = 1.0;
            for (sheet, area) in &ranges {
                let at = CellReference {
                    row: area.first.row + (at.row - first.first.row),
                    column: area.first.column + (at.column - first.first.column),
                };
                product *= match self.all.inner(*sheet, at)? {
                    Content::Number(number) => number,
                    Content::Error(error) => return Ok(Content::Error(error)),
                    _ => 0.0,
                };
            }
            sum += product;
        }
        Ok(Content::Number(sum))
    }

    /// The value next to the first cell of a range that is what is looked for.
    fn lookup(&self, arguments: &[Operand]) -> Computed<Content> {
        let wanted = self.single(arguments[0].clone())?;
        let Operand::Range(sheet, area) = &arguments[1] else {
            return Err("VLOOKUP in it has no range".to_owned());
        };
        let column = match number_of(&self.single(arguments[2].clone())?) {
            Ok(column) if column >= 1.0 => u32::try_from(whole(column)).unwrap_or(u32::MAX) - 1,
            Ok(_) => return Ok(Content::Error("#VALUE!".to_owned())),
            Err(error) => return Ok(Content::Error(error)),
        };
        let is_exact = match arguments.get(3) {
            Some(last) => !truth_of(&self.single(last.clone())?).unwrap_or(true),
            None => false,
        };
        if !is_exact {
            return Err(
                "VLOOKUP in it looks for the nearest value, which is not computed here".to_owned(),
            );
        }
        let keys = Area {
            first: area.first,
            last: CellReference {
                row: area.last.row,
                column: area.first.column,
            },
        };
        for (at, value) in self.all.values(*sheet, keys)? {
            if matches!(operate("=", value, wanted.clone()), Content::Truth(true)) {
                let at = CellReference {
                    row: at.row,
                    column: area.first.column + column,
                };
                return self.all.inner(*sheet, at);
            }
        }
        Ok(Content::Error("#N/A".to_owned()))
    }
}

/// What a function makes of numbers.
fn fold_of(name: &str) -> Option<fn(&[f64]) -> Content> {
    Some(match name {
        "SUM" => |numbers| Content::Number(numbers.iter().sum()),
        "PRODUCT" => |numbers| Content::Number(numbers.iter().product()),
        "COUNT" => |numbers| Content::Number(numbers.len() as f64),
        "MIN" => |numbers| Content::Number(numbers.iter().copied().reduce(f64::min).unwrap_or(0.0)),
        "MAX" => |numbers| Content::Number(numbers.iter().copied().reduce(f64::max).unwrap_or(0.0)),
        "AVERAGE" => |numbers| match numbers.len() {
            0 => Content::Error("#DIV/0!".to_owned()),
            count => Content::Number(numbers.iter().sum::<f64>() / count as f64),
        },
        _ => return None,
    })
}

fn folded(fold: fn(&[f64]) -> Content, numbers: Result<Vec<f64>, String>) -> Content {
    match numbers {
        Ok(numbers) => fold(&numbers),
        Err(error) => Content::Error(error),
    }
}

/// A number of characters, none where it is below zero.
fn characters(number: f64) -> usize {
    usize::try_from(whole(number)).unwrap_or(0)
}

/// A number with so many digits after its point. What it is in decimals decides, not its binary form.
fn rounded(name: &str, number: &Content, digits: &Content) -> Content {
    let (number, digits) = match (number_of(number), number_of(digits)) {
        (Ok(number), Ok(digits)) => (number, fit(whole(digits.clamp(-20.0, 20.0)))),
        (Err(error), _) | (_, Err(error)) => return Content::Error(error),
    };
    let factor = 10_f64.powi(digits);
    let moved: f64 = written((number * factor).abs()).parse().unwrap_or(0.0);
    let whole = match name {
        "ROUND" => (moved + 0.5).floor(),
        "ROUNDUP" => moved.ceil(),
        _ => moved.floor(),
    };
    Content::Number(whole / factor * number.signum())
}
