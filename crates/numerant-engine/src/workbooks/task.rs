//! Writes one workbook of a run: anew, of sheets or rows of others, or as a copy of a template; or draws its sheets.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use jiff::civil::DateTime;

use super::WrittenFile;
use crate::job::{Formulas, Gathering, Job};
use crate::ledger::FileDigest;
use crate::output::OutputError;
use crate::{Context, Error};
use numerant_data::disk::Disk;
use numerant_data::source::SourcePath;
use numerant_data::value::Size;
use numerant_format::sheet::{Head, LeftOutDrawing, PrintSheet, WorkbookContent};
use numerant_format::{Format, Printing, Put, PutWhat, WriteOptions};
use numerant_formats::format_of;
use numerant_sheets::{
    AssembleOptions, ComputedColumns, ExtractError, Extracted, FillError, PrintError,
    PrintedSheets, PutTable, RowCutter, TakenSheet, TemplateProblem, WorkbookCache,
    WorkbookTemplate, assemble, extract_ods, print_sheets,
};

/// Bytes of memory that a cell and a byte of text of a document take until it is written, as measured.
const CELL_MEMORY: u64 = 1_200;
const BYTE_MEMORY: u64 = 20;

/// A workbook that is written.
pub(super) struct Done {
    pub(super) file: WrittenFile,
    /// What could not stay as it was.
    pub(super) extracted: Option<Extracted>,
    /// What its sheets have and is not drawn.
    pub(super) left_out: Vec<(LeftOutDrawing, u64)>,
}

/// What all workbooks of a run are written with.
pub(super) struct Task<'a> {
    pub(super) format: &'static dyn Format,
    pub(super) shared: usize,
    pub(super) options: &'a WriteOptions,
    pub(super) sync: bool,
    pub(super) digest: bool,
    pub(super) context: &'a Context,
    pub(super) disk: &'a Disk,
    pub(super) progress: &'a (dyn Fn(u64) + Sync),
    /// Bytes of memory that a document may take.
    pub(super) room: u64,
    /// The sheets of workbooks that are drawn.
    pub(super) printed: Mutex<HashMap<PathBuf, Arc<Vec<PrintSheet>>>>,
    /// When the run began.
    pub(super) now: DateTime,
    /// Workbooks that sheets are taken from.
    pub(super) shelf: WorkbookCache,
}

