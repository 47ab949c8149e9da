//! Name templates: `{quay}/{arrived:month}.csv`.

use std::fmt;

use jiff::civil::DateTime;
use serde::{Deserialize, Serialize};

use super::key::{Key, KeyError, parse_key};
use super::part::Part;
use super::safe::{SafeSegment, Segment};
use numerant_data::record::nearest;
use numerant_data::source::Compression;
use numerant_data::value::Cells;

/// A template for the path of an output, below the output folder. `/` divides folders.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
pub struct Template {
    text: String,
    /// One list for each segment of the path.
    pub(crate) segments: Vec<Vec<Piece>>,
}

/// A piece of a path's segment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Piece {
    /// Text verbatim.
    Literal(String),
    /// A part of a column's value.
    Column(Key),
    /// Something of the run.
    Run(RunField, Part),
}

/// What a template can say of the run and not of the record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunField {
    /// `{.stem}`: the source's name without its extension.
    Stem,
    /// `{.ext}`: the source's extension.
    Extension,
    /// `{.folder}`: the name of the source's folder.
    Folder,
    /// `{.sheet}`: the name of the source's sheet; its stem if it is none.
    Sheet,
    /// `{.n}`: the number of the output, from 1, in the order of first records.
    Number,
    /// `{.rows}`: the number of records in the output.
    Rows,
    /// `{.date}`: the day of the run.
    Date,
    /// `{.time}`: the time of day of the run, as `14-20-05`.
    Time,
}

/// `{.case}`: the name of the case that a record falls under.
const CASE: &str = ".case";

const RUN_FIELDS: [(&str, RunField); 8] = [
    (".stem", RunField::Stem),
    (".ext", RunField::Extension),
    (".folder", RunField::Folder),
    (".sheet", RunField::Sheet),
    (".n", RunField::Number),
    (".rows", RunField::Rows),
    (".date", RunField::Date),
    (".time", RunField::Time),
];

/// A template that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// `{` without `}`.
    #[error(
        "the '{{' at character {at} of '{template}' is not closed; a brace itself is written '{{{{'"
    )]
    Unclosed {
        /// The template.
        template: String,
        /// Place of the brace, from 1.
        at: usize,
    },
    /// `}` without `{`.
    #[error(
        "the '}}' at character {at} of '{template}' has no '{{' before it; a brace itself is written '}}}}'"
    )]
    Unopened {
        /// The template.
        template: String,
        /// Place of the brace, from 1.
        at: usize,
    },
    /// What is in braces cannot be read.
    #[error("in '{template}': {problem}")]
    Key {
        /// The template.
        template: String,
        /// What is wrong.
        problem: KeyError,
    },
    /// `{.name}` where there is no such thing of a run.
    #[error("'{{{name}}}' is nothing of a run{}; there are {{.stem}}, {{.ext}}, {{.folder}}, {{.sheet}}, {{.n}}, {{.rows}}, {{.case}}, {{.date}} and {{.time}}", suggestion(.nearest))]
    RunField {
        /// What was written.
        name: String,
        /// The nearest there is.
        nearest: Option<String>,
    },
    /// The part does not fit what it is after.
    #[error("'{{{field}:{part}}}': {field} has no such part")]
    RunPart {
        /// What it is after.
        field: String,
        /// The part.
        part: String,
    },
    /// The path leads out of the output folder.
    #[error(
        "'{template}' must stay inside the output folder: no '..', no '.', no empty folder and no '/' in front"
    )]
    LeadsOut {
        /// The template.
        template: String,
    },
    /// A backslash or another character that some systems forbid.
    #[error("'{template}' holds '{character}', which file names cannot have on every system{}", if *.character == '\\' { "; folders are divided by '/'" } else { "" })]
    Forbidden {
        /// The template.
        template: String,
        /// The character.
        character: char,
    },
}

fn suggestion(nearest: &Option<String>) -> String {
    nearest.as_ref().map_or_else(String::new, |nearest| {
        format!(" (did you mean '{{{nearest}}}'?)")
    })
}

/// The values of a run that templates can name, for one output.
#[derive(Clone, Debug)]
pub struct RunValues<'a> {
    /// The source's name without folder and extension.
    pub stem: &'a str,
    /// The source's extension.
    pub extension: &'a str,
    /// The source's folder.
    pub folder: &'a str,
    /// The sheet that the source is, or its name.
    pub sheet: &'a str,
    /// The number of the output, from 1.
    pub number: u64,
    /// The records of the output, where they are known.
    pub rows: Option<u64>,
    /// The time of the run.
    pub now: DateTime,
    /// A value whose slashes are between folders may begin at the root of the file system, where it begins
    /// the name.
    pub allows_absolute: bool,
}

