//! The type of each column of an output, decided from all values in it.
//!
//! A column gets a type only where every value of it would come back just as it was; else it is
//! text. Where the values come from typed cells there is nothing to decide: each keeps its own.

use numerant_data::narrow::fit;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::cell::{Cell, CellFormat, Class, Look, serial_of};
use super::number_format::{Moments, Shown, Spelling};
use super::write::KeptFormat;
use numerant_data::value::{
    ColumnType, PlainShape, WrittenColumn, WrittenFormat, WrittenHints, WrittenOutcome,
};

/// Whether columns of workbooks are typed.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Types {
    /// Where all values would come back as they were.
    #[default]
    Auto,
    /// Not at all: everything is text.
    Off,
}

/// What the values of a column are.
#[derive(Clone, Debug, Default)]
pub struct ColumnTally {
    counts: [u64; Class::COUNT],
    /// The fewest and the most digits after the point, over all numbers.
    scales: Option<(u8, u8)>,
    /// The most digits among those numbers that end with a zero.
    padded: u8,
    /// The format of all moments, but for how many hours there are.
    format: Option<CellFormat>,
    /// The first value whose spelling is not that of the ones before.
    odd: Option<Odd>,
    /// The first value of each class.
    firsts: [Option<Odd>; Class::COUNT],
    /// Characters of the longest value.
    pub(crate) longest: usize,
    /// Some of its numbers have more digits than a cell holds.
    pub has_long_numbers: bool,
    /// How its values are written, if not all are plain.
    written: WrittenColumn,
}

/// A value that keeps a column text, and where it stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Odd {
    /// The value, up to 40 characters of it.
    pub value: String,
    /// Its line or row in the source.
    pub line: u64,
}

/// Characters of a value that are kept for messages.
const SHOWN: usize = 40;

impl ColumnTally {
    /// Takes note of a value.
    #[inline]
    pub(crate) fn add(&mut self, look: &Look, value: &[u8], line: impl Fn() -> u64) {
        let class = look.class as usize;
        self.counts[class] += 1;
        if look.class == Class::Blank {
            return;
        }
        self.longest = self.longest.max(value.len());
        if self.counts[class] == 1 {
            self.firsts[class] = Some(odd(value, line()));
        }
        match look.class {
            Class::Integer | Class::Decimal => {
                let (least, most) = self.scales.get_or_insert((look.scale, look.scale));
                *least = look.scale.min(*least);
                *most = look.scale.max(*most);
                if look.padded {
                    self.padded = self.padded.max(look.scale);
                }
                if self.padded > *least && self.odd.is_none() {
                    self.odd = Some(odd(value, line()));
                }
            }
            Class::Date | Class::Datetime | Class::Time | Class::Boolean => {
                if self.format.as_ref() == Some(&look.format) {
                    return;
                }
                let Some(known) = self.format.clone() else {
                    self.format = Some(look.format.clone());
                    return;
                };
                match (known, look.format.clone()) {
                    (
                        CellFormat::Time { precision: one, .. },
                        CellFormat::Time {
                            precision: other, ..
                        },
                    ) if one == other => {
                        let precision = one;
                        self.format = Some(CellFormat::Time {
                            elapsed: true,
                            precision,
                        });
                    }
                    _ if self.odd.is_none() => self.odd = Some(odd(value, line())),
                    _ => {}
                }
            }
            _ => {}
        }
    }

    /// Takes note of how a value is written, whose column may be typed by that.
    #[inline]
    pub(crate) fn add_written(
        &mut self,
        look: &Look,
        value: &[u8],
        hints: &WrittenHints,
        line: impl Fn() -> u64,
    ) {
        if look.class != Class::Blank && !self.written.is_over() {
            let shape = match look.class {
                Class::Integer | Class::Decimal => Some(PlainShape::Number(look.scale)),
                Class::Date | Class::Datetime | Class::Time => Some(PlainShape::Moment),
                Class::Boolean => Some(PlainShape::Boolean),
                Class::Blank | Class::Text => None,
            };
            self.written.add(value, shape, hints, line);
        }
    }

    /// What came of how the values are written.
    pub fn written(&self) -> WrittenOutcome {
        self.written.finish()
    }

    fn count(&self, class: Class) -> u64 {
        self.counts[class as usize]
    }

    /// The format of all numbers of the column; `None` if one of them would not come back.
    fn number_format(&self) -> Option<CellFormat> {
        let (least, most) = self.scales?;
        if least == most {
            return Some(match least {
                0 => CellFormat::General,
                places => CellFormat::Fixed(places),
            });
        }
        if self.padded == 0 {
            return Some(CellFormat::General);
        }
        (self.padded <= least).then_some(CellFormat::AtLeast(least))
    }

