//! The layout of fixed-width records: a file of TOML, or a list of widths.

use std::fmt;
use std::path::Path;

use numerant_data::value::DateFormat;
use serde::Deserialize;

/// Characters that a field may have.
const MAX_WIDTH: usize = 1 << 20;

/// What the records of a file look like.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Layout {
    /// Where the tag of a record stands, if there are several types.
    pub(super) tag: Option<Area>,
    /// The types of records.
    pub(super) types: Vec<RecordType>,
    /// The names of the columns are on the first line, in the same places.
    pub(super) has_header_line: bool,
    /// Characters that are blank in all records, as no field has them.
    pub(super) gaps: Vec<usize>,
}

/// From and to in a record, in characters from 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Area {
    pub(super) start: usize,
    pub(super) end: usize,
}

/// One type of records.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct RecordType {
    pub(super) name: String,
    pub(super) tag: String,
    pub(super) role: Role,
    pub(super) fields: Vec<Field>,
}

/// What a record is for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum Role {
    /// It is a record of the table.
    #[default]
    Data,
    /// It is before the records.
    Header,
    /// It is after them.
    Trailer,
}

/// A field of a record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Field {
    pub(super) name: String,
    pub(super) area: Area,
    pub(super) kind: Kind,
    pub(super) align: Align,
    pub(super) fill: char,
    /// What is in it in every record that is written; that is not read.
    pub(super) constant: Option<String>,
    /// It holds how many records of the table there are.
    pub(super) counts: bool,
}

/// The type of a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Text,
    Integer,
    /// With so many digits after a point that is not written.
    Decimal(u32),
    Date(DateFormat),
}

/// Where a value is in a field that it does not fill.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum Align {
    Left,
    Right,
}

impl Area {
    pub(super) fn width(self) -> usize {
        self.end - self.start
    }
}

impl RecordType {
    /// Characters of a record.
    pub(super) fn width(&self) -> usize {
        self.fields
            .iter()
            .map(|field| field.area.end)
            .max()
            .unwrap_or(0)
    }
}

impl Field {
    /// A field of text, at the left of its area.
    pub(super) fn text(name: String, area: Area) -> Self {
        Self {
            name,
            area,
            kind: Kind::Text,
            align: Align::Left,
            fill: ' ',
            constant: None,
            counts: false,
        }
    }
}

/// What is wrong with a layout.
#[derive(Debug)]
pub(super) enum LayoutError {
    /// The file cannot be read.
    Io(std::io::Error),
    /// It is no layout.
    Wrong(String),
}

