//! Reads workbooks: the list of sheets, the styles, and the cells of a sheet as a stream.

use std::sync::{Arc, OnceLock};

use quick_xml::events::{BytesStart, Event};

use super::SMALL;
use super::cell_formulas::Formulas;
use super::cell_reference;
use super::cell_styles::read_styles;
use super::column_style::{StyleParts, column_styles};
use super::fast::{self, Fast};
use super::parts::{Relations, check_own_parts, office_document};
use super::strings::{TextState, read_strings, unescaped};
use crate::package::Package;
use numerant_data::source::{Place, ReadProblem};
use numerant_format::sheet::{
    CellStyle, CellStyles, ColumnStyle, Epoch, NumberFormats, NumberText, Oddities, Row, Rows,
    SheetInfo, Strings, StyledRange, Uncomputed, Visibility, Workbook, letters,
};
use numerant_markup::{Flow, Markup, attribute, push_reference};

/// Columns and rows that a sheet may have.
const COLUMNS: u32 = 16_384;
const ROWS: u64 = 1_048_576;

/// An open workbook.
pub struct XlsxBook {
    package: Package,
    sheets: Vec<SheetInfo>,
    /// The part of each sheet.
    paths: Vec<String>,
    strings_path: Option<String>,
    strings: OnceLock<Arc<Strings>>,
    styles: Arc<CellStyles>,
    style_parts: StyleParts,
    epoch: Epoch,
    memory: usize,
}

impl XlsxBook {
    /// Opens the workbook of a package, whose shared texts may take `memory` bytes. `None` if the
    /// package is none.
    pub fn open(
        package: &Package,
        memory: usize,
        numbers: &NumberFormats,
    ) -> Result<Option<Self>, ReadProblem> {
        let path = match office_document(package)? {
            Some(path) => path,
            None if package.place("xl/workbook.xml").is_some() => "xl/workbook.xml".to_owned(),
            None => return Ok(None),
        };
        let Some(bytes) = package.bytes(&path, SMALL)? else {
            return Ok(None);
        };
        if path.ends_with(".bin") {
            return Ok(None);
        }
        let relations = Relations::of(package, &path)?;
        let mut markup = Markup::new(Box::new(std::io::Cursor::new(bytes)), &path);
        let mut epoch = Epoch::Year1900;
        let mut listed: Vec<(SheetInfo, String)> = Vec::new();
        let mut is_workbook = false;
        markup.pull(|event| {
            if let Event::Start(tag) | Event::Empty(tag) = event {
                match tag.local_name().as_ref() {
                    "workbook" => is_workbook = true,
                    "workbookPr" => {
                        let set = attribute(&tag, "date1904");
                        if matches!(set.as_deref(), Some("1" | "true" | "on")) {
                            epoch = Epoch::Year1904;
                        }
                    }
                    "sheet" => {
                        let name = attribute(&tag, "name").unwrap_or_default();
                        let visibility = match attribute(&tag, "state").as_deref() {
                            Some("hidden") => Visibility::Hidden,
                            Some("veryHidden") => Visibility::VeryHidden,
                            _ => Visibility::Visible,
                        };
                        let id = attribute(&tag, "id").unwrap_or_default();
                        let (kind, path) = relations.target(&id).unwrap_or(("worksheet", ""));
                        let info = SheetInfo {
                            name: unescaped(&name).into_owned(),
                            visibility,
                            has_cells: kind == "worksheet",
                        };
                        listed.push((info, path.to_owned()));
                    }
                    _ => {}
                }
            }
            Ok(Flow::On)
        })?;
        if !is_workbook {
            return Ok(None);
        }
        check_own_parts(listed.iter().map(|(info, path)| (info, path.as_str())))?;
        let styles = match relations.of_kind("styles") {
            Some(path) => read_styles(package, path, numbers)?,
            None => CellStyles::default(),
        };
        let strings_path = relations.of_kind("sharedStrings").map(str::to_owned);
        let (sheets, paths) = listed.into_iter().unzip();
        Ok(Some(Self {
            package: package.clone(),
            sheets,
            paths,
            strings_path: strings_path.filter(|path| package.place(path).is_some()),
            strings: OnceLock::new(),
            styles: Arc::new(styles),
            style_parts: StyleParts {
                styles: relations.of_kind("styles").map(str::to_owned),
                theme: relations.of_kind("theme").map(str::to_owned),
            },
            epoch,
            memory,
        }))
    }

    /// The shared texts, read once.
    fn strings(&self) -> Result<Arc<Strings>, ReadProblem> {
        if let Some(known) = self.strings.get() {
            return Ok(Arc::clone(known));
        }
        let strings = match &self.strings_path {
            Some(path) => read_strings(&mut self.package.markup(path)?, self.memory)?,
            None => Strings::default(),
        };
        Ok(Arc::clone(self.strings.get_or_init(|| Arc::new(strings))))
    }
}

