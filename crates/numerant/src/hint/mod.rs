//! What to type next: the options that help where a run or a job was refused.
//!
//! Libraries say what is wrong and give it as data; the options are named here only.

mod expression;
mod job;
mod read;
mod step;
mod value;
mod write;

use numerant_engine::Error;

pub(crate) use expression::of_expression;
pub(crate) use job::of_job_file;
pub(crate) use value::reading_option;

/// What to type next, where there is something to say.
pub(crate) fn of_error(error: &Error) -> Option<String> {
    match error {
        Error::Column {
            likely_header: Some(line),
            ..
        } => Some(format!(
            "line {line} looks like the header: --skip-lines {} skips the lines above it",
            line - 1
        )),
        Error::Column { problem, .. } => Some(read::of_column(problem)),
        Error::Select(error) => read::of_selection(error),
        Error::ColumnsDiffer(_) => Some(
            "--columns union keeps all columns (blank where a file lacks one), common those that all files have, first \
             those of the first file; or write separate outputs with {.stem} or {.sheet} in --name"
                .to_owned(),
        ),
        Error::NamesDoNotFit { .. } => Some(
            "--pick and --skip choose files by their names, such as --pick '*.tsv'".to_owned(),
        ),
        Error::OwnColumn { .. } => Some("choose another name for it".to_owned()),
        Error::BatchInterrupted { .. } => {
            Some("--existing newer goes on with those that are missing".to_owned())
        }
        Error::Shape(error) => write::of_shape(&error.problem),
        Error::Unfit(_) => Some(
            "correct the values with --set, leave records out with --where, or change the shape".to_owned(),
        ),
        Error::Schema(_) => None,
        Error::Read(error) => read::of_read(&error.problem),
        Error::Value { problem, .. } => value::of_value(problem),
        Error::AllRejected { kept: None, .. } => {
            Some(
                "--rejects FILE keeps them; if there are lines above the header, --skip-lines N skips them"
                    .to_owned(),
            )
        }
        Error::AllRejected { .. } => None,
        Error::LedgerWithoutJob(_) => {
            Some("name the parts with --parts, and the steps of the run".to_owned())
        }
        Error::RejectsCompared => Some("use --ragged pad, or none".to_owned()),
        Error::LedgerFolder(_) => Some("name it with --out DIR".to_owned()),
        Error::ComparedColumn { problem, .. } => Some(format!(
            "--ignore '{}' leaves it out of the comparison; columns there: {}",
            problem.name,
            problem.listed()
        )),
        Error::SurplusColumn { column, .. } => Some(format!(
            "--ignore '{column}' leaves it out of the comparison"
        )),
        Error::NoLedger { .. } => Some(
            "--ledger FILE of a run writes a ledger; --whole and --parts compare files without one"
                .to_owned(),
        ),
        Error::Step(problem) => step::of_step(problem),
        Error::Record { problem, .. } => step::of_record(problem),
        Error::TooLarge { bytes, .. } => {
            Some(format!("records are not cut; use --max-size {bytes} at least"))
        }
        Error::Encode { problem, .. } => Some(write::of_encoding(problem)),
        Error::Form { problem, .. } => write::of_template(problem).map(str::to_owned),
        Error::DocumentTooLarge { .. } => Some(
            "give it more with --memory, write one at a time with --jobs 1, keep fewer columns with --keep, or \
             let --rows or another key make smaller documents"
                .to_owned(),
        ),
        Error::NotComputed { .. } => Some(
            "write .xlsx, which a spreadsheet program computes, or put a simpler formula into the sheet; \
             docs/pages.md lists what is computed"
                .to_owned(),
        ),
        Error::Output(error) => write::of_output(error).map(str::to_owned),
        Error::LedgerNotKept { cause, .. } => of_error(cause),
        Error::Recovery(error) => Some(format!(
            "fix that, then run numerant recover {}; the old files are kept",
            error.folder.display()
        )),
        Error::Refused(refusal) => Some(write::of_refusal(refusal)),
        Error::Unbalanced(_) | Error::SegmentsLost { .. } => {
            Some("this is a fault of Numerant, please report it with the source".to_owned())
        }
        Error::Job(problem) => job::of_job(problem),
        Error::Sum { .. }
        | Error::NewerLedger { .. }
        | Error::NothingToCompare
        | Error::Ledger(_)
        | Error::Thread(_)
        | Error::Interrupted => None,
    }
}

#[cfg(test)]
mod tests;