    /// The number format by which all values of a declared column are written.
    fn declared_format(&self, declared: Option<ColumnType>) -> Option<CellFormat> {
        declared?;
        match self.written() {
            WrittenOutcome::All(format) if !format.is_plain() => {
                Some(CellFormat::Custom(format.code().into()))
            }
            _ => None,
        }
    }

    /// How the column is written.
    pub fn plan(&self, types: Types, stored: bool, declared: Option<ColumnType>) -> Plan {
        let values = self.counts.iter().sum::<u64>() - self.count(Class::Blank);
        if types == Types::Off || values == 0 || declared == Some(ColumnType::Text) {
            return Plan::Text;
        }
        // One rule for the whole column: none of its numbers is a cell if one of them cannot be.
        if self.has_long_numbers && declared.is_none() {
            return Plan::Text;
        }
        let all = |classes: &[Class]| {
            let counted: u64 = classes.iter().map(|class| self.count(*class)).sum();
            counted == values
        };
        if all(&[Class::Integer, Class::Decimal]) {
            if let Some(format) = self.declared_format(declared) {
                return Plan::Number(format);
            }
            // Of what is declared a number the value counts, and not how many zeros it ends with.
            let most = self.scales.map_or(0, |(_, most)| most);
            let declared = declared.map(|_| CellFormat::Fixed(most));
            if let Some(format) = self.number_format().or(declared) {
                return Plan::Number(format);
            }
        }
        if stored && declared.is_none() {
            return Plan::AsInSource(
                self.scales
                    .filter(|(least, most)| least == most)
                    .map(|(_, s)| s),
            );
        }
        if all(&[Class::Boolean]) && self.odd.is_none() {
            return self.format.clone().map_or(Plan::Text, Plan::Boolean);
        }
        let moments = [Class::Date, Class::Datetime, Class::Time];
        if moments.iter().any(|class| all(&[*class]))
            && let Some(format) = self.declared_format(declared)
        {
            return Plan::Moment(format);
        }
        if moments.iter().any(|class| all(&[*class])) && self.odd.is_none() {
            return self.format.clone().map_or(Plan::Text, Plan::Moment);
        }
        match declared {
            None => match self.written() {
                WrittenOutcome::All(format) => {
                    let code = CellFormat::Custom(format.code().into());
                    Plan::Written(Arc::new(format), code)
                }
                _ => Plan::Text,
            },
            Some(_) if all(&[Class::Boolean]) => {
                Plan::Boolean(CellFormat::Boolean(Spelling::Upper))
            }
            // Each is of the type, in a spelling of its own.
            Some(_) => Plan::AsInSource(None),
        }
    }

    /// Whether it has no value at all.
    pub fn is_blank(&self) -> bool {
        let blank = self.counts[Class::Blank as usize];
        self.counts.iter().sum::<u64>() == blank
    }

    /// The value that keeps the column text, if most of the others have one type.
    pub fn reason(&self) -> Option<(&Odd, Class)> {
        let values = self.counts.iter().sum::<u64>() - self.count(Class::Blank);
        let texts = self.count(Class::Text);
        if texts * 2 > values || values == 0 {
            return None;
        }
        if texts > 0 {
            let usual = self.usual();
            return self.firsts[Class::Text as usize]
                .as_ref()
                .map(|odd| (odd, usual));
        }
        let usual = self.usual();
        if let Some(odd) = &self.odd {
            return Some((odd, usual));
        }
        let numbers = [Class::Integer, Class::Decimal];
        let other = |class: &&Option<Odd>| class.is_some();
        let place = self
            .firsts
            .iter()
            .enumerate()
            .filter(|(_, first)| other(first))
            .filter(|(place, _)| {
                *place != usual as usize
                    && !(numbers.contains(&usual)
                        && numbers.contains(&Class::from_byte(fit(*place))))
            })
            .map(|(place, _)| place)
            .next()?;
        self.firsts[place].as_ref().map(|odd| (odd, usual))
    }

    /// The class that most values have.
    fn usual(&self) -> Class {
        let typed = Class::Integer as usize..Class::COUNT;
        let most = typed.max_by_key(|class| self.counts[*class]);
        Class::from_byte(fit(most.unwrap_or(1)))
    }
}

fn odd(value: &[u8], line: u64) -> Odd {
    let text = String::from_utf8_lossy(value);
    let mut value: String = text.chars().take(SHOWN).collect();
    if value.len() < text.len() {
        value.push('…');
    }
    Odd { value, line }
}

