//! What follows from a job: names and format of its outputs, the columns that it names, how cells are read.

use std::path::PathBuf;
use std::sync::Arc;

use super::{Gathering, Job, JobError, Overflow, PageOptions, SheetOrder};
use numerant_data::source::{Compression, SourcePath};
use numerant_data::value::{
    Cells, ColumnType, DateFormat, DecimalMark, NumberFormat, WrittenHints,
};
use numerant_format::Format;
use numerant_format::sheet::Types;
use numerant_formats::{delimited, format_named, format_of, format_read};
use numerant_naming::{Key, NamePattern, Part, RunField, Template};
use numerant_steps::{CASE_COLUMN, Step};

impl Job {
    /// The order of sheets: as stated, or else natural where values name them; those that are named after sources stay
    /// in the order of these.
    pub(crate) fn order_of_sheets(&self) -> SheetOrder {
        let has_values = self
            .sheet
            .as_ref()
            .is_some_and(|sheet| !sheet.keys().is_empty());
        self.sheet_order.unwrap_or(if has_values {
            SheetOrder::Natural
        } else {
            SheetOrder::Records
        })
    }

    /// What is before the fraction of numbers.
    pub(super) fn decimal_mark(&self) -> DecimalMark {
        match &self.number_format {
            Some(format) => format.mark(),
            None if self.decimal_comma => DecimalMark::Comma,
            None => DecimalMark::Point,
        }
    }

    /// How cells are read.
    pub fn cells(&self) -> Cells {
        Cells {
            mark: self.decimal_mark(),
            numbers: self.number_format.clone(),
            formats: self.date_format.clone(),
            columns: Arc::default(),
        }
    }

    /// What is stated of how values are written.
    pub(crate) fn written_hints(&self) -> WrittenHints {
        let orders = self.date_format.iter().filter_map(DateFormat::order);
        let stated = self.number_format.as_ref().map(NumberFormat::mark);
        let comma = self.decimal_comma.then_some(DecimalMark::Comma);
        WrittenHints {
            mark: stated.or(comma),
            order: orders.into_iter().next(),
            language: self.locale.clone(),
            is_for_reading: false,
        }
    }

    /// The file that all records go to, if the job alone decides it.
    pub fn only_output(&self) -> Option<PathBuf> {
        if let Some(pack) = &self.pack {
            return Some(pack.clone());
        }
        let name = self.name.as_ref()?;
        let out = self.out.as_ref().filter(|_| self.divisions().is_empty())?;
        Some(out.join(name.constant()?))
    }

    /// The name template: the one that is given, or one made of what tells outputs apart.
    pub fn template(&self, source: &SourcePath) -> Template {
        if let Some(name) = &self.name {
            return name.clone();
        }
        let in_sheet = |key: &&Key| {
            let sheet = self.sheet.as_ref();
            sheet.is_some_and(|sheet| sheet.keys().contains(key))
        };
        let by = self.by.iter().filter(|key| !in_sheet(key));
        let mut keys: Vec<String> = by.map(|key| format!("{{{key}}}")).collect();
        if self.per_sheet {
            if self.sources.len() > 1 {
                keys.push("{.stem}".to_owned());
            }
            keys.push("{.sheet}".to_owned());
        }
        let case_in_sheet = self
            .sheet
            .as_ref()
            .is_some_and(|sheet| sheet.keys().iter().any(|key| key.column == CASE_COLUMN));
        if !self.case.is_empty() && !case_in_sheet {
            keys.push(format!("{{{CASE_COLUMN}}}"));
        }
        let numbered = !self.divisions().is_empty();
        if keys.is_empty() && (numbered || self.sheet.is_some() || self.to.is_some()) {
            keys.push("{.stem}".to_owned());
        }
        let number = match (numbered, self.each) {
            (false, _) => "",
            (true, false) => "-{.n:03}",
            (true, true) => "-{.n:05}",
        };
        let extension = source.extension();
        let text = self.sheet.is_none();
        let fits = |format: &&'static dyn Format| text || format.capabilities().workbook.is_some();
        let extension = match (
            &self.to,
            format_of(&extension).filter(fits),
            format_read(&extension),
        ) {
            (Some(to), ..) => to.trim_start_matches('.').to_lowercase(),
            (None, Some(_), _) => extension,
            (None, None, _) if self.like_its_source(&extension).is_some_and(|f| fits(&f)) => {
                extension
            }
            (None, None, Some(format)) if format.capabilities().workbook.is_some() => {
                "xlsx".to_owned()
            }
            _ if self.read.lines && !source.extension().is_empty() => source.extension(),
            _ if text => "csv".to_owned(),
            _ => "xlsx".to_owned(),
        };
        // Keys cannot hold what templates forbid, as they are in braces.
        format!("{}{number}.{extension}", keys.join("_"))
            .parse()
            .expect("keys make a template")
    }

