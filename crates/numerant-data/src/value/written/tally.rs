//! Finds the written format of a column while its values pass.

use super::super::{DecimalMark, Number};
use super::locale::Language;
use super::moment::{DateOrder, MomentPattern};
use super::number::{Negative, NumberPattern, Parts};
use jiff::civil::DateTime;

/// The written format of a column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WrittenFormat {
    /// Numbers.
    Number(NumberPattern),
    /// Dates, times of day, or both.
    Moment(MomentPattern),
}

/// What is stated of how values are written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WrittenHints {
    /// The only decimal mark that numbers can have.
    pub mark: Option<DecimalMark>,
    /// The only order that dates of digits can have.
    pub order: Option<DateOrder>,
    /// The language of months, besides English.
    pub language: Option<Language>,
    /// Values are only read, and not written again: numbers may have any digits after the mark.
    pub is_for_reading: bool,
}

impl WrittenFormat {
    /// The number format of a cell, after ECMA-376 Part 1, 18.8.31.
    pub fn code(&self) -> String {
        match self {
            Self::Number(pattern) => pattern.code(),
            Self::Moment(pattern) => pattern.code(),
        }
    }

    /// What a value looks like in it, for people: `1.234,56 €` or `12/31/2026`.
    pub fn example(&self) -> String {
        let written = match self {
            Self::Number(pattern) => {
                let whole = if pattern.is_percent() { 12 } else { 1234 };
                let digits = "5678901234";
                let places = usize::from(pattern.places).min(digits.len());
                let units = format!("{whole}{}", &digits[..places])
                    .parse()
                    .unwrap_or(whole);
                let percent = if pattern.is_percent() { 2 } else { 0 };
                let scale = u32::from(pattern.places) + percent;
                pattern.write(Number { units, scale })
            }
            Self::Moment(pattern) => {
                pattern.write(jiff::civil::date(2026, 12, 31).at(21, 5, 30, 0))
            }
        };
        written.unwrap_or_else(|| self.code())
    }

    /// Whether its values are read like this without anything being detected: plain numbers, and dates after
    /// ISO 8601.
    pub fn is_plain(&self) -> bool {
        match self {
            Self::Number(pattern) => {
                let is_bare = pattern.prefix.is_empty() && pattern.suffix.is_empty();
                let is_point = pattern.mark == '.' || pattern.places == 0;
                is_bare
                    && is_point
                    && pattern.group.is_none()
                    && pattern.negative == Negative::Before
            }
            Self::Moment(pattern) => pattern.code().starts_with("yyyy-mm-dd"),
        }
    }

    /// The number that a text is, if the column holds numbers.
    pub fn number(&self, text: &str) -> Option<Number> {
        match self {
            Self::Number(pattern) => pattern.read(text),
            Self::Moment(_) => None,
        }
    }

    /// The number that a text is whose fraction may have any digits, if the column holds numbers.
    pub fn value(&self, text: &str) -> Option<Number> {
        match self {
            Self::Number(pattern) => pattern.value(text),
            Self::Moment(_) => None,
        }
    }

    /// The moment that a text is, if the column holds dates or times.
    pub fn moment(&self, text: &str) -> Option<DateTime> {
        match self {
            Self::Number(_) => None,
            Self::Moment(pattern) => pattern.read(text),
        }
    }
}

/// A value that is not written as the others of its column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misfit {
    /// How many there are.
    pub count: u64,
    /// The first of them, up to 40 characters.
    pub value: String,
    /// Where it stands, as it was counted.
    pub line: u64,
}

/// What came of the values of a column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WrittenOutcome {
    /// They have no written format in common.
    None,
    /// One format writes all of them.
    All(WrittenFormat),
    /// One format writes most of them.
    Most(WrittenFormat, Misfit),
    /// Two formats write all of them, and mean different values.
    Ambiguous(WrittenFormat, WrittenFormat),
}

/// Values after which a column is given up most of whose values have no format.
const PATIENCE: u64 = 64;

/// Candidates that are followed at the same time.
const MAX_CANDIDATES: usize = 24;

/// Characters of a value that are kept for messages.
const SHOWN: usize = 40;