/// How the values of a column are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Plan {
    /// As text.
    Text,
    /// As numbers in one format.
    Number(CellFormat),
    /// As dates or times in one format.
    Moment(CellFormat),
    /// As true and false.
    Boolean(CellFormat),
    /// As numbers or moments that are written in one way in their source.
    Written(Arc<WrittenFormat>, CellFormat),
    /// Each as what it is; numbers all have so many digits after the point, if they all have as
    /// many.
    AsInSource(Option<u8>),
}

impl Plan {
    /// A value as a cell of the column, under a number format of its own if it is a number or a moment.
    #[inline]
    pub fn formatted_cell<'v>(
        &self,
        class: Class,
        value: &'v str,
        format: Option<&KeptFormat>,
    ) -> Cell<'v> {
        match (self.cell(class, value), format) {
            (Cell::Number(value, _), Some(kept)) if !kept.is_moment => {
                Cell::Number(value, kept.format.clone())
            }
            (Cell::Moment(serial, text, _), Some(kept)) if kept.is_moment => {
                Cell::Moment(serial, text, kept.format.clone())
            }
            (cell, _) => cell,
        }
    }

    /// A value as a cell of the column.
    #[inline]
    pub fn cell<'v>(&self, class: Class, value: &'v str) -> Cell<'v> {
        if class == Class::Blank {
            return Cell::Blank;
        }
        let moment = |format| match serial_of(value.as_bytes()) {
            Some(serial) => Cell::Moment(serial, value.into(), format),
            None => Cell::Text(value),
        };
        let number = |format| Cell::Number(value.into(), format);
        match self {
            Self::Text => Cell::Text(value),
            Self::Number(format) => number(format.clone()),
            Self::Moment(format) => moment(format.clone()),
            Self::Boolean(format) => Cell::Boolean(is_true(value), format.clone()),
            Self::Written(written, format) => match written_cell(written, value) {
                Some((None, digits)) => Cell::Number(digits.into(), format.clone()),
                Some((Some(serial), text)) => Cell::Moment(serial, text.into(), format.clone()),
                None => Cell::Text(value),
            },
            Self::AsInSource(places) => match class {
                Class::Blank => Cell::Blank,
                Class::Text => Cell::Text(value),
                Class::Boolean => {
                    Cell::Boolean(is_true(value), Look::at(value.as_bytes(), true).format)
                }
                Class::Integer => number(CellFormat::General),
                Class::Decimal => {
                    let scale = value
                        .bytes()
                        .rev()
                        .position(|byte| byte == b'.')
                        .unwrap_or(0);
                    let fixed = places.is_some() || value.ends_with('0');
                    let format = if fixed {
                        CellFormat::Fixed(fit(scale.min(30)))
                    } else {
                        CellFormat::General
                    };
                    number(format)
                }
                Class::Date | Class::Datetime | Class::Time => {
                    moment(Look::at(value.as_bytes(), true).format)
                }
            },
        }
    }

    /// The type in a word, for reports.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Number(CellFormat::General | CellFormat::AtLeast(_) | CellFormat::Fixed(_))
            | Self::Number(_) => "number",
            Self::Moment(CellFormat::Custom(code)) => match Shown::of(code) {
                Shown::Moment(Moments { time: false, .. }) => "date",
                Shown::Moment(Moments { date: false, .. }) => "time",
                _ => "datetime",
            },
            Self::Moment(CellFormat::Date) => "date",
            Self::Moment(CellFormat::Time { .. }) => "time",
            Self::Moment(_) => "datetime",
            Self::Boolean(_) => "boolean",
            Self::Written(format, _) => match &**format {
                WrittenFormat::Number(_) => "number",
                WrittenFormat::Moment(pattern) => match (pattern.has_date(), pattern.has_time()) {
                    (true, false) => "date",
                    (false, _) => "time",
                    (true, true) => "datetime",
                },
            },
            Self::AsInSource(_) => "as in the source",
        }
    }
}

/// The value of a cell in a column of which that is how values are written: the digits of a number, or
/// the days of the 1900 system with a text after ISO 8601.
fn written_cell(format: &WrittenFormat, value: &str) -> Option<(Option<f64>, String)> {
    if let Some(number) = format.number(value) {
        let mut number = number;
        while number.scale > 0 && number.units % 10 == 0 {
            number.units /= 10;
            number.scale -= 1;
        }
        return Some((None, number.to_string()));
    }
    let moment = format.moment(value)?;
    let WrittenFormat::Moment(pattern) = format else {
        return None;
    };
    let time = moment.time();
    let seconds = i64::from(time.hour()) * 3600 + i64::from(time.minute()) * 60;
    let part = (seconds + i64::from(time.second())) as f64 / 86_400.0;
    let clock = time.strftime("%H:%M:%S").to_string();
    if !pattern.has_date() {
        return Some((Some(part), clock));
    }
    let day = super::serial::day(moment.date())? as f64;
    let date = moment.date().to_string();
    Some(if pattern.has_time() {
        (Some(day + part), format!("{date} {clock}"))
    } else {
        (Some(day), date)
    })
}

