//! What to do about steps.

use numerant_data::source::ReadProblem;
use numerant_data::value::ColumnType;
use numerant_steps::{LookupError, StepError, StepName, StepProblem};

use super::expression::{of_date, of_evaluation, of_expression, of_number};
use super::read::of_column;

/// The hint for a step that cannot be prepared.
pub(super) fn of_step(error: &StepError) -> Option<String> {
    match error {
        StepError::Column { problem, .. } => Some(of_column(problem)),
        StepError::Expression { problem, .. } => of_expression(problem),
        StepError::Exists { step, .. } => Some(match step {
            StepName::Lookup => "rename that column in the table, or drop it there".to_owned(),
            _ => "choose another name, or drop that column before".to_owned(),
        }),
        StepError::Lookup(error) => of_lookup(error),
        StepError::NoName { .. } | StepError::CaseTwice { .. } | StepError::NoColumn { .. } => None,
    }
}

/// The hint for a record for which a step fails.
pub(super) fn of_record(problem: &StepProblem) -> Option<String> {
    match problem {
        StepProblem::Evaluate { problem, .. } => of_evaluation(problem),
        StepProblem::Type {
            number: Some(problem),
            value,
            ..
        }
        | StepProblem::Total { problem, value, .. } => of_number(problem, value),
        StepProblem::Type {
            declared: ColumnType::Date | ColumnType::Datetime,
            value,
            ..
        } => Some(of_date(value)),
        StepProblem::Type { .. } => {
            Some("--on-error reject leaves such records out and counts them".to_owned())
        }
        StepProblem::TooMuch { .. } => {
            Some("make shorter values, or allow more with --memory".to_owned())
        }
        StepProblem::Unmatched { .. } | StepProblem::Sum { .. } => None,
    }
}

/// What to do about a table that cannot be used.
pub(super) fn of_lookup(error: &LookupError) -> Option<String> {
    match error {
        LookupError::Read(error) if matches!(error.problem, ReadProblem::Io(_)) => None,
        // The options of reading are for the sources.
        LookupError::Read(_) => Some(
            "a table is delimited text or the first sheet of a workbook, with a header; delimiter and \
             encoding are found out"
                .to_owned(),
        ),
        LookupError::Key { problem, .. } => Some(of_column(problem)),
        LookupError::TooLarge { .. } => Some(
            "allow more with --memory, or keep only the columns that are needed in the table"
                .to_owned(),
        ),
        LookupError::NothingToAdd { .. } => None,
        LookupError::Repeated { .. } => Some(
            "--repeated first or --repeated last uses one of them; or correct the table"
                .to_owned(),
        ),
        LookupError::Unmatched(_) => Some(
            "add them to the table; or --unmatched blank leaves the new columns blank, \
             --unmatched reject leaves such records out and counts them"
                .to_owned(),
        ),
    }
}
