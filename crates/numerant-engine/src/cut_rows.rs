//! Rows of a sheet that are copied verbatim, each to its output, with the values of computed columns.

use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, Write};
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
use numerant_sheets::{ComputedColumns, ExtractError, RowCutter};

/// Where the rows of a sheet go.
pub(super) struct CutRows {
    sheet: Arc<SourceSheet>,
    /// The output of each row.
    outputs: Vec<u32>,
    /// The rows of each output, in their order there.
    orders: Vec<Vec<u32>>,
    computed: Option<Computed>,
    cutter: Option<RowCutter>,
}

/// The values of computed columns, in the order of the records.
struct Computed {
    spooler: Arc<Spooler>,
    tallies: Vec<ColumnTally>,
    path: PathBuf,
    file: BufWriter<OutFile>,
    kept: Vec<u8>,
    /// Where those of each row begin in the file, and where the next ones do.
    starts: Vec<u64>,
    end: u64,
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
        let computed = match spooler {
            None => None,
            Some(spooler) => {
                let path = stage.dir().join("computed");
                Some(Computed {
                    tallies: vec![ColumnTally::default(); spooler.columns.len()],
                    spooler,
                    file: BufWriter::new(stage.disk().create(&path)?),
                    path,
                    kept: Vec::new(),
                    starts: Vec::new(),
                    end: 0,
                })
            }
        };
        Ok(Self {
            sheet,
            outputs: Vec::new(),
            orders: Vec::new(),
            computed,
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
            if self.orders.len() <= output as usize {
                self.orders.resize_with(output as usize + 1, Vec::new);
            }
            self.orders[output as usize].push(row as u32);
            if let Some(computed) = &mut self.computed {
                computed.kept.clear();
                let spooled = computed.spooler.record(
                    &routed.batch,
                    record,
                    &mut computed.tallies,
                    &mut computed.kept,
                );
                spooled.map_err(KeepError::Encode)?;
                if computed.starts.len() <= row {
                    computed.starts.resize(row + 1, 0);
                }
                computed.starts[row] = computed.end;
                computed.end += computed.kept.len() as u64 + 4;
                let length = computed.kept.len() as u32;
                let written = computed.file.write_all(&length.to_le_bytes());
                written
                    .and_then(|()| computed.file.write_all(&computed.kept))
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
        let mut values = match &mut self.computed {
            Some(computed) => {
                computed.file.flush().map_err(unwritten)?;
                let file = File::open(&computed.path).map_err(unwritten)?;
                let file = BufReader::with_capacity(1 << 17, file);
                Some((file, std::mem::take(&mut computed.starts), 0))
            }
            None => None,
        };
        let mut failed: Option<SinkError> = None;
        let outputs = &self.outputs;
        let mut computed = Vec::new();
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
                if let Some((values, starts, at)) = &mut values {
                    // Records may be in another order than their rows.
                    let start = starts.get(row as usize).copied().unwrap_or(0);
                    if start != *at {
                        values.seek(io::SeekFrom::Start(start))?;
                    }
                    let mut length = [0; 4];
                    values.read_exact(&mut length)?;
                    computed.resize(u32::from_le_bytes(length) as usize, 0);
                    values.read_exact(&mut computed)?;
                    *at = start + computed.len() as u64 + 4;
                }
                for piece in [&computed, bytes] {
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

    /// The rows of each of so many outputs, in their order there.
    pub(super) fn rows(&self, outputs: usize) -> Vec<Vec<u32>> {
        let mut rows = self.orders.clone();
        rows.resize(outputs, Vec::new());
        rows
    }

    /// How the computed columns are written, now that all of their values are known.
    pub(super) fn columns(
        &self,
        types: Types,
        formats: &Arc<[KeptFormat]>,
    ) -> Option<ComputedColumns> {
        let computed = self.computed.as_ref()?;
        let columns = computed.spooler.columns.iter().zip(&computed.tallies);
        let plans =
            columns.map(|(column, tally)| tally.plan(types, column.stored, column.declared));
        Some(ComputedColumns {
            columns: self.sheet.computed.clone(),
            end: self.sheet.end_column,
            header: computed.spooler.header.clone().unwrap_or_default(),
            plans: plans.collect(),
            formats: Arc::clone(formats),
        })
    }
}
