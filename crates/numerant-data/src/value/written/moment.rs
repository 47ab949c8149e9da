//! Dates and times of day in any consistent order, with any separators, and names of months.

use jiff::civil::{Date, DateTime, Time};

use super::locale::Language;

/// The order of day, month and year.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum DateOrder {
    /// `5/3/2026` is in March.
    DayMonthYear,
    /// `3/5/2026` is in March.
    MonthDayYear,
    /// `2026/03/05`.
    YearMonthDay,
}

/// How a number of one or two digits is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Digits {
    /// With as many digits as it has.
    Plain,
    /// With two.
    Padded,
}

/// How months are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Month {
    Digits(Digits),
    /// By name, whole or short.
    Name {
        is_whole: bool,
        language: Language,
    },
}

/// How a date is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct DatePart {
    pub(super) order: DateOrder,
    pub(super) day: Digits,
    pub(super) month: Month,
    /// Years have four digits; else two, of the years from 1930 to 2029.
    pub(super) has_century: bool,
    /// What is between the three parts.
    pub(super) separators: [String; 2],
}

/// How a time of day is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct TimePart {
    pub(super) hour: Digits,
    pub(super) has_seconds: bool,
    /// What is between the time and AM or PM; `None` for 24 hours.
    pub(super) half_day: Option<String>,
}

/// How the dates and times of a column are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MomentPattern {
    pub(super) date: Option<DatePart>,
    /// What is between date and time, with the time.
    pub(super) time: Option<(String, TimePart)>,
}

/// The first day that spreadsheet programs agree on.
const FIRST_DAY: Date = Date::constant(1900, 3, 1);

impl Digits {
    /// Takes a number that is written so from the start of a text.
    fn take(self, text: &str) -> Option<(i8, &str)> {
        let count = text.bytes().take_while(u8::is_ascii_digit).count();
        let fits = match self {
            Self::Padded => count == 2,
            Self::Plain => count == 1 || (count == 2 && !text.starts_with('0')),
        };
        let number = text.get(..count)?.parse().ok().filter(|_| fits)?;
        Some((number, &text[count..]))
    }

    fn push(self, number: i8, out: &mut String) {
        match self {
            Self::Plain => out.push_str(&number.to_string()),
            Self::Padded => out.push_str(&format!("{number:02}")),
        }
    }

    /// The ways in which digits that were found may be meant.
    fn of(found: &str) -> &'static [Self] {
        match found.as_bytes() {
            [_] => &[Self::Plain],
            [b'0', _] => &[Self::Padded],
            [_, _] => &[Self::Padded, Self::Plain],
            _ => &[],
        }
    }
}

impl Month {
    fn take<'t>(&self, text: &'t str) -> Option<(i8, &'t str)> {
        match self {
            Self::Digits(digits) => digits.take(text),
            Self::Name { is_whole, language } => {
                let names = language.months(*is_whole).iter();
                let count = text
                    .chars()
                    .take_while(|c| c.is_alphabetic())
                    .map(char::len_utf8);
                let word = &text[..count.sum()];
                let place = names.into_iter().position(|name| *name == word)?;
                Some((i8::try_from(place + 1).ok()?, &text[word.len()..]))
            }
        }
    }

    fn push(&self, month: i8, out: &mut String) {
        match self {
            Self::Digits(digits) => digits.push(month, out),
            Self::Name { is_whole, language } => {
                let place = usize::try_from(month - 1).unwrap_or(0);
                out.push_str(language.months(*is_whole)[place]);
            }
        }
    }

    fn code(&self) -> &'static str {
        match self {
            Self::Digits(Digits::Plain) => "m",
            Self::Digits(Digits::Padded) => "mm",
            Self::Name {
                is_whole: false, ..
            } => "mmm",
            Self::Name { is_whole: true, .. } => "mmmm",
        }
    }
}

/// The parts of a date, in the order in which they are written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Part {
    Day,
    Month,
    Year,
}

impl DateOrder {
    fn parts(self) -> [Part; 3] {
        match self {
            Self::DayMonthYear => [Part::Day, Part::Month, Part::Year],
            Self::MonthDayYear => [Part::Month, Part::Day, Part::Year],
            Self::YearMonthDay => [Part::Year, Part::Month, Part::Day],
        }
    }
}