impl Workbook for XlsxBook {
    fn sheets(&self) -> &[SheetInfo] {
        &self.sheets
    }

    fn column_styles(
        &self,
        sheet: usize,
        range: &StyledRange,
    ) -> Result<Vec<ColumnStyle>, ReadProblem> {
        column_styles(&self.package, &self.paths[sheet], &self.style_parts, range)
    }

    fn rows(&self, sheet: usize, on_uncomputed: Uncomputed) -> Result<Box<dyn Rows>, ReadProblem> {
        let path = &self.paths[sheet];
        if path.is_empty() || self.package.place(path).is_none() {
            return Err(ReadProblem::Damaged {
                what: format!(
                    "the part of the sheet '{}' is missing",
                    self.sheets[sheet].name
                ),
            });
        }
        // Both are unpacked at the same time.
        let markup = self.package.markup(path)?;
        Ok(Box::new(XlsxRows {
            markup,
            state: State {
                strings: self.strings()?,
                styles: Arc::clone(&self.styles),
                numbers: NumberText { epoch: self.epoch },
                row: 0,
                column: 0,
                cell: CellHead::default(),
                is_open: false,
                value: String::new(),
                has_inline: false,
                has_value: false,
                has_formula: false,
                formulas: (on_uncomputed == Uncomputed::Formula).then(Formulas::default),
                inside: Inside::Nothing,
                text: TextState::default(),
                stage: Stage::Before,
                oddities: Oddities::default(),
            },
        }))
    }
}

/// The rows of a sheet.
struct XlsxRows {
    markup: Markup,
    state: State,
}

/// How far a sheet is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stage {
    Before,
    Data,
    Behind,
}

/// What is being read inside a cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Inside {
    Nothing,
    Value,
    Inline,
    Formula,
}

/// What the tag of a cell says.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct CellHead {
    pub(super) kind: CellKind,
    pub(super) style: usize,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum CellKind {
    #[default]
    Number,
    Shared,
    Text,
    Inline,
    Boolean,
    Error,
    Date,
}

pub(super) struct State {
    pub(super) strings: Arc<Strings>,
    styles: Arc<CellStyles>,
    pub(super) numbers: NumberText,
    /// The present row, from 1, and column, from 0; a cell that does not say where it is comes
    /// after the one before.
    pub(super) row: u64,
    pub(super) column: u32,
    cell: CellHead,
    /// A cell has begun and not ended.
    is_open: bool,
    value: String,
    /// The open cell has the text of an inline string.
    has_inline: bool,
    has_value: bool,
    has_formula: bool,
    formulas: Option<Formulas>,
    inside: Inside,
    text: TextState,
    stage: Stage,
    pub(super) oddities: Oddities,
}

impl State {
    /// A cell style by its number.
    #[inline]
    pub(super) fn style(&self, style: usize) -> CellStyle {
        self.styles.get(style)
    }

    fn place(&self) -> String {
        format!("{}{}", letters(self.column.saturating_sub(1)), self.row)
    }

    fn damaged(&self, what: impl std::fmt::Display) -> ReadProblem {
        ReadProblem::Damaged {
            what: what.to_string(),
        }
    }

    fn begin_row(&mut self, tag: &BytesStart<'_>, row: &mut Row) -> Result<(), ReadProblem> {
        let mut number = self.row + 1;
        for attribute in tag.attributes().with_checks(false).flatten() {
            match attribute.key.as_ref() {
                "r" => {
                    let said = attribute
                        .value
                        .parse()
                        .ok()
                        .filter(|row| (1..=ROWS).contains(row));
                    number = said.ok_or_else(|| {
                        self.damaged(format!("there is no row '{}'", attribute.value))
                    })?;
                }
                "hidden" if matches!(attribute.value.as_ref(), "1" | "true") => {
                    self.oddities.hidden_rows += 1;
                }
                _ => {}
            }
        }
        self.row = number;
        self.column = 0;
        row.number = number;
        Ok(())
    }

    fn begin_cell(&mut self, tag: &BytesStart<'_>) -> Result<(), ReadProblem> {
        let mut head = CellHead::default();
        let mut said = None;
        for attribute in tag.attributes().with_checks(false).flatten() {
            let value = attribute.value.as_ref();
            match attribute.key.as_ref() {
                "r" => said = Some(self.column_of(value)?),
                "s" => head.style = value.parse().unwrap_or(0),
                "t" => {
                    head.kind = match value {
                        "s" => CellKind::Shared,
                        "str" => CellKind::Text,
                        "inlineStr" => CellKind::Inline,
                        "b" => CellKind::Boolean,
                        "e" => CellKind::Error,
                        "d" => CellKind::Date,
                        _ => CellKind::Number,
                    };
                }
                _ => {}
            }
        }
        // From here on `column` is that of the next cell.
        self.column = said.unwrap_or(self.column) + 1;
        if self.column > COLUMNS {
            return Err(self.damaged(format!("there is no column after XFD (row {})", self.row)));
        }
        self.cell = head;
        self.is_open = true;
        self.value.clear();
        self.has_inline = false;
        self.has_value = false;
        self.has_formula = false;
        self.inside = Inside::Nothing;
        Ok(())
    }

