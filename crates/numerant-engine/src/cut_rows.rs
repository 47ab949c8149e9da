//! Rows of a sheet that come out as they stand, each in its output, with the values of computed columns.

use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Write};
use std::path::PathBuf;
use std::sync::Arc;

use super::Error;
use super::produce::{Routed, SourceSheet};
use crate::output::{OutputError, SinkError, Sinks, Stage};
use numerant_data::disk::OutFile;
use numerant_data::source::SourcePath;
use numerant_format::EncodeError;
use numerant_format::sheet::{ColumnTally, KeptFormat, Spooler, Types};
use numerant_naming::route::NOWHERE;
use numerant_sheets::{AppendedColumns, ExtractError, RowCutter};

/// Where the rows of a sheet go.
pub(super) struct CutRows {
    sheet: Arc<SourceSheet>,
    /// The output of each row.
    outputs: Vec<u32>,
    appended: Option<Appended>,
    cutter: Option<RowCutter>,
}

/// The values of computed columns, in the order of the rows.
struct Appended {
    spooler: Arc<Spooler>,
    tallies: Vec<ColumnTally>,
    path: PathBuf,
    file: BufWriter<OutFile>,
    kept: Vec<u8>,
}

/// Why values of computed columns could not be kept.
pub(super) enum KeepError {
    /// The stage cannot be written to.
    Write(io::Error),
    /// The format has no room for a value of a record.
    Encode(EncodeError),
}

impl CutRows {
    /// Rows of a sheet, with computed columns if there are any.
    pub(super) fn new(
        sheet: Arc<SourceSheet>,
        spooler: Option<Arc<Spooler>>,
        stage: &Stage,
    ) -> io::Result<Self> {
        let appended = match spooler {
            None => None,
            Some(spooler) => {
                let path = stage.dir().join("appended");
                Some(Appended {
                    tallies: vec![ColumnTally::default(); spooler.columns.len()],
                    spooler,
                    file: BufWriter::new(stage.disk().create(&path)?),
                    path,
                    kept: Vec::new(),
                })
            }
        };
        Ok(Self {
            sheet,
            outputs: Vec::new(),
            appended,
            cutter: None,
        })
    }

    /// Takes note of the outputs of records and keeps their computed values. `count` hears of each output.
    pub(super) fn take(
        &mut self,
        routed: &Routed,
        mut count: impl FnMut(usize),
    ) -> Result<(), KeepError> {
        let mut lines = Vec::new();
        routed.batch.all_lines(&mut lines);
        for (record, (&line, &output)) in lines.iter().zip(&routed.outputs).enumerate() {
            if output == NOWHERE {
                continue;
            }
            let row = usize::try_from(line).unwrap_or(0);
            if self.outputs.len() <= row {
                self.outputs.resize(row + 1, NOWHERE);
            }
            self.outputs[row] = output;
            count(output as usize);
            if let Some(appended) = &mut self.appended {
                appended.kept.clear();
                let spooled = appended.spooler.record(
                    &routed.batch,
                    record,
                    &mut appended.tallies,
                    &mut appended.kept,
                );
                spooled.map_err(KeepError::Encode)?;
                let length = appended.kept.len() as u32;
                let written = appended.file.write_all(&length.to_le_bytes());
                written
                    .and_then(|()| appended.file.write_all(&appended.kept))
                    .map_err(KeepError::Write)?;
            }
        }
        Ok(())
    }

    /// Takes the rows of the sheet apart, each into the sink of its output.
    pub(super) fn cut(
        &mut self,
        values_only: bool,
        sinks: &mut Sinks,
        out: &std::path::Path,
    ) -> Result<Result<(), SinkError>, Error> {
        let unwritten = |cause| OutputError::new("writing", out, cause);
        let mut values = match &mut self.appended {
            Some(appended) => {
                appended.file.flush().map_err(unwritten)?;
                let file = File::open(&appended.path).map_err(unwritten)?;
                Some(BufReader::with_capacity(1 << 17, file))
            }
            None => None,
        };
        let mut failed: Option<SinkError> = None;
        let outputs = &self.outputs;
        let mut appended = Vec::new();
        let cutter = RowCutter::prepare(
            &self.sheet.book,
            &self.sheet.name,
            self.sheet.above,
            values_only,
            &mut |row, bytes| {
                let output = outputs.get(row as usize).copied().unwrap_or(NOWHERE);
                if output == NOWHERE {
                    return Ok(());
                }
                if let Some(values) = &mut values {
                    let mut length = [0; 4];
                    values.read_exact(&mut length)?;
                    appended.resize(u32::from_le_bytes(length) as usize, 0);
                    values.read_exact(&mut appended)?;
                }
                for piece in [&appended, bytes] {
                    let length = u32::try_from(piece.len()).map_err(io::Error::other)?;
                    for bytes in [&length.to_le_bytes(), piece] {
                        if let Err(error) = sinks.append(output as usize, bytes) {
                            failed = Some(error);
                            return Err(io::Error::from(io::ErrorKind::Interrupted));
                        }
                    }
                }
                Ok(())
            },
        );
        if let Some(error) = failed {
            return Ok(Err(error));
        }
        self.cutter = Some(cutter.map_err(|error| match error {
            ExtractError::Read(book, problem) => Error::from(SourcePath::File(book).error(problem)),
            ExtractError::Write(cause) => unwritten(cause).into(),
        })?);
        Ok(Ok(()))
    }

    /// What cuts the sheet, once its rows are taken apart.
    pub(super) fn cutter(&self) -> Option<&RowCutter> {
        self.cutter.as_ref()
    }

    /// The rows of each of so many outputs.
    pub(super) fn rows(&self, outputs: usize) -> Vec<Vec<u32>> {
        let mut rows = vec![Vec::new(); outputs];
        for (row, output) in self.outputs.iter().enumerate() {
            if let Some(rows) = rows.get_mut(*output as usize) {
                rows.push(row as u32);
            }
        }
        rows
    }

    /// How the computed columns are written, now that all of their values are known.
    pub(super) fn columns(
        &self,
        types: Types,
        formats: &Arc<[KeptFormat]>,
    ) -> Option<AppendedColumns> {
        let appended = self.appended.as_ref()?;
        let columns = appended.spooler.columns.iter().zip(&appended.tallies);
        let plans =
            columns.map(|(column, tally)| tally.plan(types, column.stored, column.declared));
        Some(AppendedColumns {
            first: self.sheet.end_column,
            header: appended.spooler.header.clone().unwrap_or_default(),
            plans: plans.collect(),
            formats: Arc::clone(formats),
        })
    }
}