impl DatePart {
    fn take<'t>(&self, text: &'t str) -> Option<(Date, &'t str)> {
        let (mut day, mut month, mut year) = (0, 0, 0);
        let mut rest = text;
        for (place, part) in self.order.parts().into_iter().enumerate() {
            if place > 0 {
                rest = rest.strip_prefix(self.separators[place - 1].as_str())?;
            }
            match part {
                Part::Day => (day, rest) = self.day.take(rest)?,
                Part::Month => (month, rest) = self.month.take(rest)?,
                Part::Year => {
                    let count = if self.has_century { 4 } else { 2 };
                    let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
                    let found: i16 = rest
                        .get(..count)?
                        .parse()
                        .ok()
                        .filter(|_| digits == count)?;
                    year = match found {
                        _ if self.has_century => found,
                        0..=29 => found + 2000,
                        _ => found + 1900,
                    };
                    rest = &rest[count..];
                }
            }
        }
        let date = Date::new(year, month, day).ok()?;
        (date >= FIRST_DAY).then_some((date, rest))
    }

    fn push(&self, date: Date, out: &mut String) -> Option<()> {
        for (place, part) in self.order.parts().into_iter().enumerate() {
            if place > 0 {
                out.push_str(&self.separators[place - 1]);
            }
            match part {
                Part::Day => self.day.push(date.day(), out),
                Part::Month => self.month.push(date.month(), out),
                Part::Year if self.has_century => out.push_str(&format!("{:04}", date.year())),
                Part::Year if (1930..2030).contains(&date.year()) => {
                    out.push_str(&format!("{:02}", date.year() % 100));
                }
                Part::Year => return None,
            }
        }
        Some(())
    }

    fn code(&self) -> String {
        let mut code = String::new();
        for (place, part) in self.order.parts().into_iter().enumerate() {
            if place > 0 {
                code.push_str(&self.separators[place - 1]);
            }
            code.push_str(match part {
                Part::Day if self.day == Digits::Padded => "dd",
                Part::Day => "d",
                Part::Month => self.month.code(),
                Part::Year if self.has_century => "yyyy",
                Part::Year => "yy",
            });
        }
        code
    }
}

impl TimePart {
    fn take<'t>(&self, text: &'t str) -> Option<(Time, &'t str)> {
        let (mut hour, rest) = self.hour.take(text)?;
        let (minute, mut rest) = Digits::Padded.take(rest.strip_prefix(':')?)?;
        let mut second = 0;
        if self.has_seconds {
            (second, rest) = Digits::Padded.take(rest.strip_prefix(':')?)?;
        }
        if let Some(blank) = &self.half_day {
            rest = rest.strip_prefix(blank.as_str())?;
            let (half, behind) = rest.split_at_checked(2)?;
            if !(1..=12).contains(&hour) {
                return None;
            }
            hour = match half {
                "AM" => hour % 12,
                "PM" => hour % 12 + 12,
                _ => return None,
            };
            rest = behind;
        }
        Some((Time::new(hour, minute, second, 0).ok()?, rest))
    }

    fn push(&self, time: Time, out: &mut String) {
        let hour = match &self.half_day {
            Some(_) => (time.hour() + 11) % 12 + 1,
            None => time.hour(),
        };
        self.hour.push(hour, out);
        out.push_str(&format!(":{:02}", time.minute()));
        if self.has_seconds {
            out.push_str(&format!(":{:02}", time.second()));
        }
        if let Some(blank) = &self.half_day {
            out.push_str(blank);
            out.push_str(if time.hour() < 12 { "AM" } else { "PM" });
        }
    }

    fn code(&self) -> String {
        let hour = match self.hour {
            Digits::Plain => "h",
            Digits::Padded => "hh",
        };
        let seconds = if self.has_seconds { ":ss" } else { "" };
        let half_day = self.half_day.as_ref();
        let half_day = half_day.map_or_else(String::new, |blank| format!("{blank}AM/PM"));
        format!("{hour}:mm{seconds}{half_day}")
    }
}

impl MomentPattern {
    /// Whether a date is written.
    pub fn has_date(&self) -> bool {
        self.date.is_some()
    }

    /// Whether a time of day is written.
    pub fn has_time(&self) -> bool {
        self.time.is_some()
    }

    /// The order of day, month and year, if a date is written.
    pub fn order(&self) -> Option<DateOrder> {
        self.date.as_ref().map(|date| date.order)
    }

    /// Whether months are written by name.
    pub(super) fn has_name(&self) -> bool {
        let month = self.date.as_ref().map(|date| &date.month);
        matches!(month, Some(Month::Name { .. }))
    }

    /// Whether it is for dates of digits whose years have two.
    pub(super) fn has_short_years(&self) -> bool {
        let date = self.date.as_ref();
        date.is_some_and(|date| !date.has_century) && !self.has_name()
    }