    /// The extension of the outputs and the format that it represents.
    ///
    /// # Errors
    ///
    /// If the name has no extension, or an unknown one.
    pub fn format(&self, source: &SourcePath) -> Result<(String, &'static dyn Format), JobError> {
        let template = self.template(source);
        if self.read.lines {
            let extension = template.extension(&source.extension()).unwrap_or_default();
            let columns = self.columns_of_lines();

            return match (format_of(&extension), columns.as_slice()) {
                (Some(format), _) if !format.capabilities().is_line_by_line => {
                    Ok((extension, format))
                }
                // Any text is written as lines, whatever it calls itself.
                (_, [_]) => Ok((extension, delimited())),
                (Some(format), _) if extension != "txt" => Ok((extension, format)),
                _ => Err(JobError::LinesWithColumns(columns)),
            };
        }
        let extension = template.extension(&source.extension());
        if let (Some(to), Some(_)) = (&self.to, &self.name) {
            let to = to.trim_start_matches('.').to_lowercase();
            let (plain, _) = Compression::of_name(&to);
            let format = format_of(plain).ok_or(JobError::UnknownExtension(to))?;
            return Ok((extension.unwrap_or_default(), format));
        }
        let extension = extension.ok_or_else(|| JobError::NoExtension(template.clone()))?;
        let as_source = extension == source.extension();
        if let Some(format) = self.like_its_source(&extension).filter(|_| as_source) {
            return Ok((extension, format));
        }
        let copies = self.keeps_sheets() || self.like_source || self.fill.template.is_some();
        let macros = extension == "xlsm" && copies;
        match format_of(if macros { "xlsx" } else { &extension }) {
            Some(format) => Ok((extension, format)),
            None => Err(JobError::UnknownExtension(extension)),
        }
    }

