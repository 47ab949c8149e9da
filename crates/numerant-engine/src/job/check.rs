//! What is wrong with a job, as far as it shows without reading anything.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::Arc;

use super::{Gathering, Job, Overflow};
use crate::output::ExistingPolicy;
use numerant_data::source::{Compression, SourcePath};
use numerant_data::value::{
    Cells, ColumnType, DateFormat, DecimalMark, NumberFormat, WrittenHints,
};
use numerant_format::sheet::Types;
use numerant_format::{Blanks, DocumentLanguage, Format, Ragged};
use numerant_formats::{
    delimited, format_named, format_of, format_read, known_extensions, read_extensions,
};
use numerant_naming::{ClashPolicy, Key, NamePattern, Part, RunField, Template, WordsError};
use numerant_steps::{CASE_COLUMN, OnError, Step, Unmatched};
use numerant_trees::MAX_DEPTH;

/// A job that cannot be run as it is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum JobError {
    /// No source.
    #[error("there is nothing to read: name a file, or - for standard input")]
    NoSource,
    /// One source twice.
    #[error("{0} is named twice")]
    SameSource(SourcePath),
    /// One file under two names.
    #[error("{first} and {second} are the same file; its records would be there twice")]
    SameFile {
        /// The name that comes first.
        first: SourcePath,
        /// The other one.
        second: SourcePath,
    },
    /// Neither keys nor columns in the name.
    #[error(
        "there is nothing to split by: say --by COLUMN, --case NAME=CONDITION, --rows N, --parts N, \
         --max-size SIZE or --each, or put a column in --name"
    )]
    NothingToSplitBy,
    /// Two options that exclude each other.
    #[error("{first} and {second} cannot be said together")]
    NotTogether {
        /// One.
        first: &'static str,
        /// The other.
        second: &'static str,
    },
    /// Outputs of no records or no bytes.
    #[error("{0} must be at least 1")]
    Nothing(&'static str),
    /// `--rest` without `--case`.
    #[error("--rest names what no --case holds for, and there is no --case")]
    RestWithoutCase,
    /// `{.case}` without `--case`.
    #[error("the name '{0}' holds {{.case}}, and there is no --case")]
    NoCase(Template),
    /// Outputs that are joined cannot be named by how many records are in each.
    #[error(
        "--clash {0} cannot go with {{.rows}} in the name, which is known only when all is written"
    )]
    ClashWithRows(&'static str),
    /// A control total twice.
    #[error("--total names '{0}' twice")]
    TotalTwice(String),
    /// The name has no extension, so there is no format.
    #[error("the name '{0}' has no extension that states the format; end it with one of {known}, or state it with --to FORMAT", known = extensions())]
    NoExtension(Template),
    /// The extension is no format's.
    #[error("the extension '.{0}' states no format; --to FORMAT writes any extension; known extensions are {known}", known = extensions())]
    UnknownExtension(String),
    /// A policy that is for files that become one output each.
    #[error("--existing newer is for convert, where each file has outputs of its own")]
    NewerOfBatch,
    /// Several sources and no output folder.
    #[error("with several files, name the output folder with --out")]
    NoOut,
    /// An archive that is to be added to.
    #[error("--pack writes a new archive; with it, --existing is refuse or replace")]
    PackAsItIs,
    /// An archive that is not called one.
    #[error("--pack writes a zip archive: call it {path}", path = .0.with_extension("zip").display())]
    PackName(PathBuf),
    /// `--rejects` where nothing is rejected.
    #[error(
        "--rejects keeps rejected records, and nothing rejects any: say --ragged reject, --on-error \
         reject or --unmatched reject too"
    )]
    RejectsWithoutPolicy,
    /// Ledger and rejects in one file.
    #[error("two of --ledger, --rejects and --pack name the same file")]
    SameSideFile,
    /// No room at all.
    #[error("--memory must be at least 1M")]
    TooLittleMemory,
    /// No output at all, or more than can be counted.
    #[error("--max-outputs must be at least 1 and below 4,294,967,295")]
    MaxOutputs,
    /// Sheets of what has none.
    #[error("{0} is for workbooks, and the outputs are text; end --name with .xlsx")]
    SheetsOfText(&'static str),
    /// More records to an output than a sheet has rows.
    #[error("--rows {rows} is more than a sheet has room for; say at most {most}")]
    RowsOfSheet {
        /// Records that were wanted.
        rows: u64,
        /// Records that there may be.
        most: u64,
    },
    /// An option for documents, and outputs that are none.
    #[error("{option} is for {formats}, and the outputs are {format}")]
    OnlyFor {
        /// The option.
        option: &'static str,
        /// What it is for.
        formats: &'static str,
        /// The format of the outputs.
        format: &'static str,
    },
    /// JSON in another encoding.
    #[error("JSON is written in UTF-8 (RFC 8259), not in {0}")]
    JsonEncoding(&'static str),
    /// A comment that names something of a record.
    #[error("--xml-comment: {0}")]
    Comment(WordsError),
    /// Levels that cannot be followed.
    #[error("--depth must be at least 1 and at most {MAX_DEPTH}")]
    Depth,
    /// Workbooks are packed already.
    #[error("'{0}': workbooks are compressed as they are, so {ending} is for text", ending = .1)]
    CompressedBook(Template, &'static str),
    /// The size of a workbook is not known before it is written.
    #[error(
        "--max-size is for text: how large a workbook becomes is known only when it is packed; use --rows"
    )]
    SizeOfWorkbook,
    /// Outputs of an earlier run are not known.
    #[error(
        "--existing clear removes what the ledger of the run before names: state it with --ledger FILE"
    )]
    ClearWithoutLedger,
    /// Each file of a batch is a run of its own.
    #[error(
        "--existing clear is for split, combine and fill; convert puts each file in place by itself"
    )]
    ClearOfBatch,
    /// Lines with other columns, in outputs of lines.
    #[error("with --lines, an output of lines has room for one column, and these would be written: {}; write .csv, .json or .xlsx, or choose one with --keep", .0.join(", "))]
    LinesWithColumns(Vec<String>),
    /// `--from` names no format.
    #[error("--from: '{0}' is not a format that is read; known are {known}", known = read_extensions().join(", "))]
    UnknownFormat(String),
    /// Whole rows of one sheet, and something that is more or less than these.
    #[error("--like-source takes whole rows of one sheet as they stand: {0}")]
    LikeSource(&'static str),
    /// A template to be filled, and nothing that says with what.
    #[error("there is nothing to put into the template: say --put 'Sheet!B6={{.records}}'")]
    NothingToPut,
    /// A place that is filled twice.
    #[error("--put fills {0} twice")]
    PutTwice(String),
    /// Several tables, and nothing that says which records are for which.
    #[error(
        "there are several tables: say of each which files are for it, as in '{0}={{.records:*_level.tsv}}', or name its --case"
    )]
    WhichTable(String),
    /// A table for a case that is none.
    #[error("--put '{place}' is for the case '{case}', which no --case names")]
    NoSuchCase {
        /// Where the table is put.
        place: String,
        /// The name.
        case: String,
    },
    /// A case without a table.
    #[error(
        "the records of the case '{0}' are put nowhere: say where with --put 'Sheet!B6={{.records:{0}}}'"
    )]
    CaseWithoutTable(String),
    /// Something that has no meaning where templates are filled.
    #[error("{0} has no meaning where copies of a template are filled")]
    NotForFill(&'static str),
    /// What stands for blanks is itself no name.
    #[error("--blank must be a name that files can have")]
    Blank,
}