/// A format that some values have.
#[derive(Clone, Debug)]
struct Candidate {
    format: WrittenFormat,
    /// What is settled of a number pattern by the values so far.
    settled: Settled,
    fits: u64,
    misfit: Option<Misfit>,
}

/// Which parts of a number pattern a value has settled.
#[derive(Clone, Copy, Debug, Default)]
struct Settled {
    grouping: bool,
    negative: bool,
}

/// Follows the formats that the values of a column can have.
#[derive(Clone, Debug, Default)]
pub struct WrittenTally {
    candidates: Vec<Candidate>,
    values: u64,
    /// So many values are waited for before hopeless candidates are dropped.
    next_look: u64,
    first: Option<(String, u64)>,
    is_over: bool,
    /// Which numbers are first and third in dates whose years have two digits.
    ends: [u128; 2],
    languages: Vec<Language>,
    hints: WrittenHints,
}

fn shown(value: &str) -> String {
    let mut shown: String = value.chars().take(SHOWN).collect();
    if shown.len() < value.len() {
        shown.push('…');
    }
    shown
}

impl WrittenTally {
    /// A tally for values of which something is stated.
    pub fn new(hints: WrittenHints) -> Self {
        let mut languages = vec![Language::english()];
        languages.extend(hints.language.clone());
        Self {
            languages,
            hints,
            next_look: PATIENCE,
            ..Self::default()
        }
    }

    /// Whether no value can change what came of the column.
    #[inline]
    pub fn is_over(&self) -> bool {
        self.is_over
    }

    /// Takes note of a value that is not blank. `line` says where it stands.
    pub fn add(&mut self, value: &str, line: u64) {
        self.add_many(value, line, 1);
    }

    /// Takes note of so many values that are written alike, of which one is given.
    pub fn add_many(&mut self, value: &str, line: u64, count: u64) {
        if self.is_over {
            return;
        }
        self.values += count;
        if self.candidates.iter().any(Candidate::is_of_short_years) {
            self.note_ends(value);
        }
        let mut any = false;
        for candidate in &mut self.candidates {
            if candidate.takes(value, self.hints.is_for_reading) {
                candidate.fits += count;
                any = true;
            } else {
                let misfit = candidate.misfit.get_or_insert_with(|| Misfit {
                    count: 0,
                    value: shown(value),
                    line,
                });
                misfit.count += count;
                if line < misfit.line {
                    (misfit.line, misfit.value) = (line, shown(value));
                }
            }
        }
        if !any && self.candidates.len() < MAX_CANDIDATES {
            let before = self.values - count;
            let misfit = self.first.as_ref().map(|(value, line)| Misfit {
                count: before,
                value: value.clone(),
                line: *line,
            });
            let new = self.formats(value).into_iter();
            self.note_ends(value);
            self.candidates
                .extend(new.map(|(format, settled)| Candidate {
                    format,
                    settled,
                    fits: count,
                    misfit: misfit.clone(),
                }));
        }
        if self.first.is_none() {
            self.first = Some((shown(value), line));
        }
        if self.values >= self.next_look {
            self.next_look = self.values + PATIENCE;
            let half = self.values / 2;
            self.candidates.retain(|candidate| candidate.fits >= half);
            self.is_over = self.candidates.is_empty();
        }
    }

    /// Takes note of the first and third number of a date.
    fn note_ends(&mut self, value: &str) {
        let mut numbers = value.split(|c: char| !c.is_ascii_digit());
        let ends = (numbers.next(), numbers.nth(1));
        for (known, digits) in self.ends.iter_mut().zip([ends.0, ends.1]) {
            let number: Option<u32> = digits.and_then(|digits| digits.parse().ok());
            if let Some(number) = number.filter(|number| *number < 100) {
                *known |= 1 << number;
            }
        }
    }

    /// Whether the year is first in dates of three numbers of two digits, which is the end that varies
    /// less; `None` if both vary alike.
    fn has_year_first(&self) -> Option<bool> {
        let [first, third] = self.ends.map(u128::count_ones);
        (first != third).then_some(first < third)
    }

