//! Templates read backwards: what the name of a file says becomes columns.

use std::collections::HashSet;
use std::fmt;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::template::Piece;
use super::{Part, RunField, Template, TemplateError};
use numerant_data::source::Compression;

/// A template that names of files are held against, such as `{station}_{term}.tsv`. Each column
/// takes at least one character and as few as fit; `/` divides folders, and names are held against
/// it from the back, so that the folders in front of them do not matter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct NamePattern {
    text: String,
    segments: Vec<Vec<Bit>>,
    columns: Vec<String>,
}

/// A bit of a name.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Bit {
    Literal(String),
    /// The column with this number.
    Column(usize),
    /// Anything, which is no column.
    Anything,
}

/// A template that cannot be read backwards.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NamePatternError {
    /// It is no template.
    #[error(transparent)]
    Template(#[from] TemplateError),
    /// It names no column.
    #[error("'{0}' names no column, as '{{station}}_{{term}}.tsv' does")]
    NoColumn(String),
    /// A column twice.
    #[error("'{template}' names the column '{column}' twice")]
    Twice {
        /// The template.
        template: String,
        /// The column.
        column: String,
    },
    /// A part of a value, from which the value cannot be reconstructed.
    #[error(
        "'{{{column}:{part}}}' in '{template}': a file name states a whole value; take the part later, in an expression or in the names of the outputs"
    )]
    Part {
        /// The template.
        template: String,
        /// The column.
        column: String,
        /// The part.
        part: String,
    },
    /// Something of the run that the name of a source does not say.
    #[error(
        "'{template}' can name columns and {{.ext}} for any extension, and nothing else of the run"
    )]
    OfTheRun {
        /// The template.
        template: String,
    },
    /// Two columns with nothing between them.
    #[error("in '{0}' nothing separates two columns")]
    SideBySide(String),
}

/// A name that does not fit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameMismatch;

impl std::str::FromStr for NamePattern {
    type Err = NamePatternError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let template: Template = text.parse()?;
        let mut columns: Vec<String> = Vec::new();
        let mut known = HashSet::new();
        let mut segments = Vec::new();
        for pieces in &template.segments {
            let mut bits: Vec<Bit> = Vec::new();
            for piece in pieces {
                let bit = match piece {
                    Piece::Literal(literal) => Bit::Literal(literal.clone()),
                    Piece::Column(key) if key.part != Part::Whole => {
                        return Err(NamePatternError::Part {
                            template: text.to_owned(),
                            column: key.column.clone(),
                            part: key.part.to_string(),
                        });
                    }
                    Piece::Column(key) if key.column.starts_with('.') => {
                        let template = text.to_owned();
                        return Err(NamePatternError::OfTheRun { template });
                    }
                    Piece::Column(key) => {
                        if !known.insert(key.column.clone()) {
                            return Err(NamePatternError::Twice {
                                template: text.to_owned(),
                                column: key.column.clone(),
                            });
                        }
                        columns.push(key.column.clone());
                        Bit::Column(columns.len() - 1)
                    }
                    Piece::Run(RunField::Extension, Part::Whole) => Bit::Anything,
                    Piece::Run(..) => {
                        let template = text.to_owned();
                        return Err(NamePatternError::OfTheRun { template });
                    }
                };
                let open = |bit: &Bit| !matches!(bit, Bit::Literal(_));
                if open(&bit) && bits.last().is_some_and(open) {
                    return Err(NamePatternError::SideBySide(text.to_owned()));
                }
                bits.push(bit);
            }
            segments.push(bits);
        }
        if columns.is_empty() {
            return Err(NamePatternError::NoColumn(text.to_owned()));
        }
        Ok(Self {
            text: text.to_owned(),
            segments,
            columns,
        })
    }
}

impl NamePattern {
    /// The columns that names say, in order.
    pub fn columns(&self) -> &[String] {
        &self.columns
    }

    /// The values that a path says, one for each column. A compression's extension may are after
    /// what the pattern ends with.
    ///
    /// # Errors
    ///
    /// If the path does not fit.
    pub fn read(&self, path: &Path) -> Result<Vec<String>, NameMismatch> {
        let names: Vec<String> = path
            .components()
            .map(|name| name.as_os_str().to_string_lossy().into_owned())
            .collect();
        let first = names
            .len()
            .checked_sub(self.segments.len())
            .ok_or(NameMismatch)?;
        let mut values = vec![String::new(); self.columns.len()];
        let last = names.len() - 1;
        for (place, name) in names.iter().enumerate().skip(first) {
            let bits = &self.segments[place - first];
            let (plain, compression) = Compression::of_name(name);
            let packed = compression.is_some() && place == last;
            let mut fits = |name: &str| Fit::new(name).fits(bits, 0, &mut values);
            if !(fits(name) || packed && fits(plain)) {
                return Err(NameMismatch);
            }
        }
        Ok(values)
    }
}