fn extensions() -> String {
    known_extensions()
        .iter()
        .map(|name| format!(".{name}"))
        .collect::<Vec<_>>()
        .join(", ")
}

impl Job {
    /// Checks what can be checked without reading.
    ///
    /// # Errors
    ///
    /// The first thing that is wrong.
    pub fn check(&self) -> Result<(), JobError> {
        let Some(first) = self.sources.first() else {
            return Err(JobError::NoSource);
        };
        let mut known = HashSet::new();
        for source in &self.sources {
            if !known.insert(source) {
                return Err(JobError::SameSource(source.clone()));
            }
        }
        let name_keys = self.name.as_ref().map_or(0, |name| name.keys().len());
        let divisions = self.divisions();
        let sheet_keys = self.sheet.as_ref().map_or(0, |sheet| sheet.keys().len());
        let keys = name_keys + sheet_keys + self.by.len() + self.case.len();
        // A name that holds something of the source, or nothing but text, is enough.
        let whole = keys == 0 && divisions.is_empty() && self.name.is_none();
        if whole && !self.is_by_sheet() && !(self.batch && self.to.is_some()) {
            return Err(JobError::NothingToSplitBy);
        }
        self.check_divisions(&divisions)?;
        let (_, format) = self.format(first)?;
        if format.capabilities().workbook.is_none() {
            if self.sheet.is_some() {
                return Err(JobError::SheetsOfText("--sheet"));
            }
            if self.overflow != Overflow::Refuse {
                return Err(JobError::SheetsOfText("--overflow"));
            }
        }
        if self.overflow != Overflow::Refuse
            && let [division, ..] = *divisions
        {
            return Err(JobError::NotTogether {
                first: division,
                second: "--overflow",
            });
        }
        if let (Some(room), Some(rows)) = (format.capabilities().workbook, self.rows)
            && rows >= room.rows
        {
            return Err(JobError::RowsOfSheet {
                rows,
                most: room.rows - 1,
            });
        }
        self.check_form(format)?;
        let template = self.template(first);
        if let Some(compression) = template
            .compression()
            .filter(|_| format.capabilities().workbook.is_some())
        {
            return Err(JobError::CompressedBook(template, compression.ending()));
        }
        if format.capabilities().workbook.is_some() && self.max_size.is_some() {
            return Err(JobError::SizeOfWorkbook);
        }
        if let Some(from) = &self.read.from
            && format_read(from).is_none()
        {
            return Err(JobError::UnknownFormat(from.clone()));
        }
        self.check_pack()?;
        self.check_like_source(format)?;
        self.check_fill(format)?;
        if self.sources.len() > 1 && self.out.is_none() && self.pack.is_none() && !self.batch {
            return Err(JobError::NoOut);
        }
        if self.existing == ExistingPolicy::Clear {
            if self.batch {
                return Err(JobError::ClearOfBatch);
            }
            if self.ledger.is_none() {
                return Err(JobError::ClearWithoutLedger);
            }
        }
        if self.existing == ExistingPolicy::Newer && !self.batch {
            return Err(JobError::NewerOfBatch);
        }
        if self.rejects.is_some() && !self.rejects_any() {
            return Err(JobError::RejectsWithoutPolicy);
        }
        let point = |format: &NumberFormat| format.mark() == DecimalMark::Point;
        if self.decimal_comma && self.number_format.as_ref().is_some_and(point) {
            return Err(JobError::NotTogether {
                first: "--decimal-comma",
                second: "a --number-format with a decimal point",
            });
        }
        if self.rejects.is_some() && self.rejects == self.ledger {
            return Err(JobError::SameSideFile);
        }
        if self.memory.0 < 1_000_000 {
            return Err(JobError::TooLittleMemory);
        }
        if self.max_outputs == 0 || self.max_outputs >= u64::from(u32::MAX) {
            return Err(JobError::MaxOutputs);
        }
        if self.blank.trim().is_empty() {
            return Err(JobError::Blank);
        }
        Ok(())
    }