    /// The formats that a value can have by itself.
    fn formats(&self, value: &str) -> Vec<(WrittenFormat, Settled)> {
        let mut found = Vec::new();
        let has_digit = value.bytes().any(|byte| byte.is_ascii_digit());
        if !has_digit || value.len() > SHOWN {
            return found;
        }
        let stated = self.hints.mark.map(|mark| match mark {
            DecimalMark::Point => '.',
            DecimalMark::Comma => ',',
        });
        for mark in ['.', ','] {
            if stated.is_some_and(|stated| stated != mark) {
                continue;
            }
            let Some(parts) = Parts::of(value, mark) else {
                continue;
            };
            let pattern = NumberPattern {
                mark,
                group: parts.group,
                places: u8::try_from(parts.fraction.len()).unwrap_or(u8::MAX),
                prefix: parts.prefix.to_owned(),
                suffix: parts.suffix.to_owned(),
                negative: parts.negative.unwrap_or(Negative::Before),
            };
            let settled = Settled {
                grouping: parts.digits > 3,
                negative: parts.negative.is_some(),
            };
            found.push((WrittenFormat::Number(pattern), settled));
        }
        let moments = MomentPattern::of(value, &self.languages);
        let moments = moments.into_iter().filter(|pattern| {
            let stated = self.hints.order;
            pattern.has_name() || stated.is_none() || pattern.order() == stated
        });
        found.extend(moments.map(|pattern| (WrittenFormat::Moment(pattern), Settled::default())));
        found
    }

    /// What came of all values.
    pub fn finish(&self) -> WrittenOutcome {
        let usable = |candidate: &&Candidate| match &candidate.format {
            WrittenFormat::Number(pattern) => {
                NumberPattern::has_language(pattern.mark, pattern.group)
            }
            WrittenFormat::Moment(_) => true,
        };
        let all = self.candidates.iter().filter(usable);
        let mut all: Vec<&Candidate> = all.filter(|all| all.misfit.is_none()).collect();
        if all.iter().all(|candidate| candidate.is_of_short_years())
            && let Some(has_year_first) = self.has_year_first()
        {
            all.retain(|candidate| candidate.has_year_first() == has_year_first);
        }
        let preferred = all.iter().min_by_key(|candidate| candidate.oddity());
        let Some(best) = preferred else {
            // Of those that are alike, the first.
            let most = self.candidates.iter().filter(usable).rev();
            let best = most.max_by_key(|candidate| candidate.fits);
            let best = best.filter(|candidate| candidate.fits * 2 > self.values);
            return match best {
                Some(Candidate {
                    format,
                    misfit: Some(misfit),
                    ..
                }) => WrittenOutcome::Most(format.clone(), misfit.clone()),
                _ => WrittenOutcome::None,
            };
        };
        let others = all.iter().filter(|other| !best.means_the_same(other));
        match others.min_by_key(|other| other.oddity()) {
            Some(other) => WrittenOutcome::Ambiguous(best.format.clone(), other.format.clone()),
            None => WrittenOutcome::All(best.format.clone()),
        }
    }
}

impl Candidate {
    /// Whether a value has this format, which it may settle further.
    fn takes(&mut self, value: &str, any_places: bool) -> bool {
        let pattern = match &mut self.format {
            WrittenFormat::Moment(pattern) => return pattern.read(value).is_some(),
            WrittenFormat::Number(pattern) => pattern,
        };
        let Some(parts) = Parts::of(value, pattern.mark) else {
            return false;
        };
        let mut wanted = pattern.clone();
        let mut settled = self.settled;
        if parts.digits > 3 && !settled.grouping {
            settled.grouping = true;
            wanted.group = parts.group;
        }
        if let Some(negative) = parts.negative
            && !settled.negative
        {
            settled.negative = true;
            wanted.negative = negative;
        }
        let has_places = any_places || parts.fraction.len() == usize::from(wanted.places);
        let fits = has_places && wanted.fits(&parts);
        if fits {
            *pattern = wanted;
            self.settled = settled;
        }
        fits
    }

    /// How unlikely it is next to others that write the same values.
    fn oddity(&self) -> u32 {
        match &self.format {
            WrittenFormat::Moment(pattern) => pattern.oddity(),
            WrittenFormat::Number(_) => 0,
        }
    }

