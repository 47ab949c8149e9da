//! Names of months, and how number formats of workbooks name a language.

use std::fmt;
use std::str::FromStr;

use pure_rust_locales::{Locale, locale_match};
use serde::{Deserialize, Serialize};

/// The language that months are named in and numbers are written by, such as `de`, `fr-CH` or `en`.
///
/// The names are those of the GNU C library's locales.
///
/// ```
/// use numerant_data::value::Language;
///
/// let german: Language = "de".parse()?;
/// assert_eq!(german.months(false)[2], "Mär");
/// assert_eq!((german.mark(), german.group()), (',', Some('.')));
/// # Ok::<(), numerant_data::value::LanguageError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Language {
    name: String,
    #[serde(skip)]
    #[schemars(skip)]
    locale: Locale,
}

/// A name that is no language's.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is not a language that is known; write one such as de, fr or en-GB")]
pub struct LanguageError(pub String);

/// The country whose locale represents a language without one.
const USUAL_COUNTRIES: [(&str, &str); 12] = [
    ("en", "US"),
    ("da", "DK"),
    ("sv", "SE"),
    ("nb", "NO"),
    ("nn", "NO"),
    ("cs", "CZ"),
    ("el", "GR"),
    ("et", "EE"),
    ("sl", "SI"),
    ("uk", "UA"),
    ("ja", "JP"),
    ("zh", "CN"),
];

/// A language as number formats of workbooks name it.
struct FormatLanguage {
    /// Its number, after MS-LCID.
    number: u16,
    /// The language after ISO 639, and the country after ISO 3166.
    name: (&'static str, &'static str),
    /// What is before the fraction of numbers and what groups thousands, where the language represents
    /// numbers that are written so.
    separators: Option<(char, char)>,
}

const fn language(
    number: u16,
    name: (&'static str, &'static str),
    separators: Option<(char, char)>,
) -> FormatLanguage {
    FormatLanguage {
        number,
        name,
        separators,
    }
}

/// Languages of number formats; of a language with several countries the usual one first.
const FORMAT_LANGUAGES: [FormatLanguage; 24] = [
    language(0x405, ("cs", "CZ"), Some((',', ' '))),
    language(0x406, ("da", "DK"), None),
    language(0x407, ("de", "DE"), Some((',', '.'))),
    language(0x408, ("el", "GR"), None),
    language(0x409, ("en", "US"), None),
    language(0x40a, ("es", "ES"), None),
    language(0x40b, ("fi", "FI"), None),
    language(0x40c, ("fr", "FR"), Some((',', '\u{202f}'))),
    language(0x40e, ("hu", "HU"), None),
    language(0x410, ("it", "IT"), None),
    language(0x413, ("nl", "NL"), None),
    language(0x414, ("nb", "NO"), None),
    language(0x415, ("pl", "PL"), None),
    language(0x416, ("pt", "BR"), None),
    language(0x418, ("ro", "RO"), None),
    language(0x419, ("ru", "RU"), None),
    language(0x41d, ("sv", "SE"), Some((',', '\u{a0}'))),
    language(0x41f, ("tr", "TR"), None),
    language(0x422, ("uk", "UA"), None),
    language(0x807, ("de", "CH"), Some(('.', '\u{2019}'))),
    language(0x809, ("en", "GB"), None),
    language(0x810, ("it", "CH"), Some(('.', '\''))),
    language(0x1009, ("en", "CA"), Some(('.', '\u{a0}'))),
    language(0x1c09, ("en", "ZA"), Some(('.', ' '))),
];

/// The language and country of a number in number formats of workbooks, after ISO 639 and ISO 3166;
/// `None` for languages that are not in the table.
pub fn language_of_format(number: u16) -> Option<(&'static str, &'static str)> {
    let mut all = FORMAT_LANGUAGES.iter();
    all.find(|known| known.number == number)
        .map(|known| known.name)
}

