//! Holds the files on disk against a kept ledger.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::io::Read;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

use serde::Serialize;

use super::super::{Context, Error};
use crate::ledger::{FileDigest, LEDGER_FORM, Ledger, OutputEntry, TotalFormat, Totals};
use numerant_data::record::Batch;
use numerant_data::source::{Input, Member, ReadProblem, SourcePath, members};
use numerant_data::value::{Cells, DecimalMark, Number};
use numerant_format::ReadOptions;
use numerant_formats::open_reader;

/// Bytes that are read at a time.
const PIECE: usize = 1 << 18;

/// What came of holding files against a ledger.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct LedgerCheck {
    /// The ledger.
    pub ledger: String,
    /// The folder that was looked at.
    #[serde(serialize_with = "numerant_data::source::as_text")]
    pub out: PathBuf,
    /// Files that the ledger names.
    pub outputs: u64,
    /// Records that are in them.
    pub records: u64,
    /// Bytes of them that were read.
    pub bytes: u64,
    /// The sums of the ledger do not follow from its entries, or do not balance.
    pub unbalanced: bool,
    /// Outputs that are not there.
    pub missing: Vec<String>,
    /// Outputs that are not what they were.
    pub changed: Vec<ChangedOutput>,
    /// Files that the ledger does not name, in the folder that its run has made.
    pub extra: Vec<String>,
    /// Files that the ledger does not name, in a folder that was there before its run.
    pub others: u64,
    /// Whether nothing is wrong.
    pub holds: bool,
}

/// An output that is not what it was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ChangedOutput {
    /// Its path below the folder.
    pub path: String,
    /// The sheet, if it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sheet: Option<String>,
    /// Its bytes, where they are others: those in the ledger and those that are there.
    pub bytes: Option<(u64, u64)>,
    /// Its records, where they are others.
    pub records: Option<(u64, u64)>,
    /// Its control totals that are others, by column.
    pub sums: Vec<(String, Number, Number)>,
    /// Why it could not be looked into.
    pub unreadable: Option<String>,
}

/// The folder of the outputs of a ledger: `out`, or the one that the ledger states.
pub(crate) fn folder_of_outputs(
    path: &Path,
    out: Option<&Path>,
    ledger: &Ledger,
) -> Result<PathBuf, Error> {
    let folder = path.parent().unwrap_or(Path::new(""));
    match (out, &ledger.out) {
        (Some(out), _) => Ok(out.to_owned()),
        (None, Some(out)) => Ok(joined(folder, out)),
        (None, None) => Err(Error::LedgerFolder(path.to_owned())),
    }
}

/// A ledger, and the folder that its outputs are in: `out`, or the one that it states.
///
/// # Errors
///
/// If it cannot be read, or states no folder.
pub fn outputs_of_ledger(path: &Path, out: Option<&Path>) -> Result<(Ledger, PathBuf), Error> {
    let ledger = read_ledger(path)?;
    let out = folder_of_outputs(path, out, &ledger)?;
    Ok((ledger, out))
}