    /// How unlikely the pattern is next to others that write the same values: day, month and hour are
    /// most often written alike, without zeros between slashes and with them elsewhere.
    pub(super) fn oddity(&self) -> u32 {
        let date = self.date.as_ref();
        let has_slashes = date.is_none_or(|date| date.separators[0] == "/");
        let usual = if has_slashes || self.has_name() {
            Digits::Plain
        } else {
            Digits::Padded
        };
        let mut digits = Vec::new();
        if let Some(date) = date {
            digits.push(date.day);
            if let Month::Digits(month) = date.month {
                digits.push(month);
            }
        }
        digits.extend(self.time.as_ref().map(|(_, time)| time.hour));
        let is_whole = matches!(
            date.map(|date| &date.month),
            Some(Month::Name { is_whole: true, .. })
        );
        let odd = digits.iter().filter(|digits| **digits != usual).count();
        let differ = digits.windows(2).filter(|pair| pair[0] != pair[1]).count();
        u32::try_from(differ * 8 + odd * 2).unwrap_or(u32::MAX) + u32::from(is_whole)
    }

    /// The moment that a text is: on the first day of the year 1900 if it is a time of day; `None` if it is
    /// not written so.
    pub fn read(&self, text: &str) -> Option<DateTime> {
        let (date, mut rest) = match &self.date {
            Some(date) => date.take(text)?,
            None => (Date::constant(1900, 1, 1), text),
        };
        let mut time = Time::midnight();
        if let Some((between, part)) = &self.time {
            rest = rest.strip_prefix(between.as_str())?;
            (time, rest) = part.take(rest)?;
        }
        rest.is_empty().then(|| date.to_datetime(time))
    }

    /// Writes a moment; `None` if the pattern has no room for it.
    pub fn write(&self, moment: DateTime) -> Option<String> {
        let mut out = String::new();
        if let Some(date) = &self.date {
            date.push(moment.date(), &mut out)?;
        }
        if let Some((between, time)) = &self.time {
            out.push_str(between);
            time.push(moment.time(), &mut out);
        }
        Some(out)
    }

    /// The number format of a cell, after ECMA-376 Part 1, 18.8.31.
    pub fn code(&self) -> String {
        let mut code = String::new();
        let month = self.date.as_ref().map(|date| &date.month);
        // Names of months would follow the language of the program that shows them.
        if let Some(Month::Name { language, .. }) = month
            && let Some(number) = language.code()
        {
            code = format!("[$-{number:X}]");
        }
        code.extend(self.date.as_ref().map(DatePart::code));
        if let Some((between, time)) = &self.time {
            code.push_str(if between == "T" { "\"T\"" } else { between });
            code.push_str(&time.code());
        }
        code
    }

    /// All patterns that a text can be written after, months by name in one of the languages.
    pub(super) fn of(text: &str, languages: &[Language]) -> Vec<Self> {
        let mut found = Vec::new();
        if text.len() > 40 {
            return found;
        }
        for (date, rest) in dates(text, languages) {
            if rest.is_empty() {
                let date = Some(date);
                found.push(Self { date, time: None });
                continue;
            }
            let between = ["T", ", ", " "].into_iter();
            for between in between.filter(|between| rest.starts_with(between)) {
                for time in times(&rest[between.len()..]) {
                    found.push(Self {
                        date: Some(date.clone()),
                        time: Some((between.to_owned(), time)),
                    });
                }
            }
        }
        let times = times(text).into_iter().map(|time| Self {
            date: None,
            time: Some((String::new(), time)),
        });
        found.extend(times);
        found.retain(|pattern| pattern.read(text).is_some());
        found
    }
}