impl Task<'_> {
    pub(super) fn write(
        &self,
        book: &WorkbookContent<'_>,
        path: &str,
        first: usize,
        staged: PathBuf,
    ) -> Result<Done, Error> {
        self.context.check_cancelled()?;
        let failed = |cause: io::Error| -> Error {
            if cause.kind() == io::ErrorKind::Interrupted && self.context.check_cancelled().is_err()
            {
                return Error::Interrupted;
            }
            OutputError::new("writing", Path::new(path), cause).into()
        };
        if self.format.capabilities().draws_sheets {
            let heads = book.sheets.iter().map(|(head, _)| head);
            let cells = heads
                .clone()
                .map(|head| head.records * head.plans.len() as u64);
            let bytes: u64 = heads.clone().map(|head| head.bytes).sum();
            self.check_room(path, cells.sum(), bytes)?;
        }
        self.put(book, self.format, &staged).map_err(failed)?;
        let file = self.finish(path, first, staged).map_err(failed)?;
        Ok(Done {
            file,
            extracted: None,
            left_out: Vec::new(),
        })
    }

    /// Writes a workbook on the way to an output.
    pub(super) fn write_part(
        &self,
        book: &WorkbookContent<'_>,
        path: &str,
        to: &Path,
    ) -> Result<(), Error> {
        let failed = |cause| OutputError::new("writing", Path::new(path), cause);
        Ok(self.put(book, self.book_format(), to).map_err(failed)?)
    }

    fn put(&self, book: &WorkbookContent<'_>, format: &dyn Format, to: &Path) -> io::Result<()> {
        let file = self.disk.create(to)?;
        let sink = format.create(file, self.shared, self.options)?;
        book.write(sink, &self.context.cancel, self.progress)
    }

    /// Writes a workbook of sheets as they are in others.
    pub(super) fn assemble(
        &self,
        taken: &[TakenSheet],
        path: &str,
        first: usize,
        staged: PathBuf,
        job: &Job,
        records: u64,
    ) -> Result<Done, Error> {
        self.context.check_cancelled()?;
        let ways = AssembleOptions {
            values: job.formulas == Formulas::Values,
            macros: may_have_macros(path),
            charts: job.gathering == Gathering::Sheets && job.read.read_sheet.is_empty(),
        };
        let failed = |cause| OutputError::new("writing", Path::new(path), cause);
        let to = self.disk.create(&self.book(&staged)).map_err(failed)?;
        let what = match taken {
            // Sheets of spreadsheets of this kind are taken out of one book, and keep their names.
            [first, ..] if path.ends_with(".ods") => {
                let names: Vec<&str> = taken.iter().map(|taken| taken.sheet.as_str()).collect();
                extract_ods(&first.book, &names, ways.values, to)
            }
            _ => assemble(taken, ways, &self.shelf, to),
        };
        let what = what.map_err(|error| extracting(path, error))?;
        (self.progress)(records);
        self.finish_look(path, first, staged, Some(what))
    }

    /// Writes an output with rows of a sheet as they are there.
    pub(super) fn cut(
        &self,
        cutting: &RowCutter,
        part: (&str, &[u32], &Path),
        columns: Option<&ComputedColumns>,
        path: &str,
        first: usize,
        staged: PathBuf,
    ) -> Result<Done, Error> {
        let what = self.cut_part(cutting, part, columns, path, &self.book(&staged))?;
        self.finish_look(path, first, staged, Some(what))
    }

    /// Writes a workbook with rows of a sheet as they are there: what the sheet is to be called, the
    /// rows, and the file that has them.
    pub(super) fn cut_part(
        &self,
        cutting: &RowCutter,
        (called, rows, spool): (&str, &[u32], &Path),
        columns: Option<&ComputedColumns>,
        path: &str,
        to: &Path,
    ) -> Result<Extracted, Error> {
        self.context.check_cancelled()?;
        let failed = |cause| OutputError::new("writing", Path::new(path), cause);
        let to = self.disk.create(to).map_err(failed)?;
        let what = cutting.write(called, rows, spool, columns, may_have_macros(path), to);
        let what = what.map_err(|error| extracting(path, error))?;
        (self.progress)(rows.len() as u64);
        Ok(what)
    }

    /// Writes a copy of a template with tables and values put into it.
    #[allow(clippy::too_many_arguments, reason = "all of it is one copy")]
    pub(super) fn fill(
        &self,
        form: &WorkbookTemplate,
        job: &Job,
        tables: Vec<(Head, &Path)>,
        values: &[(usize, String)],
        path: &str,
        first: usize,
        staged: PathBuf,
    ) -> Result<Done, Error> {
        self.context.check_cancelled()?;
        let fill = &job.fill;
        let records: u64 = tables.iter().map(|(head, _)| head.records).sum();
        let put = |(head, spool): (Head, &Path)| -> Option<PutTable> {
            let of = |put: &Put| put.place.to_string() == head.name;
            let place = fill.put.iter().position(of)?;
            let PutWhat::Table { header, .. } = fill.put[place].what else {
                return None;
            };
            Some(PutTable {
                place,
                header: head.header.filter(|_| header),
                plans: head.plans,
                records: head.records,
                spool: spool.to_owned(),
            })
        };
        let tables: Vec<PutTable> = tables.into_iter().filter_map(put).collect();
        let failed = |error| filling(form.path(), path, error);
        if fill.tables().next().is_none() && records > 1 {
            return Err(failed(FillError::Form(TemplateProblem::OnlyValues {
                records,
            })));
        }
        let unwritten = |cause| OutputError::new("writing", Path::new(path), cause);
        let to = self.disk.create(&self.book(&staged)).map_err(unwritten)?;
        form.write(&tables, values, fill.occupied, fill.style_down, to)
            .map_err(failed)?;
        (self.progress)(records);
        self.finish_look(path, first, staged, None)
    }

    /// Where a workbook is made whose sheets become the output: next to it, if they are drawn.
    fn book(&self, staged: &Path) -> PathBuf {
        if self.format.capabilities().draws_sheets {
            staged.with_extension("xlsx")
        } else {
            staged.to_owned()
        }
    }

    /// The format of workbooks that are made on the way to an output.
    fn book_format(&self) -> &'static dyn Format {
        match format_of("xlsx") {
            Some(format) if self.format.capabilities().draws_sheets => format,
            _ => self.format,
        }
    }

    /// Makes an output of a workbook that is complete: it is one, or its sheets are drawn.
    pub(super) fn finish_look(
        &self,
        path: &str,
        first: usize,
        staged: PathBuf,
        extracted: Option<Extracted>,
    ) -> Result<Done, Error> {
        if self.format.capabilities().draws_sheets {
            let book = self.book(&staged);
            let sheets = print_sheets(&book, PrintedSheets::Visible);
            let sheets = sheets.map_err(|error| printing(path, error))?;
            let done = self.draw(&sheets, path, first, staged, extracted)?;
            // The stage is removed as a whole later.
            let _ = self.disk.remove(&book);
            return Ok(done);
        }
        let failed = |cause| OutputError::new("writing", Path::new(path), cause);
        let file = self.finish(path, first, staged).map_err(failed)?;
        Ok(Done {
            file,
            extracted,
            left_out: Vec::new(),
        })
    }

    /// Draws sheets as they are in their own workbooks.
    pub(super) fn draw_taken(
        &self,
        taken: &[TakenSheet],
        path: &str,
        first: usize,
        staged: PathBuf,
        records: u64,
    ) -> Result<Done, Error> {
        let mut sheets = Vec::new();
        for taken in taken {
            let printed = self.printed(&taken.book, path)?;
            let sheet = printed.iter().find(|sheet| sheet.name == taken.sheet);
            sheets.extend(sheet.map(|sheet| PrintSheet {
                name: taken.called.clone(),
                ..sheet.clone()
            }));
        }
        let done = self.draw(&sheets, path, first, staged, None)?;
        (self.progress)(records);
        Ok(done)
    }

    /// The sheets of a workbook, which are read once.
    fn printed(&self, book: &Path, path: &str) -> Result<Arc<Vec<PrintSheet>>, Error> {
        let mut known = self.printed.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(sheets) = known.get(book) {
            return Ok(Arc::clone(sheets));
        }
        let sheets = print_sheets(book, PrintedSheets::All);
        let sheets = Arc::new(sheets.map_err(|error| printing(path, error))?);
        known.insert(book.to_owned(), Arc::clone(&sheets));
        Ok(sheets)
    }

    fn draw(
        &self,
        sheets: &[PrintSheet],
        path: &str,
        first: usize,
        staged: PathBuf,
        extracted: Option<Extracted>,
    ) -> Result<Done, Error> {
        self.context.check_cancelled()?;
        let failed = |cause| OutputError::new("writing", Path::new(path), cause);
        let cells = sheets.iter().flat_map(|sheet| &sheet.cells);
        let bytes = cells.clone().map(|cell| cell.text.len() as u64).sum();
        self.check_room(path, cells.count() as u64, bytes)?;
        let mut left_out: Vec<(LeftOutDrawing, u64)> = Vec::new();
        left_out.extend(
            sheets
                .iter()
                .flat_map(|sheet| sheet.left_out.iter().copied()),
        );
        let name = Path::new(path).file_name().and_then(|name| name.to_str());
        let printing = Printing {
            output: name.unwrap_or(path),
            now: self.now,
            options: self.options,
        };
        let file = self.disk.create(&staged).map_err(failed)?;
        let cut = self.format.draw_sheets(file, sheets, &printing);
        let cut = cut.map_err(failed)?;
        left_out.extend((cut > 0).then_some((LeftOutDrawing::CutTexts, cut)));
        let file = self.finish(path, first, staged).map_err(failed)?;
        Ok(Done {
            file,
            extracted,
            left_out,
        })
    }

    /// Refuses a document that would take too much memory until it is written.
    fn check_room(&self, path: &str, cells: u64, bytes: u64) -> Result<(), Error> {
        let needed = cells * CELL_MEMORY + bytes * BYTE_MEMORY;
        if needed <= self.room {
            return Ok(());
        }
        Err(Error::DocumentTooLarge {
            path: path.to_owned(),
            needed: Size(needed.div_ceil(1_000_000) * 1_000_000),
            room: Size(self.room),
        })
    }

    /// A workbook that is complete.
    fn finish(&self, path: &str, first: usize, staged: PathBuf) -> io::Result<WrittenFile> {
        if self.sync {
            self.disk.sync_file(&staged)?;
        }
        let mut file = File::open(&staged)?;
        let bytes = file.metadata()?.len();
        let digest = if self.digest {
            Some(digest_of(&mut file)?)
        } else {
            None
        };
        Ok(WrittenFile {
            path: path.to_owned(),
            first,
            staged,
            bytes,
            digest,
        })
    }
}