/// What is before the fraction and between groups of digits in numbers whose format names a language by its
/// number; as in the locale of that language where nothing else is said of it here, and as in English of one
/// that is not in the table.
pub fn separators_of_format(number: u16) -> (char, Option<char>) {
    let known = FORMAT_LANGUAGES.iter().find(|known| known.number == number);
    match known {
        Some(FormatLanguage {
            separators: Some((mark, group)),
            ..
        }) => (*mark, Some(*group)),
        Some(FormatLanguage { name, .. }) => {
            let language = format!("{}-{}", name.0, name.1).parse::<Language>();
            language.map_or(('.', Some(',')), |language| {
                (language.mark(), language.group())
            })
        }
        None => ('.', Some(',')),
    }
}

/// The number of a language and country in number formats of workbooks; `None` for those that are not in the
/// table.
pub fn number_of_language(language: &str, country: &str) -> Option<u16> {
    let mut all = FORMAT_LANGUAGES.iter();
    all.find(|known| known.name == (language, country))
        .map(|known| known.number)
}

/// The number of a language that represents numbers with these separators.
pub(super) fn format_language(mark: char, group: Option<char>) -> Option<u16> {
    let fits = |known: &&FormatLanguage| {
        known.separators.is_some_and(|(its_mark, its_group)| {
            its_mark == mark && group.is_none_or(|group| group == its_group)
        })
    };
    FORMAT_LANGUAGES
        .iter()
        // Without groups, the usual country of the mark.
        .filter(fits)
        .min_by_key(|known| known.number != 0x407)
        .map(|known| known.number)
}

impl FromStr for Language {
    type Err = LanguageError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let failed = || LanguageError(text.to_owned());
        let (language, country) = match text.split_once(['-', '_']) {
            Some((language, country)) => (language.to_lowercase(), country.to_uppercase()),
            None => {
                let language = text.to_lowercase();
                let usual = USUAL_COUNTRIES.iter().find(|(known, _)| *known == language);
                let country =
                    usual.map_or_else(|| language.to_uppercase(), |(_, c)| (*c).to_owned());
                (language, country)
            }
        };
        let locale = format!("{language}_{country}")
            .parse()
            .map_err(|_| failed())?;
        Ok(Self {
            name: text.to_owned(),
            locale,
        })
    }
}

impl TryFrom<String> for Language {
    type Error = LanguageError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<Language> for String {
    fn from(language: Language) -> Self {
        language.name
    }
}

impl fmt::Display for Language {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name)
    }
}

impl Language {
    /// English, which is read where no language is stated.
    pub fn english() -> Self {
        Self {
            name: "en".to_owned(),
            locale: Locale::en_US,
        }
    }

    /// The names of the months from January on: whole, or short.
    pub fn months(&self, is_whole: bool) -> &'static [&'static str] {
        if is_whole {
            locale_match!(self.locale => LC_TIME::MON)
        } else {
            locale_match!(self.locale => LC_TIME::ABMON)
        }
    }

    /// The names of the days from Sunday on: whole, or short.
    pub fn days(&self, is_whole: bool) -> &'static [&'static str] {
        if is_whole {
            locale_match!(self.locale => LC_TIME::DAY)
        } else {
            locale_match!(self.locale => LC_TIME::ABDAY)
        }
    }

    /// The number that number formats of workbooks have for the language, after MS-LCID; `None` for
    /// languages that are not in the table.
    pub fn code(&self) -> Option<u16> {
        let name = self.name.to_lowercase();
        let language = name.split(['-', '_']).next().unwrap_or_default();
        let known = FORMAT_LANGUAGES
            .iter()
            .find(|known| known.name.0 == language);
        known.map(|known| known.number)
    }

    /// What is before the fraction of a number.
    pub fn mark(&self) -> char {
        let mark: &str = locale_match!(self.locale => LC_NUMERIC::DECIMAL_POINT);
        mark.chars().next().unwrap_or('.')
    }

    /// What groups thousands.
    pub fn group(&self) -> Option<char> {
        let group: &str = locale_match!(self.locale => LC_NUMERIC::THOUSANDS_SEP);
        group.chars().next()
    }

    /// Whether the month is before the day in dates of digits.
    pub fn has_month_first(&self) -> bool {
        let format: &str = locale_match!(self.locale => LC_TIME::D_FMT);
        let place = |sign: &str| format.find(sign).unwrap_or(usize::MAX);
        format.starts_with("%D") || place("%m").min(place("%b")) < place("%d").min(place("%e"))
    }
}