impl std::str::FromStr for Template {
    type Err = TemplateError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let mut segments = vec![Vec::new()];
        let mut literal = String::new();
        let mut rest = text;
        let place = |rest: &str| text[..text.len() - rest.len()].chars().count() + 1;
        while let Some(character) = rest.chars().next() {
            let after = &rest[character.len_utf8()..];
            match character {
                '{' | '}' if after.starts_with(character) => {
                    literal.push(character);
                    rest = &after[1..];
                }
                '{' => {
                    let Some(close) = closing_brace(after) else {
                        let at = place(rest);
                        return Err(TemplateError::Unclosed {
                            template: text.to_owned(),
                            at,
                        });
                    };
                    let segment = segments.last_mut().expect("one at least");
                    if !literal.is_empty() {
                        segment.push(Piece::Literal(std::mem::take(&mut literal)));
                    }
                    segment.push(piece(&after[..close], text)?);
                    rest = &after[close + 1..];
                }
                '}' => {
                    let at = place(rest);
                    return Err(TemplateError::Unopened {
                        template: text.to_owned(),
                        at,
                    });
                }
                '/' => {
                    if !literal.is_empty() {
                        let segment = segments.last_mut().expect("one at least");
                        segment.push(Piece::Literal(std::mem::take(&mut literal)));
                    }
                    segments.push(Vec::new());
                    rest = after;
                }
                _ if super::safe::is_forbidden(character) => {
                    let template = text.to_owned();
                    return Err(TemplateError::Forbidden {
                        template,
                        character,
                    });
                }
                _ => {
                    literal.push(character);
                    rest = after;
                }
            }
        }
        if !literal.is_empty() {
            segments
                .last_mut()
                .expect("one at least")
                .push(Piece::Literal(literal));
        }
        let leads_out = segments.iter().any(|segment| match segment.as_slice() {
            [] => true,
            [Piece::Literal(literal)] => literal.chars().all(|c| matches!(c, '.' | ' ')),
            _ => false,
        });
        if leads_out {
            return Err(TemplateError::LeadsOut {
                template: text.to_owned(),
            });
        }
        Ok(Self {
            text: text.to_owned(),
            segments,
        })
    }
}

/// Where the brace is that closes what `text` begins inside of; quotes enclose names.
fn closing_brace(text: &str) -> Option<usize> {
    let mut quoted = false;
    text.bytes().position(|byte| {
        quoted ^= byte == b'"';
        byte == b'}' && !quoted
    })
}

fn piece(inside: &str, template: &str) -> Result<Piece, TemplateError> {
    let key = parse_key(inside).map_err(|problem| TemplateError::Key {
        template: template.to_owned(),
        problem,
    })?;
    // The name of a case differs from record to record, as a column's values do.
    if !inside.starts_with('.') || key.column == CASE {
        return Ok(Piece::Column(key));
    }
    let field = RUN_FIELDS.iter().find(|(name, _)| *name == key.column);
    let Some((name, field)) = field else {
        let names = RUN_FIELDS.iter().map(|(name, _)| *name).chain([CASE]);
        let nearest = nearest(&key.column, names).map(str::to_owned);
        return Err(TemplateError::RunField {
            name: key.column,
            nearest,
        });
    };
    let fits = match field {
        RunField::Stem | RunField::Extension | RunField::Folder | RunField::Sheet => matches!(
            key.part,
            Part::Whole | Part::Lower | Part::Upper | Part::Slug | Part::First(_)
        ),
        RunField::Number | RunField::Rows => matches!(key.part, Part::Whole | Part::Width(_)),
        RunField::Date | RunField::Time => matches!(
            key.part,
            Part::Whole
                | Part::Year
                | Part::Quarter
                | Part::Month
                | Part::Week
                | Part::Day
                | Part::Weekday
                | Part::Hour
                | Part::Pattern(_)
        ),
    };
    if !fits {
        let (field, part) = ((*name).to_owned(), key.part.to_string());
        return Err(TemplateError::RunPart { field, part });
    }
    Ok(Piece::Run(*field, key.part))
}

