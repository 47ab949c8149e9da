//! Currencies next to numbers, and what groups thousands.

/// Characters that group thousands.
pub(super) const GROUPS: [char; 7] = [',', '.', ' ', '\u{a0}', '\u{202f}', '\'', '\u{2019}'];

/// Signs of currencies, which may touch the digits.
const SIGNS: &str = "$€£¥₩₹₽₺₴₫₪₦₱฿₡₲₵₸₭₮₾¢";

/// Signs of several letters, which may touch the digits, too.
const LONG_SIGNS: [&str; 5] = ["R$", "US$", "C$", "A$", "NZ$"];

/// Names of currencies besides the codes of ISO 4217.
const NAMES: [&str; 7] = ["kr", "zł", "Kč", "Ft", "lei", "Fr", "Fr."];

/// Codes of ISO 4217 for currencies that are in wide use.
const CODES: [&str; 38] = [
    "AED", "ARS", "AUD", "BGN", "BRL", "CAD", "CHF", "CLP", "CNY", "COP", "CZK", "DKK", "EGP",
    "EUR", "GBP", "HKD", "HUF", "IDR", "ILS", "INR", "ISK", "JPY", "KRW", "MXN", "MYR", "NOK",
    "NZD", "PEN", "PHP", "PLN", "RON", "SAR", "SEK", "SGD", "THB", "TRY", "USD", "ZAR",
];

fn is_sign(text: &str) -> bool {
    let mut characters = text.chars();
    let only = characters.next().filter(|_| characters.next().is_none());
    only.is_some_and(|only| SIGNS.contains(only)) || LONG_SIGNS.contains(&text)
}

/// Whether a text is a currency for sure. Letters are one only with a blank between them and the number:
/// without it they are those of identifiers.
pub(super) fn is_certain(text: &str, has_blank: bool) -> bool {
    is_sign(text) || (has_blank && (NAMES.contains(&text) || CODES.contains(&text)))
}

/// Whether a text may be a currency where it is stated that numbers are there: any three capital letters
/// are a code.
pub(super) fn is_possible(text: &str) -> bool {
    let is_code = text.len() == 3 && text.bytes().all(|byte| byte.is_ascii_uppercase());
    is_sign(text) || NAMES.contains(&text) || is_code
}

/// Characters of the longest currency.
pub(super) const LONGEST: usize = 3;