    /// Rows of one sheet go whole and in their order into workbooks.
    fn check_like_source(&self, format: &'static dyn Format) -> Result<(), JobError> {
        if !self.like_source {
            return Ok(());
        }
        let changes = |step: &Step| !matches!(step, Step::Where(_) | Step::Type { .. });
        for (is, why) in [
            (self.sources.len() > 1, "name one file"),
            (
                self.read.read_sheet.len() > 1,
                "choose one sheet with --read-sheet",
            ),
            (
                self.read.no_header,
                "the sheet needs a row that names its columns",
            ),
            (
                self.is_by_sheet() || self.sheet.is_some() || self.overflow != Overflow::Refuse,
                "leave --per-sheet, --sheet and --overflow out",
            ),
            (
                self.steps.iter().any(changes),
                "of the steps only --where and --type can go with it",
            ),
            (self.write.types != Types::Auto, "leave --types out"),
            (!format.capabilities().cuts_rows, "let --name end in .xlsx"),
        ] {
            if is {
                return Err(JobError::LikeSource(why));
            }
        }
        Ok(())
    }

    /// What is put into copies of a template has a place of its own, and each record a table.
    fn check_fill(&self, format: &'static dyn Format) -> Result<(), JobError> {
        let fill = &self.fill;
        if fill.template.is_none() {
            return Ok(());
        }
        if fill.put.is_empty() {
            return Err(JobError::NothingToPut);
        }
        for (is, what) in [
            (
                !format.capabilities().fills_templates,
                "a --name that does not end in .xlsx or .xlsm",
            ),
            (
                !self.divisions().is_empty(),
                "--rows, --parts, --max-size and --each",
            ),
            (self.sheet.is_some(), "--sheet"),
            (self.overflow != Overflow::Refuse, "--overflow"),
            (
                self.is_by_sheet() || self.like_source,
                "--per-sheet, --as and --like-source",
            ),
            (
                self.clash != ClashPolicy::Refuse && self.clash != ClashPolicy::Number,
                "this --clash",
            ),
            (
                self.name
                    .as_ref()
                    .is_some_and(|name| name.names(RunField::Rows)),
                "{.rows} in --name",
            ),
        ] {
            if is {
                return Err(JobError::NotForFill(what));
            }
        }
        for (number, put) in fill.put.iter().enumerate() {
            if fill.put[..number]
                .iter()
                .any(|known| known.place == put.place)
            {
                return Err(JobError::PutTwice(put.place.to_string()));
            }
        }
        let tables: Vec<_> = fill.tables().collect();
        let place = |number: usize| fill.put[number].place.to_string();
        if tables.len() > 1
            && let Some((number, _)) = tables.iter().find(|(_, of)| of.is_none())
        {
            return Err(JobError::WhichTable(place(*number)));
        }
        if self.case.is_empty() {
            return Ok(());
        }
        let cases = self.case.iter().map(|case| &case.name).chain(&self.rest);
        let cases: Vec<&String> = cases.collect();
        let named: Vec<(usize, String)> = tables
            .iter()
            .filter_map(|(number, of)| Some((*number, of.as_ref()?.to_string())))
            .collect();
        for (number, case) in &named {
            if !cases.contains(&case) {
                let (place, case) = (place(*number), case.clone());
                return Err(JobError::NoSuchCase { place, case });
            }
        }
        let open = |case: &&&String| !named.iter().any(|(_, name)| name == **case);
        match cases.iter().find(open).filter(|_| !named.is_empty()) {
            Some(case) => Err(JobError::CaseWithoutTable((*case).clone())),
            None => Ok(()),
        }
    }

