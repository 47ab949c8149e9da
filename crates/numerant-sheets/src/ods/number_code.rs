//! Number styles of OpenDocument 1.3 (part 3, 16.29) as the format codes of ECMA-376, the other way round from
//! the writer's.
//!
//! Colours of sections, alternative calendars and texts inside the digits of a number are left out.

use quick_xml::events::BytesStart;

use numerant_data::value::number_of_language;
use numerant_markup::plain_attribute;

/// The format code of a number style, put together while its elements are read.
#[derive(Clone, Debug, Default)]
pub(super) struct NumberCode {
    code: String,
    is_moment: bool,
    is_percentage: bool,
    /// The characters of the element that is being read, and the language of a currency.
    text: String,
    currency: Option<Option<u16>>,
    /// Conditions and the styles that apply under them.
    maps: Vec<(String, String)>,
}

impl NumberCode {
    /// Begins with the tag of a number style.
    pub(super) fn new(tag: &BytesStart<'_>) -> Self {
        let element = tag.local_name();
        let language = language(tag).map(|number| format!("[$-{number:X}]"));
        Self {
            code: language.unwrap_or_default(),
            is_moment: matches!(element.as_ref(), "date-style" | "time-style"),
            is_percentage: element.as_ref() == "percentage-style",
            ..Self::default()
        }
    }

    /// Takes an element of the style.
    pub(super) fn element(&mut self, tag: &BytesStart<'_>, counts_on: bool) {
        let is_long = plain_attribute(tag, "style").as_deref() == Some("long");
        let letters = |letter: &str, short: usize, long: usize| {
            letter.repeat(if is_long { long } else { short })
        };
        let part = match tag.local_name().as_ref() {
            "number" => number(tag),
            "scientific-number" => {
                let exponent = count(tag, "min-exponent-digits").unwrap_or(2).max(1);
                format!("{}E+{}", number(tag), "0".repeat(exponent))
            }
            "fraction" => fraction(tag),
            "day" => letters("d", 1, 2),
            "day-of-week" => letters("d", 3, 4),
            "month" if plain_attribute(tag, "textual").as_deref() == Some("true") => {
                letters("m", 3, 4)
            }
            "month" => letters("m", 1, 2),
            "year" => letters("y", 2, 4),
            "hours" if counts_on => format!("[{}]", letters("h", 1, 2)),
            "hours" => letters("h", 1, 2),
            "minutes" => letters("m", 1, 2),
            "seconds" => {
                let places = count(tag, "decimal-places").unwrap_or(0);
                let point = if places > 0 { "." } else { "" };
                format!("{}{point}{}", letters("s", 1, 2), "0".repeat(places))
            }
            "am-pm" => "AM/PM".to_owned(),
            "text-content" => "@".to_owned(),
            "currency-symbol" => {
                self.currency = Some(language(tag));
                return;
            }
            "map" => {
                let condition = numerant_markup::attribute(tag, "condition").unwrap_or_default();
                let style = numerant_markup::attribute(tag, "apply-style-name").unwrap_or_default();
                self.maps.push((condition.replace("value()", ""), style));
                return;
            }
            _ => return,
        };
        self.code.push_str(&part);
    }

    /// Takes characters.
    pub(super) fn characters(&mut self, text: &str) {
        self.text.push_str(text);
    }

    /// Ends an element that holds characters.
    pub(super) fn end_text(&mut self) {
        let text = std::mem::take(&mut self.text);
        match self.currency.take() {
            Some(Some(language)) => self.code.push_str(&format!("[${text}-{language:X}]")),
            Some(None) | None => self.push_quoted(&text),
        }
    }

    /// Appends a text that is shown as it is, in quotes where its characters mean something.
    fn push_quoted(&mut self, text: &str) {
        let plain = match (self.is_moment, self.is_percentage) {
            (true, _) => "/-.:, ",
            (false, true) => " $-+()%",
            (false, false) => " $-+()",
        };
        let mut quoted = false;
        for character in text.chars() {
            let needs_quotes = !plain.contains(character);
            if needs_quotes != quoted && character != '"' {
                self.code.push('"');
                quoted = needs_quotes;
            }
            match character {
                '"' => {
                    if quoted {
                        self.code.push('"');
                        quoted = false;
                    }
                    self.code.push_str("\\\"");
                }
                other => self.code.push(other),
            }
        }
        if quoted {
            self.code.push('"');
        }
    }

