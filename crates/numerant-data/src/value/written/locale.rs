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

/// The country whose locale stands for a language without one.
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

/// Languages and their numbers in number formats.
const CODES: [(&str, u16); 19] = [
    ("cs", 0x405),
    ("da", 0x406),
    ("de", 0x407),
    ("el", 0x408),
    ("en", 0x409),
    ("es", 0x40a),
    ("fi", 0x40b),
    ("fr", 0x40c),
    ("hu", 0x40e),
    ("it", 0x410),
    ("nl", 0x413),
    ("nb", 0x414),
    ("pl", 0x415),
    ("pt", 0x416),
    ("ro", 0x418),
    ("ru", 0x419),
    ("sv", 0x41d),
    ("tr", 0x41f),
    ("uk", 0x422),
];

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

    /// The number that number formats of workbooks have for the language, after MS-LCID; `None` for
    /// languages that are not in the table.
    pub fn code(&self) -> Option<u16> {
        let name = self.name.to_lowercase();
        let language = name.split(['-', '_']).next().unwrap_or_default();
        let known = CODES.iter().find(|(known, _)| *known == language);
        known.map(|(_, code)| *code)
    }

    /// What stands before the fraction of a number.
    pub fn mark(&self) -> char {
        let mark: &str = locale_match!(self.locale => LC_NUMERIC::DECIMAL_POINT);
        mark.chars().next().unwrap_or('.')
    }

    /// What groups thousands.
    pub fn group(&self) -> Option<char> {
        let group: &str = locale_match!(self.locale => LC_NUMERIC::THOUSANDS_SEP);
        group.chars().next()
    }

    /// Whether the month stands before the day in dates of digits.
    pub fn has_month_first(&self) -> bool {
        let format: &str = locale_match!(self.locale => LC_TIME::D_FMT);
        let place = |sign: &str| format.find(sign).unwrap_or(usize::MAX);
        format.starts_with("%D") || place("%m").min(place("%b")) < place("%d").min(place("%e"))
    }
}