/// Holds the files in the folder of a ledger, or in `out`, against it.
///
/// # Errors
///
/// If the ledger, or a file that is there, cannot be read.
pub fn verify_ledger(
    path: &Path,
    out: Option<&Path>,
    read: &ReadOptions,
    context: &Context,
) -> Result<LedgerCheck, Error> {
    let ledger = read_ledger(path)?;
    let out = folder_of_outputs(path, out, &ledger)?;
    let paths: HashSet<&str> = ledger
        .outputs
        .iter()
        .map(|output| output.path.as_str())
        .collect();
    let mut check = LedgerCheck {
        ledger: path.display().to_string(),
        out: out.clone(),
        outputs: paths.len() as u64,
        records: ledger.totals.written,
        bytes: 0,
        unbalanced: !adds_up(&ledger),
        missing: Vec::new(),
        changed: Vec::new(),
        extra: Vec::new(),
        others: 0,
        holds: false,
    };
    context.observer.begins(Some(
        ledger
            .outputs
            .iter()
            .filter_map(|output| output.bytes)
            .sum(),
    ));
    let outputs = Outputs::new(&out)?;
    // The sheets of a workbook that has changed, with its bytes.
    let mut changed_books: Vec<(&str, u64)> = Vec::new();
    for output in &ledger.outputs {
        let file = outputs.find(&output.path);
        if output.sheet.is_some() && output.bytes.is_none() {
            // A further sheet of a workbook that was looked at already.
            let book = changed_books.iter().find(|book| book.0 == output.path);
            if let Some((_, bytes)) = book {
                let Some(file) = &file else { continue };
                let found = changed(&ledger, output, file, *bytes, read, &context.temporary);
                if found.records.is_some() || !found.sums.is_empty() || found.unreadable.is_some() {
                    check.changed.push(found);
                }
            }
            continue;
        }
        let Some(file) = file else {
            check.missing.push(output.path.clone());
            continue;
        };
        let (bytes, digest) = digest_of(&file, check.bytes, context)?;
        check.bytes += bytes;
        let same = output.bytes == Some(bytes)
            && output.blake3.as_ref().is_none_or(|known| *known == digest);
        if !same {
            changed_books.push((&output.path, bytes));
            check.changed.push(changed(
                &ledger,
                output,
                &file,
                bytes,
                read,
                &context.temporary,
            ));
        }
    }
    let mut known: Vec<PathBuf> = ledger
        .outputs
        .iter()
        .map(|output| out.join(&output.path))
        .collect();
    known.push(path.to_owned());
    known.sort();
    let mut others = Vec::new();
    match &outputs {
        Outputs::Folder(_) if out.is_dir() => other_files(&out, &known, &mut others)?,
        Outputs::Folder(_) => {}
        Outputs::Archive(members) => {
            let paths = members.values().cloned().map(PathBuf::from);
            others.extend(paths.filter(|path| known.binary_search(path).is_err()));
            others.sort();
        }
    }
    if ledger.new_folder {
        let below = |file: PathBuf| {
            let below = file.strip_prefix(&out).unwrap_or(&file);
            below.display().to_string()
        };
        check.extra = others.into_iter().map(below).collect();
    } else {
        check.others = others.len() as u64;
    }
    check.holds = !check.unbalanced
        && check.missing.is_empty()
        && check.changed.is_empty()
        && check.extra.is_empty();
    Ok(check)
}

/// Where the outputs of a ledger are.
enum Outputs {
    Folder(PathBuf),
    /// The members of an archive, by name.
    Archive(HashMap<String, SourcePath>),
}

impl Outputs {
    fn new(out: &Path) -> Result<Self, Error> {
        let members = if out.is_file() { members(out)? } else { None };
        let named = |member: Member| {
            let name = member.name().to_owned();
            (name, SourcePath::Member(Arc::new(member)))
        };
        Ok(match members {
            Some(members) => Self::Archive(members.into_iter().map(named).collect()),
            None => Self::Folder(out.to_owned()),
        })
    }

    /// An output, if it is there.
    fn find(&self, path: &str) -> Option<SourcePath> {
        match self {
            Self::Folder(folder) => {
                let file = folder.join(path);
                file.is_file().then_some(SourcePath::File(file))
            }
            Self::Archive(members) => members.get(path).cloned(),
        }
    }
}

/// The folder that is `way` from `folder`, written as short as can be.
fn joined(folder: &Path, way: &str) -> PathBuf {
    let mut joined = folder.to_owned();
    for component in Path::new(way).components() {
        match component {
            Component::CurDir => {}
            Component::ParentDir if joined.file_name().is_some() => {
                joined.pop();
            }
            other => joined.push(other),
        }
    }
    if joined.as_os_str().is_empty() {
        joined.push(".");
    }
    joined
}

pub(crate) fn read_ledger(path: &Path) -> Result<Ledger, Error> {
    let source = SourcePath::File(path.to_owned());
    let text = fs::read(path).map_err(|error| source.error(ReadProblem::Io(error)))?;
    let ledger: Ledger = serde_json::from_slice(&text).map_err(|cause| Error::NoLedger {
        path: path.to_owned(),
        cause,
    })?;
    if ledger.form > LEDGER_FORM {
        return Err(Error::NewerLedger {
            path: path.to_owned(),
            form: ledger.form,
        });
    }
    Ok(ledger)
}

/// Whether the sums of a ledger follow from its entries, and balance.
fn adds_up(ledger: &Ledger) -> bool {
    let sums: Vec<(String, Number, Number)> = ledger
        .sums
        .iter()
        .map(|sum| (sum.column.clone(), sum.read, sum.rejected))
        .collect();
    let mut again = Ledger::close(
        ledger.sources.clone(),
        ledger.outputs.clone(),
        ledger.left_out.clone(),
        Vec::new(),
        &sums,
    );
    again.set_segments(ledger.segments);
    let same: fn(&Ledger) -> Totals = |ledger| ledger.totals;
    again.balanced && same(&again) == same(ledger) && again.sums == ledger.sums
}