    /// The whole code, with the sections of the styles that apply under conditions. `of` has the code of a style.
    pub(super) fn finish<'c>(&self, of: impl Fn(&str) -> Option<&'c Self>) -> String {
        let mut sections = Vec::new();
        let conditions: Vec<&str> = self.maps.iter().map(|(known, _)| known.as_str()).collect();
        let is_usual = matches!(conditions[..], [">=0"] | [">0", "<0"]);
        for (condition, style) in &self.maps {
            let Some(section) = of(style) else { continue };
            sections.push(if is_usual {
                section.code.clone()
            } else {
                format!("[{condition}]{}", section.code)
            });
        }
        sections.push(self.code.clone());
        sections.join(";")
    }
}

/// The sign of the currency of a country, which a currency without a sign represents.
pub(super) fn currency_of(country: &str) -> Option<&'static str> {
    Some(match country {
        "US" | "CA" | "AU" | "NZ" | "SG" | "MX" => "$",
        "GB" => "£",
        "AT" | "BE" | "CY" | "DE" | "EE" | "ES" | "FI" | "FR" | "GR" | "IE" | "IT" | "LT"
        | "LU" | "LV" | "MT" | "NL" | "PT" | "SI" | "SK" => "€",
        "CH" | "LI" => "CHF",
        "CN" | "JP" => "¥",
        "CZ" => "Kč",
        "DK" | "NO" | "SE" => "kr",
        "IN" => "₹",
        "PL" => "zł",
        _ => return None,
    })
}

/// The number of the language that an element names.
fn language(tag: &BytesStart<'_>) -> Option<u16> {
    let language = plain_attribute(tag, "language")?;
    let country = plain_attribute(tag, "country").unwrap_or_default();
    number_of_language(&language, &country)
}

fn count(tag: &BytesStart<'_>, name: &str) -> Option<usize> {
    let count: usize = plain_attribute(tag, name)?.parse().ok()?;
    Some(count.min(30))
}

/// The digits of a number.
fn number(tag: &BytesStart<'_>) -> String {
    let whole = count(tag, "min-integer-digits").unwrap_or(0);
    let most = count(tag, "decimal-places");
    let has_groups = plain_attribute(tag, "grouping").as_deref() == Some("true");
    let Some(most) = most else {
        // As many places as there are.
        return if whole <= 1 && !has_groups {
            "General".to_owned()
        } else {
            digits(whole, has_groups)
        };
    };
    let least = count(tag, "min-decimal-places").unwrap_or(most).min(most);
    let mut out = digits(whole, has_groups);
    if most > 0 {
        out.push('.');
        out.push_str(&"0".repeat(least));
        out.push_str(&"#".repeat(most - least));
    }
    let factor = plain_attribute(tag, "display-factor").unwrap_or_default();
    let zeros = factor
        .split('.')
        .next()
        .unwrap_or_default()
        .matches('0')
        .count();
    out.push_str(&",".repeat(zeros.min(30) / 3));
    out
}