/// The ways in which a text can begin with a date, and what is after it.
fn dates<'t>(text: &'t str, languages: &[Language]) -> Vec<(DatePart, &'t str)> {
    let Some((words, separators, rest)) = three(text) else {
        return Vec::new();
    };
    let is_number = |word: &str| word.bytes().all(|byte| byte.is_ascii_digit());
    let mut found = Vec::new();
    for order in [
        DateOrder::MonthDayYear,
        DateOrder::DayMonthYear,
        DateOrder::YearMonthDay,
    ] {
        let word = |wanted: Part| {
            let place = order.parts().into_iter().position(|part| part == wanted);
            words[place.unwrap_or(0)]
        };
        let (day, month, year) = (word(Part::Day), word(Part::Month), word(Part::Year));
        let has_century = year.len() == 4;
        // With a name of a month the year comes first only if nobody can take it for the day.
        let is_year = has_century
            || (year.len() == 2 && (is_number(month) || order != DateOrder::YearMonthDay));
        if !is_number(day) || !is_number(year) || !is_year {
            continue;
        }
        let months: Vec<Month> = if is_number(month) {
            let ways = Digits::of(month).iter();
            ways.map(|digits| Month::Digits(*digits)).collect()
        } else {
            let ways = languages.iter().flat_map(|language| {
                // May is both; the short one is no longer.
                [false, true].map(|is_whole| Month::Name {
                    is_whole,
                    language: language.clone(),
                })
            });
            ways.filter(|way| way.take(month).is_some()).collect()
        };
        for month in &months {
            for day in Digits::of(day) {
                found.push((
                    DatePart {
                        order,
                        day: *day,
                        month: month.clone(),
                        has_century,
                        separators: separators.map(str::to_owned),
                    },
                    rest,
                ));
            }
        }
    }
    found
}

/// The first three words of a text, the two separators between them, and what is after.
fn three(text: &str) -> Option<([&str; 3], [&str; 2], &str)> {
    let mut words = [""; 3];
    let mut separators = [""; 2];
    let mut rest = text;
    for place in 0..3 {
        let first = rest.chars().next()?;
        let same = |c: char| {
            if first.is_ascii_digit() {
                c.is_ascii_digit()
            } else {
                c.is_alphabetic()
            }
        };
        let end = rest.find(|c| !same(c)).unwrap_or(rest.len());
        (words[place], rest) = rest.split_at(end);
        if words[place].is_empty() {
            return None;
        }
        if place < 2 {
            let known = [". ", ", ", "/", ".", "-", " "];
            let separator = known.into_iter().find(|known| rest.starts_with(known))?;
            separators[place] = separator;
            rest = &rest[separator.len()..];
        }
    }
    Some((words, separators, rest))
}

/// The ways in which a text can be a time of day.
fn times(text: &str) -> Vec<TimePart> {
    let end = text
        .find(|c: char| !c.is_ascii_digit())
        .unwrap_or(text.len());
    let colons = text.matches(':').count();
    if !(1..=2).contains(&colons) {
        return Vec::new();
    }
    let half_day = text.strip_suffix("AM").or(text.strip_suffix("PM"));
    let half_day = half_day.map(|before| {
        let blank = if before.ends_with(' ') { " " } else { "" };
        blank.to_owned()
    });
    let ways = Digits::of(&text[..end]).iter();
    let ways = ways.map(|hour| TimePart {
        hour: *hour,
        has_seconds: colons == 2,
        half_day: half_day.clone(),
    });
    ways.filter(|way| way.take(text).is_some_and(|(_, rest)| rest.is_empty()))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_are_read_and_written_again() {
        let languages = [Language::english(), "de".parse().expect("a language")];
        for (text, code, iso) in [
            ("9/10/2023", "m/d/yyyy", "2023-09-10T00:00:00"),
            ("31.12.26", "dd.mm.yy", "2026-12-31T00:00:00"),
            ("5. März 2026", "[$-407]d. mmmm yyyy", "2026-03-05T00:00:00"),
            ("05-Mar-26", "[$-409]dd-mmm-yy", "2026-03-05T00:00:00"),
            ("Mar 5, 2026", "[$-409]mmm d, yyyy", "2026-03-05T00:00:00"),
            ("2026/03/05", "yyyy/mm/dd", "2026-03-05T00:00:00"),
            (
                "3/5/2026 9:05 PM",
                "m/d/yyyy h:mm AM/PM",
                "2026-03-05T21:05:00",
            ),
            ("12:30:15 AM", "hh:mm:ss AM/PM", "1900-01-01T00:30:15"),
            ("31/1/1975", "dd/m/yyyy", "1975-01-31T00:00:00"),
        ] {
            let ways = MomentPattern::of(text, &languages);
            let way = ways.iter().find(|way| way.code() == code);
            let way = way.unwrap_or_else(|| panic!("{text}: {ways:?}"));
            let moment = way.read(text).expect(text);
            assert_eq!(moment.to_string(), iso, "{text}");
            assert_eq!(way.write(moment).as_deref(), Some(text));
        }
        for text in [
            "",
            "30/2/2026",
            "1.2.3",
            "12:30",
            "5 Foo 2026",
            "1/2/1899",
            "007/1/2026",
        ] {
            let ways = MomentPattern::of(text, &languages);
            let dated = ways.iter().filter(|way| way.has_date());
            assert_eq!(dated.count(), 0, "{text}: {ways:?}");
        }
    }
}