impl fmt::Display for LayoutError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Io(error) => write!(f, "{error}"),
            Self::Wrong(what) => f.write_str(what),
        }
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct LayoutFile {
    tag: Option<AreaFile>,
    #[serde(default)]
    header_line: bool,
    #[serde(default)]
    record: Vec<RecordFile>,
    #[serde(default)]
    field: Vec<FieldFile>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct AreaFile {
    start: usize,
    width: usize,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RecordFile {
    name: String,
    tag: String,
    #[serde(default)]
    role: Role,
    #[serde(default)]
    field: Vec<FieldFile>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct FieldFile {
    name: String,
    start: Option<usize>,
    width: usize,
    #[serde(rename = "type", default)]
    kind: KindFile,
    /// Digits after a point that is not written.
    decimals: Option<u32>,
    date_format: Option<DateFormat>,
    align: Option<Align>,
    fill: Option<char>,
    constant: Option<String>,
    #[serde(default)]
    counts_records: bool,
}

#[derive(Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum KindFile {
    #[default]
    Text,
    Integer,
    Decimal,
    Date,
}

impl Layout {
    /// Fields of these widths one after the other, with the names of the first line or with numbers.
    pub(super) fn of_widths(widths: &[usize], has_header_line: bool) -> Self {
        let mut start = 0;
        let fields = widths.iter().enumerate().map(|(place, width)| {
            let area = Area {
                start,
                end: start + width,
            };
            start = area.end;
            Field::text(format!("column_{}", place + 1), area)
        });
        Self::of_fields(fields.collect(), has_header_line)
    }

    /// Records of one type with these fields.
    pub(super) fn of_fields(fields: Vec<Field>, has_header_line: bool) -> Self {
        Self {
            tag: None,
            types: vec![RecordType {
                name: String::new(),
                tag: String::new(),
                role: Role::Data,
                fields,
            }],
            has_header_line,
            gaps: Vec::new(),
        }
    }

    /// Reads a file.
    pub(super) fn read(path: &Path) -> Result<Self, LayoutError> {
        let text = std::fs::read_to_string(path).map_err(LayoutError::Io)?;
        Self::parse(&text).map_err(LayoutError::Wrong)
    }

    /// Parses the text of a file.
    pub(super) fn parse(text: &str) -> Result<Self, String> {
        let file: LayoutFile = toml::from_str(text).map_err(|error| {
            let at = error.span().map_or(0, |span| span.start);
            let line = text[..at].bytes().filter(|byte| *byte == b'\n').count() + 1;
            format!("line {line}: {}", error.message().trim())
        })?;
        if !file.field.is_empty() && !file.record.is_empty() {
            return Err("it has [[field]] and [[record]]; with several record types, fields are [[record.field]]".to_owned());
        }
        let is_single = file.record.is_empty();
        if is_single && file.field.is_empty() {
            return Err("it has no [[field]]".to_owned());
        }
        let records = if is_single {
            vec![RecordFile {
                name: String::new(),
                tag: String::new(),
                role: Role::Data,
                field: file.field,
            }]
        } else {
            file.record
        };
        let tag = match file.tag {
            Some(area) => Some(area_of(area.start, area.width, "the tag")?),
            None => None,
        };
        if !is_single && tag.is_none() {
            return Err("several record types need a tag that distinguishes them, such as tag = { start = 1, width = 2 }".to_owned());
        }
        let mut types = Vec::new();
        for record in records {
            types.push(record_type(record, tag)?);
        }
        let data = || types.iter().filter(|of| of.role == Role::Data);
        if data().next().is_none() {
            return Err("no record has the role data".to_owned());
        }
        for (place, of) in types.iter().enumerate() {
            if types[..place]
                .iter()
                .any(|other| other.tag == of.tag || other.name == of.name)
            {
                return Err(format!(
                    "two records have the name '{}' or the tag '{}'",
                    of.name, of.tag
                ));
            }
        }
        Ok(Self {
            tag,
            types,
            has_header_line: file.header_line,
            gaps: Vec::new(),
        })
    }

    /// The types of the records of the table.
    pub(super) fn data(&self) -> impl Iterator<Item = &RecordType> {
        self.types.iter().filter(|of| of.role == Role::Data)
    }

    /// Whether the table has records of several types, so that a column says of which.
    pub(super) fn has_several(&self) -> bool {
        self.data().count() > 1
    }

    /// The names of the columns of the table, each once.
    pub(super) fn columns(&self) -> Vec<String> {
        let mut names = Vec::new();
        if self.has_several() {
            names.push(RECORD_COLUMN.to_owned());
        }
        let fields = self.data().flat_map(|of| &of.fields);
        for field in fields.filter(|field| field.constant.is_none()) {
            if !names.contains(&field.name) {
                names.push(field.name.clone());
            }
        }
        names
    }
}

/// The column that says of which type a record is.
pub(super) const RECORD_COLUMN: &str = "record";

/// An area that begins at a character counted from 1.
fn area_of(start: usize, width: usize, what: &str) -> Result<Area, String> {
    if start == 0 || width == 0 {
        return Err(format!(
            "{what} begins at character 1 or later and has a width of at least 1"
        ));
    }
    if width > MAX_WIDTH || start > MAX_WIDTH {
        return Err(format!("{what} ends after character {MAX_WIDTH}"));
    }
    Ok(Area {
        start: start - 1,
        end: start - 1 + width,
    })
}

fn record_type(record: RecordFile, tag: Option<Area>) -> Result<RecordType, String> {
    if let Some(tag) = tag
        && record.tag.chars().count() != tag.width()
    {
        return Err(format!(
            "the tag '{}' of the record '{}' has another width than the {} of all tags",
            record.tag,
            record.name,
            tag.width()
        ));
    }
    // Fields without a start follow the one before; the first is after a tag in front.
    let mut next = tag.filter(|tag| tag.start == 0).map_or(0, |tag| tag.end);
    let mut fields: Vec<Field> = Vec::new();
    for found in record.field {
        let start = found.start.unwrap_or(next + 1);
        let what = format!("the field '{}'", found.name);
        let area = area_of(start, found.width, &what)?;
        next = area.end;
        let overlaps = |other: Area| area.start < other.end && other.start < area.end;
        let other = fields.iter().find(|other| overlaps(other.area));
        if let Some(other) = other {
            return Err(format!(
                "{what} and the field '{}' have the same characters",
                other.name
            ));
        }
        if tag.is_some_and(overlaps) {
            return Err(format!("{what} has characters of the tag"));
        }
        if fields.iter().any(|other| other.name == found.name) {
            return Err(format!("{what} is there twice"));
        }
        fields.push(field(found, area, record.role)?);
    }
    Ok(RecordType {
        name: record.name,
        tag: record.tag,
        role: record.role,
        fields,
    })
}

fn field(found: FieldFile, area: Area, role: Role) -> Result<Field, String> {
    let what = format!("the field '{}'", found.name);
    let kind = match (found.kind, found.decimals, found.date_format) {
        (KindFile::Text, None, None) => Kind::Text,
        (KindFile::Integer, None, None) => Kind::Integer,
        (KindFile::Decimal, decimals, None) => Kind::Decimal(decimals.unwrap_or(0)),
        (KindFile::Date, None, Some(format)) => Kind::Date(format),
        (KindFile::Date, None, None) => {
            return Err(format!(
                "{what} is a date and needs date-format = \"%Y%m%d\""
            ));
        }
        _ => {
            return Err(format!(
                "{what}: decimals are for the type decimal, date-format for the type date"
            ));
        }
    };
    if matches!(kind, Kind::Decimal(decimals) if decimals > 38) {
        return Err(format!("{what} has more than 38 decimals"));
    }
    if found.counts_records && (role == Role::Data || found.constant.is_some()) {
        return Err(format!(
            "{what} counts records, which is for a header or trailer"
        ));
    }
    let is_number = matches!(kind, Kind::Integer | Kind::Decimal(_)) || found.counts_records;
    Ok(Field {
        name: found.name,
        area,
        align: found
            .align
            .unwrap_or(if is_number { Align::Right } else { Align::Left }),
        fill: found.fill.unwrap_or(if is_number { '0' } else { ' ' }),
        kind,
        constant: found.constant,
        counts: found.counts_records,
    })
}

/// Parses widths such as `8,20,10`.
pub(super) fn parse_widths(text: &str) -> Result<Vec<usize>, String> {
    let width = |text: &str| match text.trim().parse::<usize>() {
        Ok(width) if (1..=MAX_WIDTH).contains(&width) => Ok(width),
        _ => Err(format!("'{text}' is not a width; write widths as 8,20,10")),
    };
    text.split(',').map(width).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn layouts_say_what_is_wrong_with_them() {
        for (text, expected) in [
            ("", "no [[field]]"),
            ("[[field]]\nname = \"a\"", "missing field `width`"),
            ("[[field]]\nname = \"a\"\nwidth = 0", "width of at least 1"),
            (
                "[[field]]\nname = \"a\"\nwidth = 4\n[[field]]\nname = \"b\"\nstart = 3\nwidth = 2",
                "the same characters",
            ),
            (
                "[[field]]\nname = \"a\"\nwidth = 4\n[[field]]\nname = \"a\"\nwidth = 2",
                "there twice",
            ),
            (
                "[[field]]\nname = \"a\"\nwidth = 8\ntype = \"date\"",
                "needs date-format",
            ),
            (
                "[[field]]\nname = \"a\"\nwidth = 8\ndecimals = 2",
                "for the type decimal",
            ),
            ("[[record]]\nname = \"a\"\ntag = \"1\"", "need a tag"),
            (
                "tag = { start = 1, width = 2 }\n[[record]]\nname = \"a\"\ntag = \"1\"",
                "another width",
            ),
            (
                "tag = { start = 1, width = 1 }\n[[record]]\nname = \"a\"\ntag = \"1\"\nrole = \"trailer\"",
                "no record has the role data",
            ),
            ("colour = 1", "unknown field"),
        ] {
            let error = Layout::parse(text).expect_err(text);
            assert!(error.contains(expected), "{text}: {error}");
        }
    }

    #[test]
    fn widths_and_fields_follow_each_other() {
        let widths = parse_widths("8, 20,10").expect("widths");
        let layout = Layout::of_widths(&widths, true);
        let ends: Vec<usize> = layout.types[0]
            .fields
            .iter()
            .map(|field| field.area.end)
            .collect();
        assert_eq!(ends, [8, 28, 38]);
        for wrong in ["", "8,", "0", "a", "-1", "8;9"] {
            assert!(parse_widths(wrong).is_err(), "{wrong}");
        }
        let text = "tag = { start = 1, width = 2 }\n[[record]]\nname = \"call\"\ntag = \"10\"\n\
                    [[record.field]]\nname = \"id\"\nwidth = 4\n[[record.field]]\nname = \"dues\"\nwidth = 6\n\
                    type = \"decimal\"\ndecimals = 2";
        let layout = Layout::parse(text).expect("a layout");
        let fields = &layout.types[0].fields;
        assert_eq!((fields[0].area.start, fields[1].area.start), (2, 6));
        assert_eq!((fields[1].align, fields[1].fill), (Align::Right, '0'));
        assert_eq!(layout.columns(), ["id", "dues"]);
    }
}
