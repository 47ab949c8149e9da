//! `numerant combine`.

use std::path::PathBuf;

use clap::Args;
use numerant_engine::job::{Gathering, Job, Work};
use numerant_naming::Template;

use super::options::{FormulaOptions, GatherOptions, choice};
use super::run::{OutputOptions, RunRequest, SourceOptions};

/// Combine files into one table, or into one workbook with a sheet for each
#[derive(Debug, Args)]
#[command(
    after_help = "Columns are matched by name, in any order. With --sheet '{.stem}' each file becomes a sheet with its own \
    columns. Files are combined in the order given, those of a folder or pattern in natural order: \
    part-2 before part-10.\n\n\
    Examples:\n  \
    numerant combine 'calls/*.csv' --name year.csv\n  \
    numerant combine months --recursive --name year.csv --from-name '{quay}/{month}.csv'\n  \
    numerant combine north.csv south.xlsx --name all.json --columns union --source-column port\n  \
    numerant combine north.xlsx south.csv --name all.xlsx --sheet '{.stem}'\n  \
    numerant combine north.xlsx south.xlsx --name all.xlsx --as sheets\n  \
    numerant combine year.xlsx --read-sheet all --name year.csv"
)]
pub(crate) struct CombineArguments {
    #[command(flatten)]
    source: SourceOptions,
    #[command(flatten)]
    gather: GatherOptions,
    /// Combine into one table, or copy all sheets, with their look and formulas, into one workbook
    #[arg(long = "as", value_name = "WHAT", value_parser = choice(GATHERINGS), default_value = "table", help_heading = "Combining")]
    gathering: Gathering,
    #[command(flatten)]
    formulas: FormulaOptions,
    /// Path of the output, such as year.xlsx; the extension decides the format
    #[arg(
        long,
        value_name = "TEMPLATE",
        required = true,
        help_heading = "Naming"
    )]
    name: Template,
    /// Write the output to DIR, which is created; - for standard output [default: the current
    /// folder]
    #[arg(
        long,
        value_name = "DIR",
        default_value = ".",
        hide_default_value = true,
        help_heading = "Naming"
    )]
    out: PathBuf,
    #[command(flatten)]
    output: OutputOptions,
}

const GATHERINGS: &[(&str, Gathering)] =
    &[("table", Gathering::Table), ("sheets", Gathering::Sheets)];

impl CombineArguments {
    pub(crate) fn into_request(self) -> RunRequest {
        let job = Job {
            name: Some(self.name),
            out: (!self.output.packs()).then_some(self.out),
            columns: self.gather.columns,
            gathering: self.gathering,
            formulas: self.formulas.formulas,
            ..self.source.into_job()
        };
        self.output.into_request(job, Work::Combine)
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;
    use crate::args::{Arguments, Command, Mode};

    #[test]
    fn a_constant_name_in_this_folder() {
        let words = [
            "numerant", "combine", "b.csv", "a.xlsx", "--name", "year.csv", "--ask",
        ];
        let request = match Arguments::try_parse_from(words).expect("valid").command {
            Command::Combine(combine) => combine.into_request(),
            other => panic!("{other:?}"),
        };
        let expected = Job {
            sources: ["b.csv", "a.xlsx"]
                .map(|name| PathBuf::from(name).into())
                .to_vec(),
            name: Some("year.csv".parse().expect("a template")),
            out: Some(".".into()),
            ..Job::default()
        };
        assert_eq!((request.job, request.mode), (expected, Mode::Ask));
        let nameless = ["numerant", "combine", "a.csv"];
        assert!(Arguments::try_parse_from(nameless).is_err());
    }
}