impl Template {
    /// The keys it names, each once, in order.
    pub fn keys(&self) -> Vec<&Key> {
        let mut keys: Vec<&Key> = Vec::new();
        for piece in self.segments.iter().flatten() {
            if let Piece::Column(key) = piece
                && !keys.contains(&key)
            {
                keys.push(key);
            }
        }
        keys
    }

    /// The one path that it makes, if it names nothing, so that all records have one address.
    pub fn constant(&self) -> Option<String> {
        let literal = |piece: &Piece| match piece {
            Piece::Literal(literal) => Some(literal.clone()),
            _ => None,
        };
        let segment = |pieces: &Vec<Piece>| pieces.iter().map(literal).collect::<Option<String>>();
        let segments: Option<Vec<String>> = self.segments.iter().map(segment).collect();
        segments.map(|segments| segments.join("/"))
    }

    /// Whether it names this of the run.
    pub fn names(&self, field: RunField) -> bool {
        let wanted = |piece: &Piece| matches!(piece, Piece::Run(found, _) if *found == field);
        self.segments.iter().flatten().any(wanted)
    }

    /// The extension of the paths it makes, in lower case: what follows the last dot that stands
    /// in the template itself, or the source's where the name ends with `.{.ext}`. A compression's
    /// extension after it is skipped; [`Template::compression`] tells it.
    pub fn extension(&self, source_extension: &str) -> Option<String> {
        let last = self.segments.last()?;
        let (ends, pieces) = match last.as_slice() {
            [pieces @ .., Piece::Literal(literal)] => (Compression::of_name(literal).0, pieces),
            pieces => ("", pieces),
        };
        if let Some((before, extension)) = ends.rsplit_once('.') {
            let named = !pieces.is_empty() || !before.is_empty();
            return (named && !extension.is_empty()).then(|| extension.to_lowercase());
        }
        match pieces {
            [.., Piece::Column(key)] if ends.is_empty() && key.part == Part::Folders => {
                Some(source_extension.to_owned()).filter(|extension| !extension.is_empty())
            }
            [.., Piece::Literal(dot), Piece::Run(RunField::Extension, _)]
                if ends.is_empty() && dot.ends_with('.') =>
            {
                Some(source_extension.to_owned()).filter(|extension| !extension.is_empty())
            }
            _ => None,
        }
    }

    /// How outputs are compressed, as the last extension says.
    pub fn compression(&self) -> Option<Compression> {
        match self.segments.last()?.as_slice() {
            [.., Piece::Literal(literal)] => Compression::of_name(literal).1,
            _ => None,
        }
    }