    /// The column, from 0, of a reference such as `BC12`, which must be in the present row.
    #[inline]
    fn column_of(&self, reference: &str) -> Result<u32, ReadProblem> {
        let mut column = 0_u32;
        let mut row = 0_u64;
        let mut digits = false;
        for byte in reference.bytes() {
            match byte {
                b'A'..=b'Z' if !digits && column < 100_000 => {
                    column = column * 26 + u32::from(byte - b'A') + 1;
                }
                b'0'..=b'9' if column > 0 && row < 100_000_000 => {
                    digits = true;
                    row = row * 10 + u64::from(byte - b'0');
                }
                _ => return Err(self.damaged(format!("'{reference}' is not a cell"))),
            }
        }
        if column == 0 || column > COLUMNS || row != self.row {
            return Err(self.damaged(format!("the cell '{reference}' is in row {}", self.row)));
        }
        Ok(column - 1)
    }

    fn end_cell(&mut self, row: &mut Row) -> Result<(), ReadProblem> {
        // An end without a start is none of a cell.
        let Some(column) = self.column.checked_sub(1).filter(|_| self.is_open) else {
            return Ok(());
        };
        self.is_open = false;
        if self.has_formula {
            self.oddities.formulas += 1;
            // An empty value is the result of a formula only if it is a text.
            let has_text = self.has_value && self.cell.kind == CellKind::Text;
            let is_computed = has_text || !self.value.is_empty();
            if !is_computed {
                self.oddities.without_value(self.row, column);
            }
            if let Some(formulas) = &mut self.formulas {
                let row_number = u32::try_from(self.row).unwrap_or(u32::MAX);
                let place = cell_reference::CellReference {
                    row: row_number,
                    column,
                };
                let text = formulas.take(place);
                if !is_computed && !text.is_empty() {
                    row.push_text(column, unescaped(&format!("={text}")).as_bytes());
                }
            }
        }
        if self.value.is_empty() {
            return Ok(());
        }
        let value = self.value.as_str();
        match self.cell.kind {
            CellKind::Number => {
                let CellStyle { shown, format } = self.style(self.cell.style);
                let mut fits = true;
                row.push_value(column, format, |out| {
                    fits = self
                        .numbers
                        .write(value.trim_ascii().as_bytes(), shown, out);
                });
                if !fits {
                    return Err(
                        self.damaged(format!("cell {}: '{value}' is not a number", self.place()))
                    );
                }
            }
            CellKind::Shared => {
                let number = value.trim_ascii().parse::<usize>().ok();
                let text = number.and_then(|number| self.strings.get(number));
                let Some(text) = text else {
                    return Err(self.damaged(format!(
                        "cell {} holds the shared text {value}, and there are {}",
                        self.place(),
                        self.strings.len()
                    )));
                };
                let format = self.style(self.cell.style).format;
                row.push_formatted_text(column, text, format);
            }
            CellKind::Text | CellKind::Inline => {
                let format = self.style(self.cell.style).format;
                row.push_formatted_text(column, unescaped(value).as_bytes(), format);
            }
            CellKind::Boolean => {
                let shown = self.style(self.cell.style).shown;
                row.push_boolean(column, matches!(value, "1" | "true"), shown);
            }
            CellKind::Error => {
                self.oddities.errors += 1;
                row.push_text(column, value.as_bytes());
            }
            CellKind::Date => {
                // Midnight of a date is not written.
                let date = value.strip_suffix('Z').unwrap_or(value);
                let date = date.strip_suffix("T00:00:00").unwrap_or(date);
                row.push_with(column, |out| {
                    out.extend_from_slice(date.replace('T', " ").as_bytes());
                });
            }
        }
        Ok(())
    }

    fn push_formula(&mut self, text: &str) {
        if let Some(formulas) = &mut self.formulas {
            formulas.text.push_str(text);
        }
    }

    /// Takes note of an element after the rows.
    fn note_extra(&mut self, name: &str) {
        let extras = &mut self.oddities.extras;
        match name {
            "conditionalFormatting" | "dataValidation" => extras.rules += 1,
            "hyperlink" => extras.links += 1,
            "drawing" | "picture" => extras.has_drawings = true,
            "legacyDrawing" => extras.has_comments = true,
            _ => {}
        }
    }