    /// Whether it is for dates of digits whose years have two.
    fn is_of_short_years(&self) -> bool {
        match &self.format {
            WrittenFormat::Moment(pattern) => pattern.has_short_years(),
            WrittenFormat::Number(_) => false,
        }
    }

    fn has_year_first(&self) -> bool {
        match &self.format {
            WrittenFormat::Moment(pattern) => pattern.order() == Some(DateOrder::YearMonthDay),
            WrittenFormat::Number(_) => false,
        }
    }

    /// Whether two formats that write the same values read them as the same.
    fn means_the_same(&self, other: &Self) -> bool {
        match (&self.format, &other.format) {
            (WrittenFormat::Number(one), WrittenFormat::Number(other)) => {
                // Without a fraction and a group, either mark reads the same.
                let is_bare =
                    |pattern: &NumberPattern| pattern.places == 0 && pattern.group.is_none();
                one.mark == other.mark || (is_bare(one) && is_bare(other))
            }
            (WrittenFormat::Moment(one), WrittenFormat::Moment(other)) => {
                one.order() == other.order()
            }
            _ => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn outcome(values: &[&str], hints: WrittenHints) -> WrittenOutcome {
        let mut tally = WrittenTally::new(hints);
        for (place, value) in values.iter().enumerate() {
            tally.add(value, place as u64 + 2);
        }
        tally.finish()
    }

    fn code(values: &[&str]) -> String {
        match outcome(values, WrittenHints::default()) {
            WrittenOutcome::None => "none".to_owned(),
            WrittenOutcome::All(format) => format.code(),
            WrittenOutcome::Most(format, misfit) => {
                format!(
                    "{}, {} not: line {} {}",
                    format.code(),
                    misfit.count,
                    misfit.line,
                    misfit.value
                )
            }
            WrittenOutcome::Ambiguous(one, other) => format!("{} or {}", one.code(), other.code()),
        }
    }

    #[test]
    fn a_column_has_the_format_of_all_its_values() {
        for (values, expected) in [
            (
                &["$5.00", "$49,442.00", "($1,250.00)"][..],
                "$#,##0.00;($#,##0.00)",
            ),
            (&["1,234", "12,500", "999"], "#,##0"),
            (&["1.234,50", "0,05"], "[$-407]#,##0.00"),
            (&["1,5", "2,0"], "[$-407]0.0"),
            (&["1,234", "5,678"], "#,##0 or [$-407]0.000"),
            (&["12.5 %", "3.0 %"], "0.0 %"),
            (&["9/10/2023", "12/31/2023"], "m/d/yyyy"),
            (&["31/12/2023", "01/02/2024"], "dd/mm/yyyy"),
            (&["3/4/2026", "5/6/2026"], "m/d/yyyy or d/m/yyyy"),
            (&["3/3/26", "13/3/26"], "d/m/yy"),
            (&["05-Mar-26", "17-Dec-26"], "[$-409]dd-mmm-yy"),
            (&["North", "East"], "none"),
            (&["$1", "$3", "€2"], "$0, 1 not: line 4 €2"),
            (&["n/a", "9/13/2023", "1/2/2024", "-"], "none"),
            (
                &["n/a", "9/13/2023", "1/2/2024"],
                "m/d/yyyy, 1 not: line 2 n/a",
            ),
            (&["31/12/26", "30/12/26", "02/01/27"], "dd/mm/yy"),
            (&["26/12/30", "26/12/31", "27/01/02"], "yy/mm/dd"),
            (&["10/11/12"], "m/d/yy or d/m/yy"),
            (&["VRN9000029"], "none"),
            (&["1.2.3", "4.5.6"], "none"),
            (&["1,50", "1,5"], "none"),
        ] {
            assert_eq!(code(values), expected, "{values:?}");
        }
    }

    #[test]
    fn what_is_stated_decides() {
        let hints = WrittenHints {
            order: Some(DateOrder::DayMonthYear),
            mark: Some(DecimalMark::Comma),
            language: None,
            is_for_reading: false,
        };
        let WrittenOutcome::All(format) = outcome(&["3/4/2026"], hints.clone()) else {
            panic!("a date");
        };
        assert_eq!(format.code(), "d/m/yyyy");
        let WrittenOutcome::All(format) = outcome(&["1,234"], hints) else {
            panic!("a number");
        };
        assert_eq!(
            format.number("1,234").map(|n| n.to_string()).as_deref(),
            Some("1.234")
        );
    }

    #[test]
    fn what_is_only_read_may_have_any_digits() {
        let hints = WrittenHints {
            is_for_reading: true,
            ..WrittenHints::default()
        };
        let values = ["$1,000", "$2,500.50", "($7)"];
        let WrittenOutcome::All(format) = outcome(&values, hints) else {
            panic!("a number");
        };
        let read = |text| format.value(text).map(|number| number.to_string());
        assert_eq!(read("$2,500.50").as_deref(), Some("2500.50"));
        assert_eq!(read("($1,000.125)").as_deref(), Some("-1000.125"));
        assert_eq!(read("€5"), None);
        assert_eq!(format.example(), "$1,234");
    }

    proptest::proptest! {
        #[test]
        fn what_is_typed_is_written_again_as_it_was(
            values in proptest::collection::vec("[0-9]{1,3}([.,/ :'\\-€$%()APMärzMay\u{202f}]{0,2}[0-9]{0,4}){0,4}", 1..6),
            affixes in proptest::array::uniform2("[$€%()\\- ]{0,2}"),
        ) {
            let values: Vec<String> =
                values.iter().map(|value| format!("{}{value}{}", affixes[0], affixes[1])).collect();
            let texts: Vec<&str> = values.iter().map(String::as_str).collect();
            let hints = WrittenHints { language: "de".parse().ok(), ..WrittenHints::default() };
            if let WrittenOutcome::All(format) = outcome(&texts, hints) {
                for text in texts {
                    let again = match &format {
                        WrittenFormat::Number(pattern) => {
                            pattern.read(text).and_then(|number| pattern.write(number))
                        }
                        WrittenFormat::Moment(pattern) => {
                            pattern.read(text).and_then(|moment| pattern.write(moment))
                        }
                    };
                    proptest::prop_assert_eq!(again.as_deref(), Some(text), "{:?}", format);
                }
            }
        }

        #[test]
        fn no_text_is_too_odd_to_look_at(values in proptest::collection::vec("\\PC{0,12}", 0..8)) {
            let texts: Vec<&str> = values.iter().map(String::as_str).collect();
            let _ = outcome(&texts, WrittenHints::default());
        }

        #[test]
        fn what_a_pattern_writes_it_reads_again(
            units in -999_999_999_999_i64..999_999_999_999,
            places in 0_u8..4, shape in 0_usize..6, negative in 0_usize..4, suffix in 0_usize..4,
        ) {
            let (mark, group) = [
                ('.', Some(',')), ('.', None), (',', Some('.')), (',', Some('\u{202f}')), (',', None), ('.', Some('\'')),
            ][shape];
            let pattern = NumberPattern {
                mark,
                group,
                places,
                prefix: if suffix == 0 { "$".to_owned() } else { String::new() },
                suffix: ["", " €", "%", ""][suffix].to_owned(),
                negative: match negative {
                    1 if suffix == 0 => Negative::BeforeDigits,
                    2 => Negative::Behind,
                    3 => Negative::Parentheses,
                    _ => Negative::Before,
                },
            };
            let percent = if pattern.is_percent() { 2 } else { 0 };
            let number = Number { units: units.into(), scale: u32::from(places) + percent };
            let text = pattern.write(number).expect("room");
            proptest::prop_assert_eq!(pattern.read(&text), Some(number), "{}", text);
            let mut tally = WrittenTally::new(WrittenHints::default());
            tally.add(&text, 1);
            let fits = tally.candidates.iter().any(|found| match &found.format {
                WrittenFormat::Number(found) => found.write(number).as_deref() == Some(&text),
                WrittenFormat::Moment(_) => false,
            });
            proptest::prop_assert!(fits, "{}", text);
        }
    }
}