    /// The path for one output: safe segments joined by `/`, with one in front if it begins at the root of the file
    /// system, and whether any value had to be
    /// changed for that. `value` gives the text of a key's part, `blank` represents empty ones.
    pub fn render<'v>(
        &self,
        value: impl Fn(&Key) -> &'v str,
        run: &RunValues<'_>,
        blank: &str,
    ) -> SafeSegment {
        let mut path = SafeSegment::default();
        let mut is_changed = false;
        let is_absolute = run.allows_absolute
            && matches!(
                self.segments.first().and_then(|pieces| pieces.first()),
                Some(Piece::Column(key)) if key.part == Part::Folders && value(key).starts_with('/')
            );
        // Folders of the file system that a value leads to from its root have the names that they have.
        let as_stated = |name: &str| SafeSegment {
            text: name.to_owned(),
            changed: false,
        };
        let mut add = |safe: SafeSegment| {
            if !path.text.is_empty() {
                path.text.push('/');
            }
            path.text.push_str(&safe.text);
            path.changed |= safe.changed;
        };
        for (place, pieces) in self.segments.iter().enumerate() {
            let is_folder = place + 1 < self.segments.len();
            let mut stated = None;
            let mut segment = Segment::default();
            for piece in pieces {
                match piece {
                    Piece::Literal(literal) => segment.literal(literal),
                    Piece::Column(key) if key.part == Part::Folders => {
                        let whole = value(key);
                        let relative = whole.strip_prefix('/').filter(|_| is_absolute);
                        let as_it_is = folders(whole).collect::<Vec<_>>().join("/")
                            == relative.unwrap_or(whole);
                        is_changed |= !as_it_is && !whole.trim().is_empty();
                        let mut names = folders(whole).peekable();
                        if names.peek().is_none() {
                            segment.value("", blank);
                        }
                        while let Some(name) = names.next() {
                            let is_stated = is_absolute && place == 0 && name != "..";
                            segment.value(name, blank);
                            if names.peek().is_some() {
                                let safe = std::mem::take(&mut segment).finish();
                                add(if is_stated { as_stated(name) } else { safe });
                            } else if is_stated && is_folder && pieces.len() == 1 {
                                stated = Some(as_stated(name));
                            }
                        }
                    }
                    Piece::Column(key) => segment.value(value(key), blank),
                    Piece::Run(field, part) => segment.value(&run.text(*field, part), blank),
                }
            }
            add(stated.unwrap_or_else(|| segment.finish()));
        }
        path.changed |= is_changed;
        if is_absolute {
            path.text.insert(0, '/');
        }
        path
    }

    /// Whether the paths end with what a record holds as a path, which may have an extension.
    pub fn ends_with_path(&self) -> bool {
        let last = self.segments.last().and_then(|pieces| pieces.last());
        matches!(last, Some(Piece::Column(key)) if key.part == Part::Folders)
    }

    /// The text for one output, verbatim: for what need not be a path.
    pub fn plain<'v>(
        &self,
        value: impl Fn(&Key) -> &'v str,
        run: &RunValues<'_>,
        blank: &str,
    ) -> String {
        let segment = |pieces: &Vec<Piece>| {
            let text = |piece: &Piece| match piece {
                Piece::Literal(literal) => literal.clone(),
                Piece::Column(key) if value(key).trim().is_empty() => blank.to_owned(),
                Piece::Column(key) => value(key).to_owned(),
                Piece::Run(field, part) => run.text(*field, part),
            };
            pieces.iter().map(text).collect::<String>()
        };
        let segments: Vec<String> = self.segments.iter().map(segment).collect();
        segments.join("/")
    }

    /// Whether it names anything that only records of one source share.
    pub fn names_source(&self) -> bool {
        [
            RunField::Stem,
            RunField::Extension,
            RunField::Folder,
            RunField::Sheet,
        ]
        .iter()
        .any(|field| self.names(*field))
    }
}

/// The names in a path that a record holds, between slashes of both kinds. What says nothing is passed
/// over; a name that leads upwards is made one that does not by [`Segment::finish`].
fn folders(path: &str) -> impl Iterator<Item = &str> {
    path.split(['/', '\\'])
        .filter(|name| !name.trim().is_empty() && *name != ".")
}

impl RunValues<'_> {
    fn text(&self, field: RunField, part: &Part) -> String {
        let mut text = String::new();
        let mut of = |value: &str| {
            // Template::from_str lets only parts through that these values have.
            let _ = part.of(value.as_bytes(), &Cells::default(), &mut text);
        };
        match (field, part) {
            (RunField::Stem, _) => of(self.stem),
            (RunField::Extension, _) => of(self.extension),
            (RunField::Folder, _) => of(self.folder),
            (RunField::Sheet, _) => of(self.sheet),
            (RunField::Number, _) => of(&self.number.to_string()),
            (RunField::Rows, _) => of(&self.rows.unwrap_or_default().to_string()),
            (RunField::Date, Part::Whole) => of(&self.now.date().to_string()),
            (RunField::Time, Part::Whole) => {
                return format!(
                    "{:02}-{:02}-{:02}",
                    self.now.hour(),
                    self.now.minute(),
                    self.now.second()
                );
            }
            (RunField::Date | RunField::Time, _) => of(&self.now.to_string()),
        }
        text
    }
}