/// Holds a name against bits. What does not fit from a place on is tried once, so that the work is bounded by the
/// bits and the square of the length.
struct Fit<'n> {
    name: &'n str,
    /// Bits that are left, and places, that do not fit.
    failed: HashSet<(usize, usize)>,
}

impl<'n> Fit<'n> {
    fn new(name: &'n str) -> Self {
        Self {
            name,
            failed: HashSet::new(),
        }
    }

    /// Whether the name is made of these bits from a place on; fills in what the columns among them say.
    fn fits(&mut self, bits: &[Bit], from: usize, values: &mut [String]) -> bool {
        if self.failed.contains(&(bits.len(), from)) {
            return false;
        }
        let fits = self.try_fit(bits, from, values);
        if !fits {
            self.failed.insert((bits.len(), from));
        }
        fits
    }

    fn try_fit(&mut self, bits: &[Bit], from: usize, values: &mut [String]) -> bool {
        let name = &self.name[from..];
        let Some((bit, rest)) = bits.split_first() else {
            return name.is_empty();
        };
        let column = match bit {
            Bit::Literal(literal) => {
                return name.starts_with(literal.as_str())
                    && self.fits(rest, from + literal.len(), values);
            }
            Bit::Column(column) => Some(*column),
            Bit::Anything => None,
        };
        let ends = name.char_indices().skip(1).map(|(at, _)| at);
        for end in ends.chain([name.len()]) {
            if end > 0 && self.fits(rest, from + end, values) {
                if let Some(column) = column {
                    name[..end].clone_into(&mut values[column]);
                }
                return true;
            }
        }
        false
    }
}

impl fmt::Display for NamePattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.text.fmt(f)
    }
}

impl TryFrom<String> for NamePattern {
    type Error = NamePatternError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<NamePattern> for String {
    fn from(pattern: NamePattern) -> Self {
        pattern.text
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn read(pattern: &str, path: &str) -> Result<String, NameMismatch> {
        let pattern: NamePattern = pattern.parse().expect(pattern);
        pattern.read(Path::new(path)).map(|values| values.join("|"))
    }

    #[test]
    fn names_say_values() {
        let pattern = "{station}_{term}_{subject}.tsv";
        assert_eq!(
            read(pattern, "in/V03_2026_level.tsv"),
            Ok("V03|2026|level".into())
        );
        assert_eq!(
            read(pattern, "V03_2026_level.tsv.gz"),
            Ok("V03|2026|level".into())
        );
        assert_eq!(
            read(pattern, "V03_2026_water_level.tsv"),
            Ok("V03|2026|water_level".into()),
            "as few characters as fit"
        );
        assert_eq!(read(pattern, "V03_2026.tsv"), Err(NameMismatch));
        assert_eq!(read(pattern, "V03__level.tsv"), Err(NameMismatch));
        assert_eq!(
            read("{term}/{station}.{.ext}", "all/2026/Ån.csv"),
            Ok("2026|Ån".into())
        );
        assert_eq!(read("{term}/{station}.csv", "V03.csv"), Err(NameMismatch));
        assert_eq!(
            read("level {station}.csv", "salt V03.csv"),
            Err(NameMismatch)
        );
    }

    #[test]
    fn names_that_fit_in_many_ways_are_soon_told() {
        let pattern = "{a}_{b}_{c}_{d}_{e}_{f}_{g}_{h}.tsv";
        let long = "_".repeat(200);
        assert_eq!(read(pattern, &format!("{long}.csv")), Err(NameMismatch));
        assert!(read(pattern, &format!("{long}.tsv")).is_ok());
    }

    #[test]
    fn templates_that_say_too_little() {
        let error = |pattern: &str| {
            let parsed = pattern.parse::<NamePattern>();
            parsed.expect_err(pattern).to_string()
        };
        assert!(error("level.csv").contains("names no column"));
        assert!(error("{a}_{a}.csv").contains("twice"));
        assert!(error("{a}{b}.csv").contains("nothing separates"));
        assert!(error("{a:month}.csv").contains("whole value"));
        assert!(error("{a}-{.date}.csv").contains("nothing else of the run"));
        assert!(error("{a").contains("not closed"));
    }

    proptest! {
        #[test]
        fn what_a_template_makes_it_reads(one in "[a-z0-9]{1,6}", two in "[a-z0-9 .-]{1,6}") {
            let pattern: NamePattern = "{one}_{two}.csv".parse().expect("a pattern");
            let path = format!("folder/{one}_{two}.csv");
            prop_assert_eq!(pattern.read(Path::new(&path)), Ok(vec![one, two]));
        }
    }
}