    /// An archive takes the place of an output folder, and is new as a whole.
    fn check_pack(&self) -> Result<(), JobError> {
        let Some(pack) = &self.pack else {
            return Ok(());
        };
        if self.out.is_some() {
            return Err(JobError::NotTogether {
                first: "--pack",
                second: "--out",
            });
        }
        if !matches!(
            self.existing,
            ExistingPolicy::Refuse | ExistingPolicy::Replace
        ) {
            return Err(JobError::PackAsItIs);
        }
        let named = pack.extension().unwrap_or_default();
        if !named.eq_ignore_ascii_case("zip") {
            return Err(JobError::PackName(pack.clone()));
        }
        for side_file in [&self.ledger, &self.rejects] {
            if side_file.as_ref() == Some(pack) {
                return Err(JobError::SameSideFile);
            }
        }
        Ok(())
    }

    /// Options for documents go with outputs that are such.
    fn check_form(&self, format: &'static dyn Format) -> Result<(), JobError> {
        let write = &self.write;
        let language = format.capabilities().language;
        let is_xml = language == Some(DocumentLanguage::Xml);
        let is_json = language == Some(DocumentLanguage::Json);
        for (said, option, fits, formats) in [
            (write.root.is_some(), "--root", is_xml, "XML"),
            (write.item.is_some(), "--item", is_xml, "XML"),
            (write.xml_comment.is_some(), "--xml-comment", is_xml, "XML"),
            (!write.namespace.is_empty(), "--namespace", is_xml, "XML"),
            (
                write.indent.is_some(),
                "--indent",
                is_xml || is_json,
                "JSON and XML",
            ),
            (write.flat, "--flat", is_xml || is_json, "JSON and XML"),
            (
                write.shape.is_some(),
                "--shape",
                is_xml || is_json,
                "JSON and XML",
            ),
            (
                write.schema.is_some(),
                "--schema",
                is_xml || is_json,
                "JSON and XML",
            ),
            (
                write.nulls != Blanks::Keep,
                "--nulls",
                is_xml || is_json,
                "JSON and XML",
            ),
        ] {
            if said && !fits {
                return Err(JobError::OnlyFor {
                    option,
                    formats,
                    format: format.name(),
                });
            }
        }
        if let Some(encoding) = write
            .out_encoding
            .filter(|encoding| is_json && !encoding.is_utf8())
        {
            return Err(JobError::JsonEncoding(encoding.name()));
        }
        if let Some(comment) = &write.xml_comment
            && let Err(problem) = comment.check_no_records()
        {
            return Err(JobError::Comment(problem));
        }
        if self
            .read
            .depth
            .is_some_and(|depth| depth == 0 || depth > MAX_DEPTH)
        {
            return Err(JobError::Depth);
        }
        Ok(())
    }