impl fmt::Display for Template {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl TryFrom<String> for Template {
    type Error = TemplateError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<Template> for String {
    fn from(template: Template) -> Self {
        template.text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rendered(template: &str, quay: &str) -> String {
        let template: Template = template.parse().expect(template);
        let run = RunValues {
            allows_absolute: false,
            stem: "calls",
            extension: "csv",
            folder: "in",
            sheet: "",
            number: 7,
            rows: Some(1200),
            now: jiff::civil::date(2026, 3, 5).at(14, 20, 5, 0),
        };
        template.render(|_| quay, &run, "blank").text
    }

    #[test]
    fn rendering() {
        for (template, quay, expected) in [
            ("{quay}.csv", "North", "North.csv"),
            ("{quay}.csv", "", "blank.csv"),
            ("{quay}.csv", "  ", "blank.csv"),
            ("by quay/{quay}/{.stem}.csv", "A/B", "by quay/A_B/calls.csv"),
            ("{.stem}-{.n:03}.{.ext}", "", "calls-007.csv"),
            ("{.folder}_{.rows}.csv", "", "in_1200.csv"),
            ("{.date}_{.time}.csv", "", "2026-03-05_14-20-05.csv"),
            (
                "{.date:%d.%m.%y} {.date:week}.csv",
                "",
                "05.03.26 2026-W10.csv",
            ),
            ("{{{quay}}}.csv", "x", "{x}.csv"),
            (
                "{quay:folders}",
                "north/2026/calls.csv",
                "north/2026/calls.csv",
            ),
            (
                "out/{quay:folders}/all.csv",
                "C:\\Share\\HR",
                "out/C_/Share/HR/all.csv",
            ),
            (
                "{quay:folders}.csv",
                "../../etc//passwd",
                "_/_/etc/passwd.csv",
            ),
            ("{quay:folders}.csv", "/a/./b/", "a/b.csv"),
            ("{quay:folders}.csv", "  ", "blank.csv"),
        ] {
            assert_eq!(rendered(template, quay), expected, "{template}");
        }
    }

    #[test]
    fn extensions() {
        let extension = |template: &str| {
            template
                .parse::<Template>()
                .expect(template)
                .extension("tsv")
        };
        assert_eq!(extension("{quay}.CSV").as_deref(), Some("csv"));
        assert_eq!(extension("{quay}.{.ext}").as_deref(), Some("tsv"));
        assert_eq!(extension("a.b/{quay}"), None);
        assert_eq!(
            extension(".csv"),
            None,
            "a hidden file without an extension"
        );
        assert_eq!(extension("{quay}.v1.xlsx").as_deref(), Some("xlsx"));
    }

    #[test]
    fn templates_that_are_none() {
        let error = |template: &str| template.parse::<Template>().expect_err(template);
        assert!(matches!(
            error("{quay.csv"),
            TemplateError::Unclosed { at: 1, .. }
        ));
        assert!(matches!(
            error("quay}.csv"),
            TemplateError::Unopened { at: 5, .. }
        ));
        assert!(matches!(error("{}.csv"), TemplateError::Key { .. }));
        assert!(matches!(
            error("{.steem}.csv"),
            TemplateError::RunField { .. }
        ));
        assert!(matches!(
            error("{.n:month}.csv"),
            TemplateError::RunPart { .. }
        ));
        for template in [
            "../{quay}.csv",
            "/tmp/{quay}.csv",
            "a//b.csv",
            "a/./b.csv",
            "a/",
            "",
        ] {
            assert!(
                matches!(error(template), TemplateError::LeadsOut { .. }),
                "{template}"
            );
        }
        assert!(matches!(
            error("a\\{quay}.csv"),
            TemplateError::Forbidden { .. }
        ));
        assert!(matches!(
            error("a:{quay}.csv"),
            TemplateError::Forbidden { .. }
        ));
    }

    #[test]
    fn extensions_with_and_without_a_compression() {
        for (template, of_source, extension, compression) in [
            ("{quay}.csv", "tsv", Some("csv"), None),
            ("{quay}.CSV.GZ", "tsv", Some("csv"), Some(Compression::Gzip)),
            (
                "all.jsonl.zst",
                "tsv",
                Some("jsonl"),
                Some(Compression::Zstd),
            ),
            ("{.stem}.{.ext}", "tsv", Some("tsv"), None),
            (
                "{.stem}.{.ext}.gz",
                "tsv",
                Some("tsv"),
                Some(Compression::Gzip),
            ),
            ("{.stem}.{.ext}", "", None, None),
            ("{.stem}{.ext}.gz", "tsv", None, Some(Compression::Gzip)),
            ("{quay}.gz", "tsv", None, Some(Compression::Gzip)),
            (".gz", "tsv", None, Some(Compression::Gzip)),
            (".csv", "tsv", None, None),
            ("{quay}", "tsv", None, None),
        ] {
            let parsed: Template = template.parse().expect(template);
            let found = parsed.extension(of_source);
            assert_eq!(found.as_deref(), extension, "{template}");
            assert_eq!(parsed.compression(), compression, "{template}");
        }
        let constant = |text: &str| text.parse::<Template>().expect(text).constant();
        assert_eq!(constant("a/{{b}}.csv").as_deref(), Some("a/{b}.csv"));
        assert_eq!(constant("a/{b}.csv"), None);
    }
}