    /// The format of the first source, if outputs with its extension are written in it though it is
    /// not the usual extension of the format.
    pub(super) fn like_its_source(&self, extension: &str) -> Option<&'static dyn Format> {
        let name = self.source_format.filter(|_| !extension.is_empty())?;
        let format = format_named(name);
        let usual = format_of(extension);
        // A name that states a format is obeyed.
        let is_free = usual.is_none() || self.name.is_none();
        format.filter(|format| is_free && !format.written().is_empty())
    }

    /// The extension that represents the format of the outputs, which have this one.
    pub(crate) fn written_as<'e>(&'e self, extension: &'e str) -> &'e str {
        match (&self.to, &self.name) {
            (Some(to), Some(_)) => to.trim_start_matches('.'),
            _ => extension,
        }
    }

    /// The columns of the records of `--lines` as they are written. What a lookup adds is one name.
    pub(super) fn columns_of_lines(&self) -> Vec<String> {
        let mut columns = vec!["line".to_owned()];
        let named = self.from_name.iter().flat_map(NamePattern::columns);
        columns.extend(named.cloned());
        columns.extend(self.source_column.clone());
        for step in &self.steps {
            match step {
                Step::Set { name, .. } if !columns.contains(name) => columns.push(name.clone()),
                Step::Lookup(lookup) => {
                    columns.push(format!("those of {}", lookup.file.display()));
                }
                Step::Rename { from, to } => {
                    let renamed = columns.iter_mut().filter(|column| *column == from);
                    renamed.for_each(|column| column.clone_from(to));
                }
                Step::Keep(names) => columns.clone_from(names),
                Step::Drop(names) => columns.retain(|column| !names.contains(column)),
                _ => {}
            }
        }
        columns
    }

    /// Whether records are lines, and are moved verbatim into outputs with `extension`.
    pub(crate) fn moves_lines_to(&self, extension: &str) -> bool {
        let format = format_of(extension).unwrap_or_else(delimited);
        let can = format.capabilities();
        let is_lines = can.is_line_by_line && !can.has_dialect;
        self.read.lines && (is_lines || self.moves_lines(format))
    }

    /// Whether records are lines, and are moved verbatim into outputs of lines.
    pub(crate) fn moves_lines(&self, format: &dyn Format) -> bool {
        let is_text = format.capabilities().has_dialect;
        self.read.lines && is_text && self.columns_of_lines().len() == 1
    }

    /// Whether each sheet of the sources is an output of its own.
    pub fn is_by_sheet(&self) -> bool {
        self.per_sheet || self.gathering == Gathering::Sheets
    }

    /// Whether sheets of Office Open XML workbooks come out as they are, with their look: each goes
    /// whole into a workbook, and nothing is done to its records.
    pub fn keeps_sheets(&self) -> bool {
        let alone = self.is_by_sheet() && self.overflow == Overflow::Refuse;
        let plain = self.steps.is_empty() && self.write.types == Types::Auto;
        let named = self.from_name.is_none() && self.source_column.is_none();
        let undivided = self.by.is_empty() && self.case.is_empty() && self.divisions().is_empty();
        let template = self.name.as_ref();
        let whole = |name: &Template| {
            let counted = name.names(RunField::Rows) || name.names(RunField::Number);
            name.keys().is_empty() && !counted
        };
        let whole = template.is_none_or(whole) && self.sheet.as_ref().is_none_or(whole);
        let extension = match (template, &self.to) {
            (Some(name), None) => name.extension(""),
            (_, to) => to.clone(),
        };
        // Without either, outputs are called as their source is.
        let wanted = extension.is_none_or(|to| match to.as_str() {
            "xlsx" | "xlsm" => true,
            "pdf" => !self.write.plain && self.pages == PageOptions::default(),
            "ods" => self.per_sheet && self.sheet.is_none(),
            _ => false,
        });
        alone && plain && named && undivided && whole && wanted
    }

    /// All keys, those that names and templates have among them.
    fn all_keys(&self) -> impl Iterator<Item = Key> {
        let templates = self.name.iter().chain(&self.sheet);
        let templates = templates.chain(self.pages.templates());
        let named = templates.flat_map(|template| template.keys().into_iter().cloned());
        self.by.iter().cloned().chain(named).chain(self.fill.keys())
    }

    /// All words that could name columns of the sources.
    pub(crate) fn words(&self) -> Vec<String> {
        let mut words: Vec<String> = self.all_keys().map(|key| key.column).collect();
        words.extend(self.columns_read());
        for step in &self.steps {
            match step {
                Step::Type { column, .. } | Step::Rename { from: column, .. } => {
                    words.push(column.clone());
                }
                Step::Lookup(lookup) => words.extend(lookup.column.clone()),
                Step::Keep(columns) | Step::Drop(columns) => words.extend(columns.iter().cloned()),
                Step::Tidy
                | Step::Normalize
                | Step::KeepType(_)
                | Step::Set { .. }
                | Step::Where(_)
                | Step::Sort(_) => {}
            }
        }
        words
    }

    /// Words that could name columns whose values are read as numbers or dates.
    pub(crate) fn columns_read(&self) -> Vec<String> {
        let keys = self.all_keys().filter(|key| key.part.reads_value());
        let mut words: Vec<String> = keys.map(|key| key.column).collect();
        words.extend(self.total.iter().cloned());
        words.extend(self.case.iter().flat_map(|case| case.when.words()));
        for step in &self.steps {
            match step {
                Step::Type { column, is } if *is != ColumnType::Text => words.push(column.clone()),
                Step::Set { value, .. } => words.extend(value.words()),
                Step::Where(condition) => words.extend(condition.words()),
                Step::Sort(columns) => words.extend(columns.iter().map(|sort| sort.column.clone())),
                _ => {}
            }
        }
        words
    }

    /// All keys that decide the output of a record: those given, then those that only the name has.
    pub fn keys(&self, template: &Template) -> Vec<Key> {
        let mut keys = self.by.clone();
        let besides = self.sheet.iter().chain(self.pages.templates());
        let sheet_keys = besides.flat_map(Template::keys).cloned();
        let named = template.keys().into_iter().cloned().chain(sheet_keys);
        for key in named.chain(self.fill.keys()) {
            if !keys.contains(&key) {
                keys.push(key);
            }
        }
        if !self.case.is_empty() && !keys.iter().any(|key| key.column == CASE_COLUMN) {
            keys.push(Key {
                column: CASE_COLUMN.to_owned(),
                part: Part::Whole,
            });
        }
        keys
    }
}
