//! What operators make of values, and what values are as numbers, truths and texts.

use super::Content;
use crate::xlsx::print::looks::written;

/// What a value is compared or computed as.
pub(super) fn number_of(value: &Content) -> Result<f64, String> {
    match value {
        Content::Number(number) => Ok(*number),
        Content::Blank | Content::Formula(_) => Ok(0.0),
        Content::Truth(truth) => Ok(f64::from(u8::from(*truth))),
        Content::Text(text) => text.trim().parse().map_err(|_| "#VALUE!".to_owned()),
        Content::Error(error) => Err(error.clone()),
    }
}

pub(super) fn truth_of(value: &Content) -> Result<bool, String> {
    match value {
        Content::Truth(truth) => Ok(*truth),
        Content::Text(_) => Err("#VALUE!".to_owned()),
        other => number_of(other).map(|number| number != 0.0),
    }
}

pub(super) fn text_of(value: &Content) -> String {
    match value {
        Content::Blank | Content::Formula(_) => String::new(),
        Content::Number(number) => written(*number),
        Content::Text(text) | Content::Error(text) => text.clone(),
        Content::Truth(true) => "TRUE".to_owned(),
        Content::Truth(false) => "FALSE".to_owned(),
    }
}

/// What an operator makes of two values.
pub(super) fn operate(sign: &str, one: Content, other: Content) -> Content {
    if let Content::Error(_) = one {
        return one;
    }
    if let Content::Error(_) = other {
        return other;
    }
    if sign == "&" {
        return Content::Text(text_of(&one) + &text_of(&other));
    }
    if matches!(sign, "=" | "<>" | "<" | ">" | "<=" | ">=") {
        let order = compared(&one, &other);
        return Content::Truth(match sign {
            "=" => order.is_eq(),
            "<>" => order.is_ne(),
            "<" => order.is_lt(),
            ">" => order.is_gt(),
            "<=" => order.is_le(),
            _ => order.is_ge(),
        });
    }
    let (one, other) = match (number_of(&one), number_of(&other)) {
        (Ok(one), Ok(other)) => (one, other),
        (Err(error), _) | (_, Err(error)) => return Content::Error(error),
    };
    let number = match sign {
        "+" => one + other,
        "-" => one - other,
        "*" => one * other,
        "/" if other == 0.0 => return Content::Error("#DIV/0!".to_owned()),
        "/" => one / other,
        _ => one.powf(other),
    };
    if number.is_finite() {
        Content::Number(number)
    } else {
        Content::Error("#NUM!".to_owned())
    }
}

/// The order of two values: numbers before texts before truth values, texts without regard to case.
fn compared(one: &Content, other: &Content) -> std::cmp::Ordering {
    let rank = |value: &Content| match value {
        Content::Number(_) => 0,
        Content::Text(_) => 1,
        Content::Truth(_) => 2,
        Content::Blank | Content::Error(_) | Content::Formula(_) => 3,
    };
    match (one, other) {
        (Content::Blank, Content::Blank) => std::cmp::Ordering::Equal,
        (Content::Blank, Content::Text(text)) => "".cmp(text.as_str()),
        (Content::Text(text), Content::Blank) => text.as_str().cmp(""),
        (Content::Blank, other) => 0.0_f64.total_cmp(&number_of(other).unwrap_or(0.0)),
        (one, Content::Blank) => number_of(one).unwrap_or(0.0).total_cmp(&0.0),
        (Content::Number(one), Content::Number(other)) if one == other => std::cmp::Ordering::Equal,
        (Content::Number(one), Content::Number(other)) => one.total_cmp(other),
        (Content::Text(one), Content::Text(other)) => one.to_lowercase().cmp(&other.to_lowercase()),
        (Content::Truth(one), Content::Truth(other)) => one.cmp(other),
        (one, other) => rank(one).cmp(&rank(other)),
    }
}

/// Whether a value meets a condition such as `">100"`, or is what it says.
pub(super) fn meets(value: &Content, condition: &Content) -> bool {
    let Content::Text(text) = condition else {
        return matches!(
            operate("=", value.clone(), condition.clone()),
            Content::Truth(true)
        );
    };
    let signs = ["<=", ">=", "<>", "=", "<", ">"];
    let found = signs.into_iter().find(|sign| text.starts_with(sign));
    let (sign, rest) = found.map_or(("=", text.as_str()), |sign| (sign, &text[sign.len()..]));
    let wanted = match rest.trim().parse() {
        Ok(number) => Content::Number(number),
        Err(_) => Content::Text(rest.to_owned()),
    };
    // Numbers are compared with numbers only.
    let is_comparable = matches!(
        (value, &wanted),
        (Content::Number(_), Content::Number(_)) | (Content::Text(_), Content::Text(_))
    );
    match (is_comparable, sign) {
        (true, sign) => matches!(operate(sign, value.clone(), wanted), Content::Truth(true)),
        (false, sign) => sign == "<>",
    }
}