/// The number of bytes of a file and their digest.
fn digest_of(source: &SourcePath, before: u64, context: &Context) -> Result<(u64, String), Error> {
    let failed = |error| source.error(ReadProblem::Io(error));
    let mut file = source.bytes().map_err(failed)?;
    let mut digest = FileDigest::default();
    let mut bytes = 0;
    let mut piece = vec![0; PIECE];
    loop {
        context.check_cancelled()?;
        let read = match file.read(&mut piece) {
            Ok(0) => return Ok((bytes, digest.finish())),
            Ok(read) => read,
            Err(error) if error.kind() == std::io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(failed(error).into()),
        };
        digest.update(&piece[..read]);
        bytes += read as u64;
        context.observer.has_read(before + bytes);
    }
}

/// What is different about an output.
fn changed(
    ledger: &Ledger,
    output: &OutputEntry,
    file: &SourcePath,
    bytes: u64,
    read: &ReadOptions,
    temporary: &Path,
) -> ChangedOutput {
    let known = output.bytes.unwrap_or(bytes);
    let mut changed = ChangedOutput {
        path: output.path.clone(),
        sheet: output.sheet.clone(),
        bytes: (known != bytes).then_some((known, bytes)),
        records: None,
        sums: Vec::new(),
        unreadable: None,
    };
    let read = &ReadOptions {
        read_sheet: output.sheet.iter().cloned().map(Into::into).collect(),
        ..read.clone()
    };
    match contents(ledger, file, read, temporary) {
        Ok((records, sums)) => {
            changed.records = (records != output.records).then_some((output.records, records));
            let known = output.sums.iter().zip(&ledger.sums);
            for ((known, entry), sum) in known.zip(sums) {
                let Some(sum) = sum else { continue };
                if known.compare(sum).is_ne() {
                    changed.sums.push((entry.column.clone(), *known, sum));
                }
            }
        }
        Err(error) => changed.unreadable = Some(error.to_string()),
    }
    changed
}

/// The records of a file and the sums of those columns that it has and that are numbers.
fn contents(
    ledger: &Ledger,
    file: &SourcePath,
    read: &ReadOptions,
    temporary: &Path,
) -> Result<(u64, Vec<Option<Number>>), Error> {
    let cells = Cells {
        mark: if ledger.decimal_comma {
            DecimalMark::Comma
        } else {
            DecimalMark::Point
        },
        numbers: ledger.number_format.clone(),
        columns: std::sync::Arc::default(),
        ..Cells::default()
    };
    let input = Input::open(file)?;
    let mut reader = open_reader(input, read, PIECE, usize::MAX, temporary)?;
    let places: Vec<Option<usize>> = ledger
        .sums
        .iter()
        .map(|sum| reader.columns().find(&sum.column).ok())
        .collect();
    let is_tagged = reader.facts().dialect.is_tagged();
    let formats: Vec<Option<&TotalFormat>> = ledger
        .sums
        .iter()
        .map(|sum| {
            let mut formats = ledger.total_formats.iter();
            formats.find(|format| format.column == sum.column)
        })
        .collect();
    let mut sums: Vec<Option<Number>> = places
        .iter()
        .map(|place| place.map(|_| Number::ZERO))
        .collect();
    let mut records = 0;
    let mut batch = Batch::default();
    while reader.next_batch(&mut batch)? {
        records += batch.len() as u64;
        for ((place, format), sum) in places.iter().zip(&formats).zip(&mut sums) {
            let Some(place) = place else { continue };
            for record in 0..batch.len() {
                let field = batch.field(record, *place);
                let value = field.text();
                if value.trim_ascii().is_empty() {
                    continue;
                }
                // Numbers of cells and of documents are plain; their texts are written as the source has them.
                let is_written = !is_tagged || field.tag().is_string();
                let format = format.as_ref().filter(|_| is_written);
                let written = format.and_then(|format| {
                    let text = std::str::from_utf8(&value).ok()?;
                    format.format.value(text)
                });
                let number = written.or_else(|| cells.number(&value).ok());
                *sum = sum
                    .zip(number)
                    .and_then(|(sum, number)| sum.plus(number).ok());
            }
        }
    }
    Ok((records, sums))
}

/// The files below `folder` that are not `known`, which is sorted; hidden ones are skipped.
fn other_files(folder: &Path, known: &[PathBuf], others: &mut Vec<PathBuf>) -> Result<(), Error> {
    let source = SourcePath::File(folder.to_owned());
    let failed = |error| source.error(ReadProblem::Io(error));
    let mut entries = fs::read_dir(folder)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(failed)?;
    entries.sort_by_key(fs::DirEntry::file_name);
    for entry in entries {
        let path = entry.path();
        if entry.file_name().to_string_lossy().starts_with('.') {
            continue;
        }
        if path.is_dir() {
            other_files(&path, known, others)?;
        } else if known.binary_search(&path).is_err() {
            others.push(path);
        }
    }
    Ok(())
}
