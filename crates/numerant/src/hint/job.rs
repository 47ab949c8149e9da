//! Hints for jobs that cannot be run.

use numerant_engine::job::{JobError, JobFileProblem, LikeSourceConflict};

/// The hint for a job that cannot be run.
pub(super) fn of_job(error: &JobError) -> Option<String> {
    let hint = match error {
        JobError::NoSource
        | JobError::SameSource(_)
        | JobError::SameFile { .. }
        | JobError::Nothing(_)
        | JobError::TotalTwice(_)
        | JobError::PackAsItIs
        | JobError::SameSideFile
        | JobError::TooLittleMemory
        | JobError::MaxOutputs
        | JobError::NotTables(_)
        | JobError::RowsOfSheet { .. }
        | JobError::JsonEncoding(_)
        | JobError::Depth
        | JobError::CompressedBook(..)
        | JobError::UnknownFormat(_)
        | JobError::PutTwice(_)
        | JobError::Blank => return None,
        JobError::NothingToSplitBy => {
            "use --by COLUMN, --case NAME=CONDITION, --rows N, --parts N, --max-size SIZE, --each or --per-sheet, \
             or a column in --name"
        }
        JobError::NotTogether { first, second } => {
            return Some(format!("remove --{first} or --{second}"));
        }
        JobError::DecimalMarks => {
            "--number-format alone states the decimal mark; remove --decimal-comma"
        }
        JobError::OthersWithoutCase | JobError::NoCase(_) => {
            "add the cases, each as --case NAME=CONDITION"
        }
        JobError::ClashWithRows(_) => "--clash number keeps the outputs apart",
        JobError::NoExtension(_) => {
            "end it with one of these, or state the format with --to FORMAT"
        }
        JobError::UnknownExtension(_) => "--to FORMAT writes any extension",
        JobError::NewerOfBatch => "use --existing replace, skip or clear; newer is for convert",
        JobError::NoOut => "name it with --out DIR",
        JobError::PackName(path) => {
            return Some(format!("call it {}", path.with_extension("zip").display()));
        }
        JobError::RejectsWithoutPolicy => {
            "add --ragged reject, --on-error reject or --unmatched reject"
        }
        JobError::SheetsOfText(_) => "end --name with .xlsx",
        JobError::NotPages(_) => "end --name with one of them",
        JobError::GroupLeftOut(_) => "add it to --keep, or remove it from --drop",
        JobError::OnlyFor { key, .. } => {
            return Some(format!(
                "remove --{key}, or end --name with another extension"
            ));
        }
        JobError::SizeOfWorkbook => "use --rows",
        JobError::ClearWithoutLedger => "state it with --ledger FILE",
        JobError::ClearOfBatch => "use --existing replace or newer",
        JobError::LinesWithColumns(_) => {
            "write .csv, .json or .xlsx, or choose one column with --keep"
        }
        JobError::AbsoluteWith { with } => {
            return Some(format!("remove --allow-absolute or --{with}"));
        }
        JobError::LikeSource(conflict) => like_source(*conflict)?,
        JobError::NothingToPut => "use --put 'Sheet!B6={.records}'",
        JobError::WhichTable(place) => {
            return Some(format!(
                "state the files of each, as in --put '{place}={{.records:*_level.tsv}}', or the name of its case"
            ));
        }
        JobError::NoSuchCase { case, .. } => {
            return Some(format!(
                "add --case '{case}=CONDITION', or name another case"
            ));
        }
        JobError::CaseWithoutTable(case) => {
            return Some(format!(
                "state one with --put 'Sheet!B6={{.records:{case}}}'"
            ));
        }
        JobError::NotForFill(_) => "remove it: a name or a key decides which copies there are",
    };
    Some(hint.to_owned())
}

/// What to leave out where rows are copied whole.
fn like_source(conflict: LikeSourceConflict) -> Option<&'static str> {
    Some(match conflict {
        LikeSourceConflict::Files => "name one file",
        LikeSourceConflict::Sheets => "choose one sheet with --read-sheet",
        LikeSourceConflict::NoHeader => return None,
        LikeSourceConflict::SheetsOfOutputs => "remove --per-sheet and --overflow",
        LikeSourceConflict::Steps => "remove --tidy and --keep-type",
        LikeSourceConflict::Types => "remove --types",
        LikeSourceConflict::Format => "let --name end in .xlsx or .pdf",
        LikeSourceConflict::Columns => {
            "--rename, --keep and --drop are for columns that the job adds"
        }
    })
}
/// What to do about a job file.
pub(crate) fn of_job_file(problem: &JobFileProblem) -> Option<String> {
    match problem {
        JobFileProblem::Job(problem) => of_job(problem),
        JobFileProblem::NoJob => {
            Some("--save-job FILE with any command writes the job that it would run".to_owned())
        }
        JobFileProblem::NoValue { name, .. } => Some(format!(
            "add {name}=VALUE after the file name, or a default in [params]"
        )),
        JobFileProblem::NoParameter { .. } => {
            Some("parameters and their defaults are defined in [params]".to_owned())
        }
        _ => None,
    }
}