    fn take(&mut self, event: Event<'_>, row: &mut Row) -> Result<Flow, ReadProblem> {
        match event {
            Event::Start(tag) => match tag.local_name().as_ref() {
                "c" if self.stage == Stage::Data => self.begin_cell(&tag)?,
                // The text of an inline string is that in `is`, whatever stands next to it.
                "v" if self.has_inline => {}
                "v" => {
                    self.inside = Inside::Value;
                    self.has_value = true;
                }
                "f" => {
                    self.has_formula = true;
                    if let Some(formulas) = &mut self.formulas {
                        formulas.begin(|name| attribute(&tag, name));
                        self.inside = Inside::Formula;
                    }
                }
                "is" => {
                    if self.cell.kind == CellKind::Inline {
                        self.has_inline = true;
                        self.value.clear();
                    }
                    self.inside = Inside::Inline;
                }
                "row" => self.begin_row(&tag, row)?,
                "sheetData" => self.stage = Stage::Data,
                "mergeCell" => self.oddities.merged += 1,
                name if self.stage == Stage::Behind => self.note_extra(name),
                _ if self.inside == Inside::Inline => {
                    self.text.take(&Event::Start(tag), &mut self.value)?;
                }
                _ => {}
            },
            Event::Empty(tag) => match tag.local_name().as_ref() {
                "c" if self.stage == Stage::Data => self.begin_cell(&tag)?,
                "f" => {
                    self.has_formula = true;
                    if let Some(formulas) = &mut self.formulas {
                        formulas.begin(|name| attribute(&tag, name));
                    }
                }
                "v" => self.has_value = true,
                "row" => self.begin_row(&tag, row)?,
                "sheetData" => self.stage = Stage::Behind,
                "mergeCell" => self.oddities.merged += 1,
                name if self.stage == Stage::Behind => self.note_extra(name),
                _ => {}
            },
            Event::End(tag) => match tag.local_name().as_ref() {
                "v" | "f" => self.inside = Inside::Nothing,
                "c" => self.end_cell(row)?,
                "is" => self.inside = Inside::Nothing,
                "row" => return Ok(Flow::Pause),
                "sheetData" => {
                    self.stage = Stage::Behind;
                }
                _ if self.inside == Inside::Inline => {
                    self.text.take(&Event::End(tag), &mut self.value)?;
                }
                _ => {}
            },
            Event::Text(text) if self.inside == Inside::Formula => {
                self.push_formula(&text.xml10_content());
            }
            Event::CData(text) if self.inside == Inside::Formula => {
                self.push_formula(&text.xml10_content());
            }
            Event::GeneralRef(name) if self.inside == Inside::Formula => {
                let mut text = String::new();
                push_reference(&name, &mut text)?;
                self.push_formula(&text);
            }
            other => match (self.inside, &other) {
                (Inside::Nothing | Inside::Formula, _) => {}
                (Inside::Inline, _) => self.text.take(&other, &mut self.value)?,
                (Inside::Value, Event::Text(text)) => self.value.push_str(&text.xml10_content()),
                (Inside::Value, Event::CData(text)) => self.value.push_str(&text.xml10_content()),
                (Inside::Value, Event::GeneralRef(name)) => push_reference(name, &mut self.value)?,
                _ => {}
            },
        }
        Ok(Flow::On)
    }
}

impl Rows for XlsxRows {
    fn next(&mut self, row: &mut Row) -> Result<bool, (Place, ReadProblem)> {
        let state = &mut self.state;
        let mut tried = Ok(Fast::Unusual);
        while state.stage == Stage::Data {
            tried = fast::read(self.markup.rest(), state, row);
            match tried {
                Ok(Fast::Row(length)) => {
                    self.markup.pass(length);
                    return Ok(true);
                }
                Ok(Fast::Incomplete) if self.markup.has_more() => match self.markup.more() {
                    Ok(()) => {}
                    Err(problem) => {
                        tried = Err(problem);
                        break;
                    }
                },
                _ => break,
            }
        }
        let more = match tried {
            Ok(_) => self.markup.pull(|event| state.take(event, row)),
            Err(problem) => Err(problem),
        };
        let at = |problem| {
            let row = Some(self.state.row).filter(|row| *row > 0);
            let place = row.map_or_else(Place::default, Place::row);
            (place, problem)
        };
        match more {
            Ok(true) => Ok(true),
            Ok(false) if self.state.stage == Stage::Behind => Ok(false),
            Ok(false) => Err(at(self
                .state
                .damaged("the sheet ends in the middle of its rows"))),
            Err(problem) => Err(at(problem)),
        }
    }

    fn oddities(&self) -> Oddities {
        self.state.oddities
    }

    fn forget_oddities(&mut self) {
        self.state.oddities = Oddities::default();
    }
}