/// A workbook whose sheets cannot be drawn.
fn printing(path: &str, error: PrintError) -> Error {
    match error {
        PrintError::Read(problem) => SourcePath::File(PathBuf::from(path)).error(problem).into(),
        PrintError::Compute(error) => Error::NotComputed {
            path: path.to_owned(),
            error: Box::new(error),
        },
    }
}

/// A copy of a template that could not be filled.
fn filling(template: &Path, path: &str, error: FillError) -> Error {
    match error {
        FillError::Read(problem) => SourcePath::File(template.to_owned()).error(problem).into(),
        FillError::Write(cause) => OutputError::new("writing", Path::new(path), cause).into(),
        FillError::Form(problem) => Error::Form {
            template: template.to_owned(),
            output: Some(path.to_owned()),
            problem: Box::new(problem),
        },
    }
}

fn may_have_macros(path: &str) -> bool {
    Path::new(path)
        .extension()
        .is_some_and(|extension| extension == "xlsm")
}

/// Sheets that could not be taken as they are.
fn extracting(path: &str, error: ExtractError) -> Error {
    match error {
        ExtractError::Read(book, problem) => SourcePath::File(book).error(problem).into(),
        ExtractError::Write(cause) => OutputError::new("writing", Path::new(path), cause).into(),
    }
}

fn digest_of(file: &mut File) -> io::Result<String> {
    let mut digest = FileDigest::default();
    let mut piece = vec![0; 1 << 18];
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(digest.finish()),
            read => digest.update(&piece[..read]),
        }
    }
}