    /// The options that cut outputs and are said.
    fn divisions(&self) -> Vec<&'static str> {
        [
            (self.rows.is_some(), "--rows"),
            (self.parts.is_some(), "--parts"),
            (self.max_size.is_some(), "--max-size"),
            (self.each, "--each"),
        ]
        .into_iter()
        .filter_map(|(said, option)| said.then_some(option))
        .collect()
    }

    fn check_divisions(&self, divisions: &[&'static str]) -> Result<(), JobError> {
        if let [first, second, ..] = *divisions {
            return Err(JobError::NotTogether { first, second });
        }
        if self.rows == Some(0) {
            return Err(JobError::Nothing("--rows"));
        }
        if self.parts == Some(0) {
            return Err(JobError::Nothing("--parts"));
        }
        if self.max_size == Some(numerant_data::value::Size(0)) {
            return Err(JobError::Nothing("--max-size"));
        }
        if self.case.is_empty() {
            if self.rest.is_some() {
                return Err(JobError::RestWithoutCase);
            }
            let names = self.name.iter().chain(&self.sheet);
            let named = |name: &&Template| name.keys().iter().any(|key| key.column == CASE_COLUMN);
            if let Some(name) = names.into_iter().find(named) {
                return Err(JobError::NoCase(name.clone()));
            }
        }
        let names_rows = |name: &Template| name.names(RunField::Rows);
        let decided = match self.clash {
            ClashPolicy::First => Some("first"),
            ClashPolicy::Last => Some("last"),
            ClashPolicy::Together => Some("together"),
            ClashPolicy::Refuse | ClashPolicy::Number => None,
        };
        if let Some(policy) = decided
            && self.name.as_ref().is_some_and(names_rows)
        {
            return Err(JobError::ClashWithRows(policy));
        }
        for (place, column) in self.total.iter().enumerate() {
            if self.total[..place].contains(column) {
                return Err(JobError::TotalTwice(column.clone()));
            }
        }
        Ok(())
    }

    /// Whether any record can be rejected.
    fn rejects_any(&self) -> bool {
        let by_lookup = |step: &Step| match step {
            Step::Lookup(lookup) => lookup.unmatched == Unmatched::Reject,
            _ => false,
        };
        self.read.ragged == Ragged::Reject
            || self.on_error == OnError::Reject
            || self.steps.iter().any(by_lookup)
    }

    /// What stands before the fraction of numbers.
    fn decimal_mark(&self) -> DecimalMark {
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

    /// The file that all records go to, where that is told by the job alone.
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
        // Keys cannot hold what templates forbid, as they stand in braces.
        format!("{}{number}.{extension}", keys.join("_"))
            .parse()
            .expect("keys make a template")
    }

    /// The extension of the outputs and the format that it stands for.
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
    fn like_its_source(&self, extension: &str) -> Option<&'static dyn Format> {
        let name = self.source_format.filter(|_| !extension.is_empty())?;
        let format = format_named(name);
        let usual = format_of(extension);
        // A name that states a format is obeyed.
        let is_free = usual.is_none() || self.name.is_none();
        format.filter(|format| is_free && !format.written().is_empty())
    }

    /// The extension that stands for the format of the outputs, which have this one.
    pub(crate) fn written_as<'e>(&'e self, extension: &'e str) -> &'e str {
        match (&self.to, &self.name) {
            (Some(to), Some(_)) => to.trim_start_matches('.'),
            _ => extension,
        }
    }

    /// The columns of the records of `--lines` as they are written. What a lookup adds is one name.
    fn columns_of_lines(&self) -> Vec<String> {
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
            "ods" => self.per_sheet && self.sheet.is_none(),
            _ => false,
        });
        alone && plain && named && undivided && whole && wanted
    }

    /// All words that could name columns of the sources.
    pub(crate) fn words(&self) -> Vec<String> {
        let templates = self.name.iter().chain(&self.sheet);
        let keys = templates.flat_map(|template| template.keys().into_iter().cloned());
        let keys = self.by.iter().cloned().chain(keys).chain(self.fill.keys());
        let mut words: Vec<String> = keys.map(|key| key.column).collect();
        words.extend(self.total.iter().cloned());
        words.extend(self.case.iter().flat_map(|case| case.when.words()));
        for step in &self.steps {
            match step {
                Step::Tidy => {}
                Step::Type { column, .. } | Step::Rename { from: column, .. } => {
                    words.push(column.clone());
                }
                Step::Lookup(lookup) => words.extend(lookup.column.clone()),
                Step::Set { value, .. } => words.extend(value.words()),
                Step::Where(condition) => words.extend(condition.words()),
                Step::Keep(columns) | Step::Drop(columns) => words.extend(columns.iter().cloned()),
                Step::Sort(columns) => words.extend(columns.iter().map(|sort| sort.column.clone())),
            }
        }
        words
    }

    /// Words that could name columns whose values are read as numbers or dates.
    pub(crate) fn columns_read(&self) -> Vec<String> {
        let templates = self.name.iter().chain(&self.sheet);
        let keys = templates.flat_map(|template| template.keys().into_iter().cloned());
        let keys = self.by.iter().cloned().chain(keys).chain(self.fill.keys());
        let keys = keys.filter(|key| key.part.reads_value());
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

    /// All keys that outputs are told apart by: those given, then those that only the name has.
    pub fn keys(&self, template: &Template) -> Vec<Key> {
        let mut keys = self.by.clone();
        let sheet_keys = self.sheet.iter().flat_map(Template::keys).cloned();
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

#[cfg(test)]
mod tests {
    use super::*;
    use numerant_steps::Case;

    fn job(source: &str) -> Job {
        Job {
            sources: vec![PathBuf::from(source).into()],
            ..Job::default()
        }
    }

    #[test]
    fn what_is_wrong_shows_before_anything_is_read() {
        let by = |by: &str| numerant_naming::parse_keys(by).expect(by);
        let name = |name: &str| Some(name.parse::<Template>().expect(name));
        assert_eq!(Job::default().check(), Err(JobError::NoSource));
        assert_eq!(job("calls.csv").check(), Err(JobError::NothingToSplitBy));
        let split = Job {
            by: by("quay"),
            ..job("calls.csv")
        };
        assert_eq!(split.check(), Ok(()));
        let named = |text: &str| Job {
            name: name(text),
            ..split.clone()
        };
        assert!(matches!(
            named("{quay}").check(),
            Err(JobError::NoExtension(_))
        ));
        let unknown = named("{quay}.doc").check();
        assert_eq!(unknown, Err(JobError::UnknownExtension("doc".into())));
        assert_eq!(
            named("{.stem}.csv").check(),
            Ok(()),
            "the clash shows when it is read"
        );
        let two = vec![PathBuf::from("a.csv").into(), PathBuf::from("b.csv").into()];
        assert_eq!(
            Job {
                sources: two,
                ..split.clone()
            }
            .check(),
            Err(JobError::NoOut)
        );
        let twice = vec![PathBuf::from("a.csv").into(), PathBuf::from("a.csv").into()];
        assert!(matches!(
            Job {
                sources: twice,
                ..split.clone()
            }
            .check(),
            Err(JobError::SameSource(_))
        ));
        let rejects = Job {
            rejects: Some("r.csv".into()),
            ..split
        };
        assert_eq!(rejects.check(), Err(JobError::RejectsWithoutPolicy));
    }

    #[test]
    fn ways_to_split_that_do_not_go_together() {
        let rows = Job {
            rows: Some(5),
            ..job("calls.csv")
        };
        assert_eq!(rows.check(), Ok(()), "there is something to split by");
        let both = Job {
            each: true,
            ..rows.clone()
        };
        let two = JobError::NotTogether {
            first: "--rows",
            second: "--each",
        };
        assert_eq!(both.check(), Err(two));
        let none = Job {
            rows: Some(0),
            ..rows.clone()
        };
        assert_eq!(none.check(), Err(JobError::Nothing("--rows")));
        let rest = Job {
            rest: Some("others".into()),
            ..rows.clone()
        };
        assert_eq!(rest.check(), Err(JobError::RestWithoutCase));
        let named = |name: &str, clash| Job {
            name: Some(name.parse().expect(name)),
            clash,
            ..rows.clone()
        };
        let case = named("{.case}.csv", ClashPolicy::Refuse).check();
        assert!(matches!(case, Err(JobError::NoCase(_))));
        for (clash, fits) in [
            (ClashPolicy::Refuse, true),
            (ClashPolicy::Number, true),
            (ClashPolicy::First, false),
            (ClashPolicy::Last, false),
            (ClashPolicy::Together, false),
        ] {
            let check = named("{.rows}.csv", clash).check();
            assert_eq!(check.is_ok(), fits, "{clash:?}");
        }
        let twice = Job {
            total: vec!["dues".into(), "dues".into()],
            ..rows.clone()
        };
        assert_eq!(twice.check(), Err(JobError::TotalTwice("dues".into())));
        let rejects = Job {
            rejects: Some("r.csv".into()),
            on_error: OnError::Reject,
            ..rows
        };
        assert_eq!(rejects.check(), Ok(()));
    }

    #[test]
    fn outputs_are_named_after_what_tells_them_apart() {
        let by = numerant_naming::parse_keys("quay").expect("a key");
        let case = Case {
            name: "dear".into(),
            when: "dues > 5".parse().expect("a condition"),
        };
        let template = |job: Job| job.template(&job.sources[0]).to_string();
        let base = job("in/calls.tsv");
        let rows = Job {
            rows: Some(5),
            ..base.clone()
        };
        assert_eq!(template(rows.clone()), "{.stem}-{.n:03}.tsv");
        let within = Job {
            by: by.clone(),
            ..rows
        };
        assert_eq!(template(within), "{quay}-{.n:03}.tsv");
        let each = Job {
            each: true,
            ..base.clone()
        };
        assert_eq!(template(each), "{.stem}-{.n:05}.tsv");
        let cases = Job {
            by,
            case: vec![case],
            ..base
        };
        assert_eq!(template(cases.clone()), "{quay}_{.case}.tsv");
        let keys = cases.keys(&cases.template(&cases.sources[0]));
        assert_eq!(keys.len(), 2, "the case is a key as well");
    }

    #[test]
    fn a_name_is_made_of_the_keys() {
        let by = numerant_naming::parse_keys("quay,arrived:month,\"a}:b\"").expect("keys");
        let split = Job {
            by,
            ..job("in/calls.tsv.gz")
        };
        let template = split.template(&split.sources[0]);
        assert_eq!(
            template.to_string(),
            "{quay}_{arrived:month}_{\"a}:b\"}.tsv"
        );
        assert_eq!(split.keys(&template), split.by);
        let odd = Job {
            by: split.by.clone(),
            ..job("calls.dat")
        };
        assert_eq!(odd.format(&odd.sources[0]).expect("csv").0, "csv");
    }

    #[test]
    fn a_job_is_the_same_as_text() {
        let split = Job {
            by: numerant_naming::parse_keys("quay,arrived:month").expect("keys"),
            out: Some("parts".into()),
            date_format: vec!["%d/%m/%Y".parse().expect("a format")],
            ..job("calls.csv")
        };
        let text = serde_json::to_string(&split).expect("serialised");
        assert_eq!(serde_json::from_str::<Job>(&text).expect("parsed"), split);
    }
}