/// Digits in front of the point.
fn digits(least: usize, has_groups: bool) -> String {
    if !has_groups {
        return if least == 0 {
            "#".to_owned()
        } else {
            "0".repeat(least)
        };
    }
    let width = least.max(4);
    let digits = format!("{}{}", "#".repeat(width - least), "0".repeat(least));
    let mut out = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (width - place).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

fn fraction(tag: &BytesStart<'_>) -> String {
    let places = |name| "?".repeat(count(tag, name).unwrap_or(1).max(1));
    let whole = match count(tag, "min-integer-digits") {
        None => "",
        Some(0) => "# ",
        Some(_) => "0 ",
    };
    let denominator = plain_attribute(tag, "denominator-value");
    let denominator = denominator.unwrap_or_else(|| places("min-denominator-digits"));
    format!("{whole}{}/{denominator}", places("min-numerator-digits"))
}

#[cfg(test)]
mod tests {
    use super::super::number_style::style_of_code;
    use super::super::styles::Styles;
    use numerant_format::sheet::NumberFormats;
    use numerant_markup::{Flow, Markup};

    /// The code of a number style that is called `N`.
    fn code_of(style: &str) -> String {
        let text = format!(
            "<x xmlns:number=\"n\" xmlns:style=\"s\">{style}<style:style style:name=\"c\" \
             style:family=\"table-cell\" style:data-style-name=\"N\"/></x>"
        );
        let mut styles = Styles::default();
        let mut markup = Markup::new(Box::new(std::io::Cursor::new(text)), "the test");
        let read = markup.pull(|event| {
            styles.take(&event);
            Ok(Flow::On)
        });
        read.unwrap();
        let numbers = NumberFormats::default();
        styles.resolve(&numbers);
        let number = usize::from(styles.cell_style("c").format);
        let codes = numbers.codes();
        let code = number.checked_sub(1).map(|place| &codes[place]);
        code.map_or_else(String::new, ToString::to_string)
    }

    #[test]
    fn codes_come_back_from_styles() {
        for code in [
            "m/d/yyyy",
            "dd.mm.yyyy hh:mm:ss.00",
            "dddd, d. mmmm yyyy",
            "h:mm AM/PM",
            "[hh]:mm:ss",
            "yyyy\"年\"m\"月\"",
            "[$-407]#,##0.00 \"€\"",
            "0.0%",
            "0.0##E+00",
            "# ?/??",
            "#,##0,\"k\"",
            "0000",
            "#,##0",
            "0.00##",
            "$#,##0.00;-$#,##0.00",
            "0\"q\"\\\"\"q\"",
        ] {
            assert_eq!(code_of(&style_of_code(code, "N")), code);
        }
    }

    #[test]
    fn sections_have_their_conditions() {
        let one = |name: &str, maps: &str, text: &str| {
            format!(
                "<number:number-style style:name=\"{name}\"><number:text>{text}</number:text>\
                 <number:number number:decimal-places=\"0\" number:min-integer-digits=\"1\"/>{maps}\
                 </number:number-style>"
            )
        };
        let map = |condition: &str, name: &str| {
            format!(
                "<style:map style:condition=\"value(){condition}\" style:apply-style-name=\"{name}\"/>"
            )
        };
        let maps = map("&gt;0", "P") + &map("&lt;0", "Q");
        let styles = one("P", "", "p") + &one("Q", "", "-") + &one("N", &maps, "z");
        assert_eq!(code_of(&styles), "\"p\"0;-0;\"z\"0");
        let styles = one("P", "", "p") + &one("N", &map("&gt;=1000", "P"), "z");
        assert_eq!(code_of(&styles), "[>=1000]\"p\"0;\"z\"0");
    }

    #[test]
    fn currencies_without_a_sign_are_those_of_the_country() {
        let style = "<style:default-style style:family=\"table-cell\"><style:text-properties \
             fo:country=\"GB\"/></style:default-style><number:currency-style style:name=\"N\">\
             <number:currency-symbol/><number:number number:decimal-places=\"0\" \
             number:min-integer-digits=\"1\"/></number:currency-style>";
        assert_eq!(code_of(style), "\"£\"0");
    }

    #[test]
    fn currencies_name_their_language() {
        let style = "<number:currency-style style:name=\"N\"><number:number number:decimal-places=\"2\" \
             number:min-decimal-places=\"2\" number:min-integer-digits=\"1\" number:grouping=\"true\"/>\
             <number:text> </number:text><number:currency-symbol number:language=\"de\" \
             number:country=\"DE\">€</number:currency-symbol></number:currency-style>";
        assert_eq!(code_of(style), "#,##0.00 [$€-407]");
    }
}