fn is_true(value: &str) -> bool {
    value.starts_with(['t', 'T'])
}

/// How a single value is written, and what it is.
pub fn plan_of(value: &str) -> (Plan, Class) {
    let mut tally = ColumnTally::default();
    let look = Look::at(value.as_bytes(), false);
    tally.add(&look, value.as_bytes(), || 1);
    (tally.plan(Types::Auto, false, None), look.class)
}

/// Whether a text could be taken for something else when it is edited in a cell, so that it is
/// marked as text.
pub fn looks_typed(value: &str) -> bool {
    let bytes = value.as_bytes();
    match bytes.first() {
        Some(b'=' | b'+' | b'-' | b'@' | b'\'' | b'0'..=b'9' | b'.' | b'#') => true,
        Some(b't' | b'T' | b'f' | b'F') => {
            value.eq_ignore_ascii_case("true") || value.eq_ignore_ascii_case("false")
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plan_of_all(values: &[&str], stored: bool) -> (Plan, Option<String>) {
        let mut tally = ColumnTally::default();
        for (line, value) in values.iter().enumerate() {
            let look = Look::at(value.as_bytes(), stored);
            tally.add(&look, value.as_bytes(), || line as u64);
            if !stored {
                let hints = WrittenHints::default();
                tally.add_written(&look, value.as_bytes(), &hints, || line as u64);
            }
        }
        let reason = tally.reason().map(|(odd, _)| odd.value.clone());
        (tally.plan(Types::Auto, stored, None), reason)
    }

    #[test]
    fn columns_are_typed_as_a_whole() {
        let time = |elapsed| {
            Plan::Moment(CellFormat::Time {
                elapsed,
                precision: super::super::cell::Precision::Minutes,
            })
        };
        for (values, plan, reason) in [
            (
                &["1", "", "22"][..],
                Plan::Number(CellFormat::General),
                None,
            ),
            (&["12.30", "7.00"], Plan::Number(CellFormat::Fixed(2)), None),
            (
                &["12.5", "7", "0.25"],
                Plan::Number(CellFormat::General),
                None,
            ),
            (
                &["12.30", "7.125"],
                Plan::Number(CellFormat::AtLeast(2)),
                None,
            ),
            (&["12.30", "7"], Plan::Text, Some("7")),
            (&["1", "2", "n/a"], Plan::Text, Some("n/a")),
            (&["1", "007", "3"], Plan::Text, Some("007")),
            (&["quay", "1"], Plan::Text, Some("quay")),
            (&["a", "b", "1"], Plan::Text, None),
            (&["2026-03-05", ""], Plan::Moment(CellFormat::Date), None),
            (
                &["2026-03-05", "2026-03-05 10:00"],
                Plan::Text,
                Some("2026-03-05 10:00"),
            ),
            (&["10:00", "23:59"], time(false), None),
            (&["10:00", "123:59"], time(true), None),
            (&["10:00", "10:00:01"], Plan::Text, Some("10:00:01")),
            (
                &["true", "false"],
                Plan::Boolean(CellFormat::Boolean(super::super::Spelling::Lower)),
                None,
            ),
            (&["true", "FALSE"], Plan::Text, Some("FALSE")),
            (&["", ""], Plan::Text, None),
        ] {
            let (found, why) = plan_of_all(values, false);
            assert_eq!(found, plan, "{values:?}");
            if plan == Plan::Text {
                assert_eq!(why.as_deref(), reason, "{values:?}");
            }
        }
    }

    #[test]
    fn typed_cells_keep_their_own_types() {
        assert_eq!(
            plan_of_all(&["1", "n/a"], true).0,
            Plan::AsInSource(Some(0))
        );
        assert_eq!(
            Plan::AsInSource(None).cell(Class::Decimal, "1.50"),
            Cell::Number("1.50".into(), CellFormat::Fixed(2))
        );
        assert_eq!(
            Plan::AsInSource(None).cell(Class::Decimal, "1.5"),
            Cell::Number("1.5".into(), CellFormat::General)
        );
        assert_eq!(
            plan_of_all(&["1.5", "2.50"], true).0,
            Plan::AsInSource(None),
            "no one format brings both back"
        );
    }
}
